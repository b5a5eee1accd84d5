import { expect, test } from "vitest";

import { monthText, months } from "./months";

test("months go back over the turn of the year, in UTC", () => {
  expect(months(new Date("2026-01-31T23:30:00-05:00"), 3)).toEqual(["2026-02", "2026-01", "2025-12"]);
  expect(months(new Date("2026-11-26T00:00:00Z"))).toHaveLength(13);
  expect(monthText("2026-11")).toBe("November 2026");
});

// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Link, Route, Routes } from "react-router";
import type { ReactNode } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

import { draw } from "../test/render";
import { ErrorBoundary } from "./ErrorBoundary";

// React reports each error that a boundary takes.
beforeEach(() => void vi.spyOn(console, "error").mockImplementation(() => undefined));
afterEach(() => vi.restoreAllMocks());

function Failing(): ReactNode {
  throw new Error("out of range");
}

test("a page that has failed takes no other page with it", async () => {
  draw(
    <>
      <Link to="/feeds">Feeds</Link>
      <ErrorBoundary>
        <Routes>
          <Route path="/feeds" element={<p>All feeds</p>} />
          <Route path="*" element={<Failing />} />
        </Routes>
      </ErrorBoundary>
    </>,
  );
  expect(screen.getByText(/out of range/)).toBeTruthy();
  await userEvent.setup().click(screen.getByRole("link", { name: "Feeds" }));
  expect(await screen.findByText("All feeds")).toBeTruthy();
});

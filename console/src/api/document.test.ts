// @vitest-environment node
/// <reference types="node" />
import { execFileSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, resolve } from "node:path";

import { createClient } from "@hey-api/openapi-ts";
import { Validator } from "@seriousme/openapi-schema-validator";
import { expect, test } from "vitest";

const DOCUMENT = resolve("../docs/reference/openapi.json");

type Operation = { operationId: string; responses: Record<string, unknown>; "x-role"?: string };
type Parsed = { paths: Record<string, Record<string, Operation>> };

test("the OpenAPI document is valid by the schema of OpenAPI 3.1", async () => {
  const document = JSON.parse(readFileSync(DOCUMENT, "utf8")) as Record<string, unknown>;
  const validator = new Validator();
  expect(await validator.validate(document)).toEqual({ valid: true });
  expect(validator.version).toBe("3.1");
  // The validator refuses what it should.
  expect((await validator.validate({ ...document, info: {} })).valid).toBe(false);
});

test("a client is generated from the OpenAPI document, has every operation, and compiles", async () => {
  const { paths } = JSON.parse(readFileSync(DOCUMENT, "utf8")) as Parsed;
  const operations = Object.values(paths).flatMap((item) => Object.values(item));
  expect(operations.length).toBeGreaterThan(90);
  const folder = mkdtempSync(join(tmpdir(), "client-"));
  try {
    await createClient({
      input: DOCUMENT,
      output: join(folder, "client"),
      plugins: ["@hey-api/typescript", "@hey-api/sdk", "@hey-api/client-fetch"],
      logs: { level: "silent" },
    });
    const generated = readFileSync(join(folder, "client", "sdk.gen.ts"), "utf8");
    const methods = new Set([...generated.matchAll(/^export const (\w+) = /gm)].map((match) => match[1]));
    expect(methods.size).toBe(operations.length);

    // Enumerations, times and problems are typed for the caller.
    const use = join(folder, "use.ts");
    writeFileSync(
      use,
      `import { relaysList, relaysRates, contactsAdd, destinationsShow } from "./client";
const relays = await relaysList({ query: { limit: 10 } });
export const states: ("off" | "dialing" | "flowing" | "stalled" | "waiting" | "blocked")[] = (relays.data ?? []).map((relay) => relay.feed.state);
export const code: string | undefined = relays.error?.code;
await relaysRates({ path: { name: "Summit" }, query: { range: "day" } });
// @ts-expect-error: there is no such range.
await relaysRates({ path: { name: "Summit" }, query: { range: "year" } });
await contactsAdd({ body: { name: "Desk", channel: { type: "webhook", url: "https://desk.example.net/" } } });
// @ts-expect-error: an e-mail needs its server.
await contactsAdd({ body: { name: "Desk", channel: { type: "email" } } });
const destination = await destinationsShow({ path: { name: "Bramble TV" } });
export const protocol: "rtmp" | "rtmps" | "srt" | undefined = destination.data?.protocol;
`,
    );
    const options = [
      "--noEmit",
      "--strict",
      "--module",
      "esnext",
      "--moduleResolution",
      "bundler",
      "--target",
      "es2022",
    ];
    const libraries = ["--lib", "es2022,dom,dom.iterable"];
    const compiler = resolve("node_modules/typescript/bin/tsc");
    try {
      execFileSync(process.execPath, [compiler, ...options, ...libraries, use], { encoding: "utf8" });
    } catch (error) {
      expect.fail(String((error as { stdout?: string }).stdout));
    }
  } finally {
    rmSync(folder, { recursive: true });
  }
});

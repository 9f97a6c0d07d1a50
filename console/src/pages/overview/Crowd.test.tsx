import { renderToStaticMarkup as drawn } from "react-dom/server";
import { MemoryRouter } from "react-router-dom";
import { expect, it } from "vitest";
import type { OutletStatus, SourceStatus } from "../../api/types";
import { Crowd } from "./Crowd";
import { few } from "./few";

const source = (name: string, phase: SourceStatus["phase"], more: Partial<SourceStatus> = {}) =>
  ({ name, phase, database: name, rate: 0, tables: [], journal: { events: 0, bytes: 0 }, ...more }) as unknown as SourceStatus;
const outlet = (name: string, of: string, phase: OutletStatus["phase"], more: Partial<OutletStatus> = {}) =>
  ({ name, source: of, phase, kind: "file", behind_events: 0, behind_seconds: 0, dead_letters: 0, lost_events: 0, ...more }) as unknown as OutletStatus;

it("shows what needs a person first, groups by source, and keeps long lists short", () => {
  const sources = [source("ash", "running"), source("elm", "paused"), source("fir", "running", { rate: 3 }), source("oak", "failed", { error: "gone" })];
  const outlets = [
    ...Array.from({ length: 7 }, (_, i) => outlet(`ash-${i}`, "ash", "running")),
    outlet("ash-late", "ash", "running", { behind_events: 9 }),
    outlet("fir-desk", "fir", "waiting", { error: "away" }),
  ];
  expect(few(sources.slice(0, 2), outlets)).toBe(true);
  expect(few(sources, outlets)).toBe(false);
  const text = drawn(
    <MemoryRouter>
      <Crowd sources={sources} outlets={outlets} />
    </MemoryRouter>,
  );
  const order = [...text.matchAll(/href="\/(?:sources|outlets)\/([\w-]+)"/g)].map((m) => m[1]);
  expect(order).toEqual(["oak", "fir", "fir-desk", "ash", "ash-late", "ash-0", "ash-1", "ash-2", "ash-3", "elm"]);
  expect(text).toContain("3 more outlets");
  expect(text).toContain("4 sources: 2 running, 1 paused, 1 failed");
});

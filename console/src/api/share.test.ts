import { expect, it } from "vitest";
import { share } from "./share";

it("keeps what has not changed, and only that", () => {
  const before = {
    at: 1,
    sources: [
      { name: "a", tables: [{ n: 1 }] },
      { name: "b", tables: [] as { n: number }[] },
    ],
    gone: true,
  };
  const next = share(before, {
    at: 2,
    sources: [
      { name: "a", tables: [{ n: 1 }] },
      { name: "b", tables: [{ n: 1 }] },
    ],
  });
  expect(next).toEqual({
    at: 2,
    sources: [
      { name: "a", tables: [{ n: 1 }] },
      { name: "b", tables: [{ n: 1 }] },
    ],
  });
  expect(next.sources[0]).toBe(before.sources[0]);
  expect(next.sources[1]).not.toBe(before.sources[1]);
  expect(share(before, structuredClone(before))).toBe(before);
  expect(share(before.sources, before.sources.slice(0, 1))).toHaveLength(1);
  expect(share([null, 1], [null, 2])).toEqual([null, 2]);
});

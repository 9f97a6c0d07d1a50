// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Stream } from "../../testing";
import { kept, useStream } from "./useStream";

const event = (offset: number) => `{"id":"circulation/1/${offset}","time":"2026-11-25T09:00:00Z","data":{"operation":"insert","table":"public.loans","key":{"loan_id":${offset}}}}`;

let frames: FrameRequestCallback[] = [];

beforeEach(() => {
  Stream.all = [];
  frames = [];
  vi.stubGlobal("EventSource", Stream);
  vi.stubGlobal("requestAnimationFrame", (frame: FrameRequestCallback) => frames.push(frame));
  vi.stubGlobal("cancelAnimationFrame", () => (frames = []));
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

/** come has events come, and the page draw. */
const come = (...offsets: number[]) =>
  act(() => {
    offsets.forEach((offset) => Stream.last.says(event(offset), String(offset)));
    frames.splice(0).forEach((frame) => frame(0));
  });

const follow = (address: string | undefined, paused = false) => renderHook(({ address, paused }) => useStream(address, paused), { initialProps: { address, paused } });

it("has the newest first, one drawing for all that comes together", () => {
  const { result } = follow("/v1/a");
  expect(result.current.ready).toBe(false);
  act(() => Stream.last.onopen?.());
  expect(result.current.ready).toBe(true);
  come(1, 2, 3);
  come(4);
  expect(result.current.changes.map((c) => c.offset)).toEqual(["4", "3", "2", "1"]);
  expect(new Set(result.current.changes.map((c) => c.serial)).size).toBe(4);
});

it("holds back what comes while it is paused, and no more than a page holds", () => {
  const { result, rerender } = follow("/v1/a");
  come(1);
  rerender({ address: "/v1/a", paused: true });
  come(2, 3);
  expect([result.current.changes.length, result.current.held]).toEqual([1, 2]);
  rerender({ address: "/v1/a", paused: false });
  expect([result.current.changes.map((c) => c.offset), result.current.held]).toEqual([["3", "2", "1"], 0]);
  come(...Array.from({ length: kept + 10 }, (_, i) => 100 + i));
  expect([result.current.changes.length, result.current.changes[0]!.offset]).toEqual([kept, String(100 + kept + 9)]);
});

it("begins anew with another address, and ends with the page", () => {
  const { result, rerender, unmount } = follow("/v1/a");
  come(1);
  const first = Stream.last;
  rerender({ address: "/v1/b", paused: false });
  expect([first.readyState, Stream.last.address, result.current.changes.length]).toEqual([Stream.CLOSED, "/v1/b", 0]);
  unmount();
  expect(Stream.last.readyState).toBe(Stream.CLOSED);
  follow(undefined);
  expect(Stream.all).toHaveLength(2);
});

it("says why there is no more", () => {
  const { result } = follow("/v1/a");
  act(() => Stream.last.onerror?.());
  expect(result.current.error).toContain("goes on by itself");
  come(1);
  expect(result.current.error).toBe("");
  act(() => void Stream.last.dispatchEvent(new MessageEvent("problem", { data: '{"detail":"the journal no longer has offset 7"}' })));
  expect([result.current.error, Stream.last.readyState]).toEqual(["the journal no longer has offset 7", Stream.CLOSED]);
  act(() => Stream.last.onerror?.());
  expect(result.current.error).toContain("is the table's pattern right?");
});

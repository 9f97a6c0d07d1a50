// @vitest-environment jsdom
import { act, cleanup, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Stream } from "../testing";
import { StatusProvider, useLive, useOutletStatus, useSourceStatus } from "./status";

beforeEach(() => {
  Stream.all = [];
  vi.useFakeTimers();
  vi.stubGlobal("EventSource", Stream);
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const drawn = { source: 0, outlet: 0 };
function Source() {
  drawn.source++;
  return <p>{useSourceStatus("circulation")?.rate ?? "unknown"}</p>;
}
function Outlet() {
  drawn.outlet++;
  return <p>{useOutletStatus("desk")?.behind_events ?? "none"}</p>;
}
const Lost = () => <i>{useLive((live) => live.lost) ? "lost" : "there"}</i>;

const status = (rate: number, behind: number) => ({ sources: [{ name: "circulation", rate, tables: [{ name: "public.loans" }] }], outlets: [{ name: "desk", behind_events: behind }] });

it("draws again only what has changed, and follows again after the service was away", () => {
  render(
    <StatusProvider>
      <Source />
      <Outlet />
      <Lost />
    </StatusProvider>,
  );
  expect(screen.getByText("unknown")).toBeTruthy();
  act(() => Stream.last.says(status(3, 0)));
  const before = { ...drawn };
  act(() => Stream.last.says(status(3, 9)));
  act(() => Stream.last.says(status(3, 9)));
  expect([drawn.source - before.source, drawn.outlet - before.outlet]).toEqual([0, 1]);
  expect(screen.getByText("9")).toBeTruthy();

  act(() => Stream.last.onerror?.()); // the browser tries again by itself
  expect([screen.getByText("lost").textContent, Stream.all.length]).toEqual(["lost", 1]);
  act(() => {
    Stream.last.close();
    Stream.last.onerror?.();
    vi.advanceTimersByTime(2000);
  });
  expect(Stream.all).toHaveLength(2);
  act(() => Stream.last.says(status(4, 0)));
  expect(screen.getByText("there")).toBeTruthy();
  expect(screen.getByText("4")).toBeTruthy();
  cleanup();
  expect(Stream.last.readyState).toBe(Stream.CLOSED);
});

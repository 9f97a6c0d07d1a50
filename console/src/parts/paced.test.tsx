// @vitest-environment jsdom
import { act, render } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { usePaced } from "./paced";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

it("acts when something has changed, not more often than it may, and not without a change", () => {
  const done = vi.fn();
  const Part = ({ value }: { value: number }) => {
    usePaced(value, 1000, done);
    return null;
  };
  const { rerender } = render(<Part value={1} />);
  const pass = (ms: number) => act(() => void vi.advanceTimersByTime(ms));
  pass(60_000);
  expect(done).toHaveBeenCalledTimes(0);
  rerender(<Part value={2} />);
  pass(0);
  expect(done).toHaveBeenCalledTimes(1);
  for (let value = 3; value < 13; value++) {
    rerender(<Part value={value} />);
    pass(100);
  }
  expect(done).toHaveBeenCalledTimes(2);
  rerender(<Part value={99} />);
  pass(60_000);
  expect(done).toHaveBeenCalledTimes(3);
});

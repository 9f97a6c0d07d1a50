// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { show } from "../../testing";
import { ChangeDetail, Images } from "./ChangeDetail";
import { ChangeList } from "./ChangeList";
import { historyOf, parseChange, type Change } from "./change";

afterEach(cleanup);

const change = (data: string, serial = 1) => parseChange("42", `{"id":"circulation/1/42","time":"2026-11-25T09:00:00Z","data":${data}}`, serial);
const update = change(
  '{"operation":"update","table":"public.loans","key":{"loan_id":7},"changed":["due_on"],"before":{"loan_id":7,"due_on":"2026-11-20","note":null},"after":{"loan_id":7,"due_on":"2026-12-04","note":null},"omitted":["scan"],"transaction":{"id":9,"index":3,"last":true},"database":"circulation"}',
);

it("shows both images, and tells null, no value and what the log has not apart", () => {
  show(<Images change={update} />);
  const row = (name: string) => within(document.querySelector<HTMLElement>(`tr[data-column="${name}"]`)!);
  expect(row("due_on").getByText("changed:")).toBeTruthy();
  expect(row("loan_id").getByText("key")).toBeTruthy();
  expect(row("note").getAllByText("null")).toHaveLength(2);
  expect(row("scan").getAllByText("not in the log")).toHaveLength(2);
  cleanup();
  show(<Images change={change('{"operation":"insert","table":"t","after":{"n":9007199254740993}}')} />);
  expect(screen.getByText("9007199254740993")).toBeTruthy();
  expect(screen.getByText("–")).toBeTruthy();
});

it("opens an event with what is known of it, and leads to every version of its row", () => {
  const close = vi.fn();
  show(<ChangeDetail change={update} onClose={close} />);
  expect(screen.getByRole("link", { name: "Every version of this row" }).getAttribute("href")).toBe("/sources/circulation/tables/public.loans/history?key=loan_id%3D7");
  expect(screen.getByText("9, event 3, its last")).toBeTruthy();
  expect(screen.getByLabelText("The event as it is delivered").textContent).toContain('"due_on": "2026-12-04"');
  fireEvent.click(screen.getByRole("button", { name: "Close the event" }));
  expect(close).toHaveBeenCalled();
  cleanup();
  show(<ChangeDetail change={update} onClose={close} />, "/sources/circulation/tables/public.loans/history");
  expect(screen.queryByRole("link", { name: "Every version of this row" })).toBeNull();
  cleanup();
  show(<ChangeDetail change={change('{"operation":"delete","table":"t","key":{"id":1},"before":{"id":1},"rekeyed":{"id":2}}')} onClose={close} />);
  expect(screen.getByText("key changed to")).toBeTruthy();
  cleanup();
  show(<ChangeDetail change={change('{"operation":"truncate","table":"t"}')} onClose={close} />);
  expect(screen.queryByText("Before and after")).toBeNull();
});

it("asks for the history of keys with signs in them", () => {
  const two = change('{"operation":"insert","table":"public.shelf marks","key":{"branch":"Harbour & Sea","mark":"A=1"}}');
  expect(historyOf(two)).toBe("/sources/circulation/tables/public.shelf%20marks/history?key=branch%3DHarbour+%26+Sea&key=mark%3DA%3D1");
});

it("walks through the list with the arrow keys, and stays within it", () => {
  const opened: (Change | undefined)[] = [];
  const changes = [3, 2, 1].map((serial) => change('{"operation":"insert","table":"t"}', serial));
  const list = (at?: number, rows = changes) => <ChangeList changes={rows} opened={at} onOpen={(c) => opened.push(c)} />;
  const press = (key: string, at?: number, rows = changes) => {
    show(list(at, rows));
    fireEvent.keyDown(screen.getByRole("listbox"), { key });
    cleanup();
    return opened.splice(0).map((c) => c?.serial);
  };
  expect(press("ArrowDown")).toEqual([3]);
  expect(press("ArrowDown", 3)).toEqual([2]);
  expect(press("ArrowDown", 1)).toEqual([1]);
  expect(press("ArrowUp", 3)).toEqual([3]);
  expect(press("ArrowUp", 1)).toEqual([2]);
  expect(press("a", 1)).toEqual([]);
  expect(press("ArrowDown", undefined, [])).toEqual([]);
});

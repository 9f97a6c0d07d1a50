// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import type { OutletStatus } from "../../api/types";
import { service, show } from "../../testing";
import { LettersTab } from "./LettersTab";
import { RewindDialog } from "./RewindDialog";
import { VerifyTab } from "./VerifyTab";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const outlet = { name: "desk", source: "circulation", destination: "function", committed: 4800, dead_letters: 2, waiting_behind: 1 } as OutletStatus;
const click = (name: string) => fireEvent.click(screen.getByRole("button", { name }));
const write = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

it("a rewind says what it would do before it is done, and asks again after a change", async () => {
  const closed = vi.fn();
  const calls = service({
    "GET /v1/marks": { body: { items: [{ source: "circulation", name: "before-weeding", offset: 900, created_at: "2026-11-25T09:00:00Z" }] } },
    "POST /v1/outlets/desk/rewind": ({ body }) => {
      const { to, until, dry_run } = body as Record<string, unknown>;
      return to === "99999"
        ? { status: 422, body: { detail: "offset 99999 is not in the journal yet" } }
        : { body: { from: 4801, to: Number(to) || 900, events: 3900, until: until ? 1000 : 0, returns: true, dry_run } };
    },
  });
  show(<RewindDialog outlet={outlet} onClose={closed} />);
  write("Offset that is delivered next", "99999");
  click("What would that do?");
  await screen.findByText(/is not in the journal yet/);
  write("Offset that is delivered next", "901");
  click("What would that do?");
  await screen.findByText(/events of the source are delivered again/);
  write("End", "return");
  expect(screen.queryByRole("status")).toBeNull();
  write("Offset before which it ends", "1001");
  click("What would that do?");
  await screen.findByText(/up to offset 1,000, and then it goes back/);
  expect(closed).not.toHaveBeenCalled();
  click("Do it");
  await waitFor(() => expect(closed).toHaveBeenCalled());
  expect(calls.filter((c) => c.method === "POST").map((c) => c.body)).toEqual([
    { to: "99999", dry_run: true },
    { to: "901", dry_run: true },
    { to: "901", until: "1001", return: true, dry_run: true },
    { to: "901", until: "1001", return: true, dry_run: false },
  ]);
  expect(screen.getAllByRole("option", { name: "a mark" }).every((one) => !one.hasAttribute("disabled"))).toBe(true);
});

it("a comparison shows tables as they come, what differs, and that the service said no", async () => {
  const table = { table: "public.loans", rows: 1000, estimate: 2000, missing: 0, extra: 0, different: 0, undecided: 0, done: false };
  const lines = (...all: unknown[]) => all.map((line) => JSON.stringify(line)).join("\n") + "\n";
  const done = { ...table, rows: 2000, missing: 1, different: 1, done: true };
  const difference = { table: "public.loans", key: { loan_id: "7" }, kind: "different", columns: [{ name: "note", source: "", target: null }] };
  let asked = 0;
  service({
    "POST /v1/outlets/desk/verify": () =>
      asked++ === 0
        ? {
            text: [
              lines({ table }).slice(0, 20),
              lines({ table }).slice(20) +
                lines({ result: { equal: false, seconds: 1.23, tables: [done], differences: [difference, { table: "public.loans", key: { loan_id: "8" }, kind: "missing" }] } }),
            ],
          }
        : { text: [lines({ table }, { problem: { detail: "the source is away.", fix: "Start it." } })] },
    "POST /v1/outlets/desk/verify?fix=true": {
      text: [lines({ result: { equal: false, seconds: 2, tables: [done], differences: [], fixes: [{ table: "public.loans", rows: 1 }, { table: "public.holds" }] } })],
    },
  });
  show(<VerifyTab outlet={{ ...outlet, verified: { at: "2026-11-25T09:00:00Z", equal: true, rows: 5, tables: 1 } } as OutletStatus} />);
  expect(screen.getByText(/5 rows of 1 tables were equal/)).toBeTruthy();
  click("Compare now");
  await screen.findByText(/Not equal, compared in 1.2 s/);
  const rows = within(screen.getByRole("region", { name: "Differences" }));
  expect(rows.getByText("All 2 differences")).toBeTruthy();
  expect(rows.getByText('""').parentElement!.textContent).toBe('note: "" at the source, null in the database');
  expect(rows.getByText("missing in the database")).toBeTruthy();
  expect(within(screen.getByRole("region", { name: "Verdicts by table" })).getByText("differs")).toBeTruthy();
  click("Compare, and load what differs");
  await screen.findByText(/1 row of public.loans, all rows of public.holds/);
  click("Compare now");
  await screen.findByText("the source is away. Start it.");
  expect(screen.getByText("1,000 of about 2,000")).toBeTruthy();
});

it("dead letters are filtered, opened, tried again and, once asked, discarded", async () => {
  const letter = { id: 5, offset: 4711, state: "dead", operation: "update", table: "public.loans", key: "loan_id 7", attempts: 3, error: "409 Conflict", last_at: "2026-11-25T09:00:00Z" };
  const calls = service({
    "GET /v1/outlets/desk/dead-letters": { body: { dead: 1, behind: 1, items: [letter, { ...letter, id: 6, state: "behind", error: undefined, retrying: true }] } },
    "GET /v1/outlets/desk/dead-letters/5": { body: { event_id: "circulation/1/4711", error: "409 Conflict", messages: [] } },
    "POST /v1/outlets/desk/dead-letters/retry": { body: {} },
    "POST /v1/outlets/desk/dead-letters/discard": { body: {} },
  });
  show(<LettersTab outlet={outlet} />);
  await screen.findByText("1 dead, 1 behind them");
  expect(screen.getByText("waits for one of the same row")).toBeTruthy();
  expect(screen.getByText("behind, retrying")).toBeTruthy();
  fireEvent.click(screen.getAllByRole("button", { name: "Open" })[0]!);
  await screen.findByText("Event circulation/1/4711");
  fireEvent.click(screen.getAllByRole("button", { name: "Try again" })[0]!);
  click("Try all again");
  write("A part of the error", "409");
  click("Discard these …");
  click("Leave it");
  click("Discard these …");
  click("Discard");
  await waitFor(() => expect(calls.filter((c) => c.method === "POST")).toHaveLength(3));
  expect(calls.filter((c) => c.method === "POST").map((c) => [c.path.split("/").at(-1), c.body])).toEqual([
    ["retry", { ids: [5] }],
    ["retry", { all: true }],
    ["discard", { error: "409" }],
  ]);
  expect(calls.some((c) => c.path.includes("error=409"))).toBe(true);
});

// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { service, show } from "../../testing";
import { ImpactTab } from "./ImpactTab";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

it("says what a statement would do, outlet by outlet, and why it could not be tried", async () => {
  const calls = service({
    "POST /v1/sources/circulation/impact": ({ body }) =>
      (body as { sql: string }).sql.includes("nope")
        ? { status: 422, body: { detail: 'type "nope" does not exist', fix: "mend the statement" } }
        : {
            body: {
              table: "public.loans",
              verdict: "holds",
              changes: ["due_on is now due_date"],
              findings: [{ verdict: "differs", says: "the table is loaded again" }],
              also: [{ table: "public.holds", verdict: "unaffected", changes: [], findings: [], outlets: [] }],
              outlets: [
                {
                  outlet: "counter",
                  verdict: "holds",
                  findings: [
                    { verdict: "holds", says: "its condition no longer fits", fix: "edit it" },
                    { verdict: "differs", says: "due_on is now due_date" },
                  ],
                },
                { outlet: "reporting", destination: "postgresql", verdict: "differs", findings: [], statements: ["ALTER TABLE a RENAME b TO c"] },
              ],
            },
          },
  });
  show(<ImpactTab name="circulation" />);
  const ask = (sql: string) => {
    fireEvent.change(screen.getByLabelText("One ALTER or DROP of a table or a type"), { target: { value: sql } });
    fireEvent.click(screen.getByRole("button", { name: "What would it do?" }));
  };
  ask("ALTER TABLE loans ADD x nope");
  await screen.findByText(/type "nope" does not exist/);
  ask("ALTER TABLE loans RENAME due_on TO due_date");
  await screen.findByText(/the table is loaded again/);
  expect(calls.map((c) => c.body)).toEqual([{ sql: "ALTER TABLE loans ADD x nope" }, { sql: "ALTER TABLE loans RENAME due_on TO due_date" }]);
  const [counter, reporting] = within(screen.getByRole("list", { name: "Outlets of public.loans" })).getAllByRole("listitem");
  expect(counter!.textContent).toBe("holdscounterits condition no longer fitsFix: edit itdiffers: due_on is now due_date");
  expect(within(reporting!).getByRole("link", { name: "reporting" }).getAttribute("href")).toBe("/outlets/reporting");
  expect(screen.getAllByRole("status").map((one) => one.textContent)).toContain("unaffected public.holds: its version stays the same");
  expect(reporting!.textContent).toContain("ALTER TABLE a RENAME b TO c");
});

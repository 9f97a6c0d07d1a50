// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { service, show } from "../../testing";
import { SharedForms } from "./SharedForms";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const click = (name: string) => fireEvent.click(screen.getByRole("button", { name }));
const field = (title: string, order: number) => ({ type: "array", title, "x-order": order, items: { type: "object", properties: { match: { type: "string", title: "Tables", "x-order": 1 } } } });
const outlet = {
  type: "object",
  properties: { rows: { ...field("Form of rows", 1), "x-advanced": true }, functions: field("Functions", 2), description: { type: "string", title: "Description", "x-order": 3 } },
};
const kinds = { body: { items: [{ name: "pull", outlet }] } };
const readers = { name: "readers", version: 3, running: false, created_at: "", updated_at: "", definition: { rows: [{ match: "public.patrons" }] } };

it("a form is shown with the outlets that use it, and what is saved names its version", async () => {
  const calls = service({
    "GET /v1/forms": { body: { items: [readers] } },
    "GET /v1/outlets": {
      body: {
        items: [
          { name: "desk", definition: { source: "circulation", forms: ["readers"] } },
          { name: "hub", definition: { source: "circulation" } },
        ],
      },
    },
    "GET /v1/kinds": kinds,
    "PUT /v1/forms/readers": ({ body }) =>
      JSON.stringify(body).includes("patrns") ? { status: 422, body: { detail: "outlet desk, which uses the form: none of its tables is public.patrns" } } : { body: { ...readers, version: 4 } },
    "DELETE /v1/forms/readers": { status: 409, body: { detail: 'form "readers" is in use by an outlet' } },
  });
  show(<SharedForms />);
  expect((await screen.findByRole("row", { name: /readers/ })).textContent).toContain("public.patrons–desk");
  click("Remove readers");
  click("Remove it");
  await screen.findByText(/is in use by an outlet/);
  click("Edit readers");
  await screen.findByText(/Used by desk\. What is saved here/);
  const tables = await screen.findByLabelText<HTMLInputElement>("Tables");
  expect(tables.value).toBe("public.patrons");
  fireEvent.change(tables, { target: { value: "public.patrns" } });
  click("Save");
  await screen.findByText(/none of its tables is public.patrns/);
  fireEvent.change(tables, { target: { value: "public.*" } });
  click("Save");
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  expect(calls.filter((c) => c.method === "PUT").map((c) => c.body)).toEqual([
    { ...readers.definition, rows: [{ match: "public.patrns" }] },
    { ...readers.definition, rows: [{ match: "public.*" }] },
  ]);
});

it("a first form is added by its name", async () => {
  const calls = service({ "GET /v1/forms": { body: { items: [] } }, "GET /v1/outlets": { body: { items: [] } }, "GET /v1/kinds": kinds, "POST /v1/forms/prices": { body: readers } });
  show(<SharedForms />);
  await screen.findByText(/There are none yet/);
  click("Add a form …");
  fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "prices" } });
  fireEvent.change(await screen.findByLabelText("Description"), { target: { value: "rounded" } });
  click("Add it");
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  expect(calls.filter((c) => c.method === "POST")).toMatchObject([{ body: { description: "rounded" } }]);
});

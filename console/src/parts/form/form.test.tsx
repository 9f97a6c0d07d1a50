// @vitest-environment jsdom
import { cleanup, fireEvent, screen } from "@testing-library/react";
import { useState } from "react";
import { afterEach, expect, it } from "vitest";
import { show } from "../../testing";
import { PlaceFields, placeOf, placeText, type Place } from "../Place";
import { SchemaForm } from "./SchemaForm";
import { TablePicker } from "./TablePicker";
import type { Schema, Section } from "./schema";

afterEach(cleanup);

const schema: Schema = {
  type: "object",
  required: ["address"],
  properties: {
    address: { type: "string", title: "Address", "x-order": 1 },
    tries: { type: "integer", title: "Tries", minimum: 1, default: 3, "x-order": 2 },
    operations: { type: "array", title: "Operations", items: { type: "string", enum: ["insert", "update", "delete"] }, "x-order": 3 },
    headers: { type: "object", title: "Headers", additionalProperties: { type: "string" }, "x-order": 4 },
    bucket: { type: "object", title: "A bucket", "x-instead": "folder", "x-order": 5, properties: { region: { type: "string", title: "Region", "x-order": 1 } } },
    folder: { type: "string", title: "Folder", "x-order": 6 },
    columns: { type: "array", title: "Columns", "x-order": 7, items: { type: "object", properties: { name: { type: "string", title: "Name of it", "x-order": 1 } } } },
    compact: { type: "boolean", title: "Compact", "x-order": 8, "x-advanced": true },
  },
};

/** Edited keeps a form's value as a page does. */
let value: Section;
function Edited({ begins }: { begins: Section }) {
  const [now, setNow] = useState(begins);
  value = now;
  return <SchemaForm id="f-" schema={schema} value={now} onChange={setNow} />;
}
const write = (label: string, text: string) => fireEvent.change(screen.getByLabelText(label), { target: { value: text } });
const click = (label: string) => fireEvent.click(screen.getByLabelText(label));

it("a form writes what was filled in, and nothing else", () => {
  show(<Edited begins={{}} />);
  write("Address", "https://desk.example");
  write("Tries", "7");
  click("delete");
  click("insert");
  write("Headers", "X-Branch: Harbour\nno value\n");
  click("Compact");
  expect(value).toEqual({ address: "https://desk.example", tries: 7, operations: ["insert", "delete"], headers: { "X-Branch": "Harbour", "no value": "" }, compact: true });
  expect(screen.getByText("Advanced (1 set)")).toBeTruthy();
  click("Compact");
  click("delete");
  click("insert");
  write("Tries", "");
  write("Headers", "");
  write("Address", "");
  expect(value).toEqual({});
});

it("a part takes the place of a field, and a list keeps its order", () => {
  show(<Edited begins={{ folder: "out" }} />);
  click("A bucket");
  expect(value).toEqual({ bucket: {} });
  expect(screen.queryByLabelText("Folder")).toBeNull();
  write("Region", "north");
  click("A bucket");
  expect(value).toEqual({});
  const add = screen.getByRole("button", { name: "Add to columns" });
  const name = (i: number, text: string) => fireEvent.change(screen.getAllByLabelText("Name of it")[i]!, { target: { value: text } });
  fireEvent.click(add);
  fireEvent.click(add);
  fireEvent.click(add);
  ["a", "b", "c"].forEach((text, i) => name(i, text));
  fireEvent.click(screen.getByRole("button", { name: "Remove Columns 2" }));
  fireEvent.click(add);
  name(2, "d");
  expect(value).toEqual({ columns: [{ name: "a" }, { name: "c" }, { name: "d" }] });
  expect(screen.getAllByLabelText<HTMLInputElement>("Name of it").map((one) => one.value)).toEqual(["a", "c", "d"]);
});

it("tables are chosen one by one, or by a pattern that takes several", () => {
  let chosen: string[] = [];
  function Picked() {
    const [now, setNow] = useState<string[]>([]);
    chosen = now;
    return <TablePicker id="t" tables={["desk.visits", "public.holds", "public.loans"]} value={now} onChange={setNow} />;
  }
  show(<Picked />);
  expect(screen.getByText("Without a pattern, all 3 tables and those to come")).toBeTruthy();
  click("public.loans");
  click("desk.visits");
  expect(chosen).toEqual(["public.loans", "desk.visits"]);
  click("public.loans");
  write("Tables", "ho* loans");
  expect(chosen).toEqual(["ho*", "loans"]);
  expect(screen.getByText("2 of 3 tables match; * stands for any characters, ? for one")).toBeTruthy();
  const holds = screen.getByLabelText<HTMLInputElement>(/public.holds/);
  expect([holds.checked, holds.disabled]).toEqual([true, true]);
  click("public.loans");
  expect(chosen).toEqual(["ho*"]);
});

it("a place is read back as it was written", () => {
  for (const text of ["now", "beginning", "load", "cutover", "4800", "mark:before-weeding", "mark:a:b", "time:2026-11-25T09:00:00.000Z"]) {
    expect(placeText(placeOf(text))).toBe(text);
  }
  expect(placeText({ kind: "mark", text: "" })).toBe("mark:");
  const marks = [{ source: "circulation", name: "noon", offset: 7, created_at: "" }];
  let place: Place = { kind: "now", text: "" };
  const draw = () => (
    <PlaceFields
      id="p"
      place={place}
      onChange={(next) => (place = next)}
      marks={marks}
      kinds={[
        ["now", "now"],
        ["mark", "a mark"],
        ["time", "a time"],
      ]}
      offset="Offset"
      time="Time"
    />
  );
  show(draw());
  write("Place", "mark");
  cleanup();
  show(draw());
  expect(screen.getByText("noon (offset 7)")).toBeTruthy();
  write("Mark", "noon");
  expect(placeText(place, marks)).toBe("mark:noon");
});

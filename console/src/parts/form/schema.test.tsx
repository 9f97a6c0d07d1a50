import { renderToStaticMarkup as drawn } from "react-dom/server";
import { describe, expect, it } from "vitest";
import { readMessage } from "../changes/change";
import { SchemaForm } from "./SchemaForm";
import { applies, isRequired, isSet, matches, pairs, put, words, type Schema } from "./schema";

const schema: Schema = {
  type: "object",
  required: ["servers"],
  properties: {
    servers: { type: "array", items: { type: "string" }, title: "Servers", "x-order": 1 },
    stream: { type: "string", title: "Stream", "x-order": 2 },
    create: { type: "boolean", title: "Create it", "x-when": "stream", "x-order": 3 },
    directory: { type: "string", title: "Directory", "x-order": 4 },
    bucket: { type: "object", title: "A bucket", "x-instead": "directory", "x-order": 5, properties: { name: { type: "string", title: "Name", "x-order": 1 } } },
    password: { type: "string", format: "password", title: "Password", "x-order": 6, "x-advanced": true },
    mode: { type: "string", enum: ["a", "b"], default: "a", title: "Mode", "x-order": 7, "x-advanced": true },
    hidden: { type: "string" },
  },
};

describe("a form of a schema", () => {
  it("asks for what means something as the section stands", () => {
    const field = (name: string) => [name, schema.properties![name]!] as const;
    expect(applies(field("create"), {}, schema)).toBe(false);
    expect(applies(field("create"), { stream: "library" }, schema)).toBe(true);
    expect(applies(field("directory"), { bucket: {} }, schema)).toBe(false);
    expect([isRequired("servers", {}, schema), isRequired("directory", {}, schema), isRequired("directory", { bucket: {} }, schema), isRequired("stream", {}, schema)]).toEqual([
      true,
      true,
      false,
      false,
    ]);
  });

  it("leaves out what is empty, and counts what differs from a default", () => {
    expect(put({ a: 1 }, "a", "")).toEqual({});
    expect(put({}, "a", false)).toEqual({ a: false });
    expect([isSet(schema.properties!.mode!, "a"), isSet(schema.properties!.mode!, "b"), isSet(schema.properties!.bucket!, {})]).toEqual([false, true, true]);
    expect(words(" a, b\nc ")).toEqual(["a", "b", "c"]);
    expect(pairs("X-Team: desk: two\n\n")).toEqual({ "X-Team": "desk: two" });
  });

  it("draws secrets as such, parts when they are wanted, and nothing that has no title", () => {
    const text = drawn(<SchemaForm schema={schema} value={{ bucket: {}, mode: "b" }} onChange={() => {}} />);
    expect(text).toContain('type="password"');
    expect(text).toContain('id="bucket-name"');
    expect(text).toContain("Advanced (1 set)");
    expect(text).not.toContain("Create it");
    expect(text).not.toContain("hidden");
  });
});

describe("patterns of tables", () => {
  it.each([
    ["*", "desk.visits", true],
    ["loans", "public.loans", true],
    ["loans", "desk.loans", false],
    ["public.hold?", "public.holds", true],
    ["public.h*", "public.holds", true],
    ["public.h*", "publicxholds", false],
    ["desk.*", "desk.visits", true],
  ])("%s and %s", (pattern, table, expected) => expect(matches(pattern, table)).toBe(expected));
});

describe("what a message says", () => {
  it.each([
    ["an event", '{"specversion":"1.0","data":{"operation":"update","table":"t","before":{"n":1},"after":{"n":9007199254740993}}}', "update"],
    ["the data alone", '{"operation":"insert","table":"t","before":null,"after":{"n":9007199254740993}}', "insert"],
    ["a row", '{"n":9007199254740993}', "insert"],
  ])("%s", (_, body, operation) => {
    const change = readMessage("7", "rillmark.row.insert", "t", body)!;
    expect([change.operation, change.table, String(change.after!.n)]).toEqual([operation, "t", "9007199254740993"]);
  });

  it("is nothing where it is no row", () => {
    expect(readMessage("7", "desk.notice", "t", '{"text":"ready"}')).toBeUndefined();
    expect(readMessage("7", "rillmark.row.insert", "t", "plain")).toBeUndefined();
    expect(readMessage("7", "rillmark.row.delete", "t", '{"n":1}')!.before).toBeTruthy();
  });
});

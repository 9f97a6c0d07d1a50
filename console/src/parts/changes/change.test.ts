import { describe, expect, it } from "vitest";
import { keyText, parseChange, pretty, show, summary } from "./change";

const event = (data: string) => parseChange("42", `{"id":"circulation/1/42","time":"2026-11-25T09:00:00Z","data":${data}}`);

describe("changes", () => {
  it("keep numbers that doubles cannot hold", () => {
    const change = event('{"operation":"insert","table":"public.loans","key":{"loan_id":9007199254740993},"after":{"loan_id":9007199254740993,"price":"1.50","rank":1e400}}');
    expect(keyText(change.key)).toBe("loan_id 9007199254740993");
    expect(summary(change)).toBe("price: 1.50, rank: 1e400");
    expect(pretty('{"n":9007199254740993}')).toBe('{\n  "n": 9007199254740993\n}');
  });

  it("say in half a line what happened", () => {
    expect(summary(event('{"operation":"update","table":"t","changed":["due_on","note"],"before":{"due_on":"a"},"after":{"due_on":"b","note":null}}'))).toBe("due_on: a → b, note: null → null");
    expect(summary(event('{"operation":"delete","table":"t","key":{"id":1},"before":{"id":1,"note":"x"}}'))).toBe("note: x");
    expect(summary(event('{"operation":"message","message":{"prefix":"desk"}}'))).toBe("desk: ");
    expect(summary(event('{"operation":"message","message":{"prefix":"statement","content":"UPDATE loans"}}'))).toBe("statement: UPDATE loans");
    expect(summary(event('{"operation":"truncate","table":"t"}'))).toBe("");
    expect(summary(event(`{"operation":"insert","table":"t","after":{"text":"${"x".repeat(500)}"}}`)).length).toBeLessThan(60);
  });

  it("show values as they are", () => {
    expect([show(null), show("a"), show([1, "b"]), show(undefined), keyText(null)]).toEqual(["null", "a", '[1,"b"]', "null", "–"]);
  });
});

import { renderToStaticMarkup as drawn } from "react-dom/server";
import { describe, expect, it } from "vitest";
import type { Check, Mark, Preview } from "../api/types";
import { Checks } from "./Checks";
import { Message } from "./changes/Message";
import { StateMark } from "./StateMark";
import { bytes, count, rate, span } from "./numbers";
import { PlaceFields, placeText } from "./Place";
import { roundTop } from "./scale";
import { Refused } from "../api/client";
import { Trouble } from "./Trouble";

describe("numbers as people read them", () => {
  it.each([
    [count(0), "0"],
    [count(9007199), "9,007,199"],
    [rate(0), "0"],
    [rate(3.14), "3.1"],
    [rate(1234.5), "1,235"],
    [bytes(1023), "1023 B"],
    [bytes(1536), "1.5 KiB"],
    [bytes(3 * 1024 ** 4), "3.0 TiB"],
    [bytes(5000 * 1024 ** 4), "5000.0 TiB"],
    [span(0.0214), "21 ms"],
    [span(8.13), "8.1 s"],
    [span(89.9), "89.9 s"],
    [span(600), "10 min"],
    [span(3 * 3600 + 120), "3 h 2 min"],
  ])("%s", (got, want) => expect(got).toBe(want));
});

const marks: Mark[] = [{ source: "circulation", name: "before-weeding", offset: 4800, created_at: "2026-11-25T09:00:00Z" }];

describe("places in a journal", () => {
  it("are written as the service reads them", () => {
    expect(placeText({ kind: "offset", text: " 4800 " })).toBe("4800");
    expect(placeText({ kind: "time", text: "2026-11-25T10:00:00" })).toBe("time:2026-11-25T09:00:00.000Z");
    expect(placeText({ kind: "mark", text: "" }, marks)).toBe("mark:before-weeding");
    expect(placeText({ kind: "mark", text: "noon" }, marks)).toBe("mark:noon");
    expect(placeText({ kind: "now", text: "" })).toBe("now");
  });

  it("ask for what their kind needs, and offer no mark where there is none", () => {
    const fields = (kind: "offset" | "mark", known: Mark[]) =>
      drawn(
        <PlaceFields
          id="p"
          place={{ kind, text: "" }}
          onChange={() => {}}
          marks={known}
          kinds={[
            ["offset", "an offset"],
            ["mark", "a mark"],
          ]}
          offset="Next offset"
          time="From"
        />,
      );
    expect(fields("offset", [])).toContain("Next offset");
    expect(fields("offset", [])).toMatch(/<option value="mark" disabled="">/);
    expect(fields("mark", marks)).toContain("before-weeding (offset 4,800)");
  });
});

describe("checks", () => {
  const checks: Check[] = [
    { name: "connection", verdict: "good", found: "connected", why: "rows travel over it" },
    { name: "log detail", verdict: "missing", found: "wal_level is replica", why: "no rows in the log", fix: "ALTER SYSTEM SET wal_level = logical" },
  ];

  it("show what is missing, the reason and the fix", () => {
    const text = drawn(<Checks checks={checks} />);
    expect(text).toContain("Not ready: 1 thing is missing.");
    expect(text).toContain("ALTER SYSTEM SET wal_level = logical");
    expect(text).not.toContain("rows travel over it");
    expect(drawn(<Checks checks={checks.slice(0, 1)} />)).toContain("Ready: nothing is missing.");
  });
});

describe("a message before it is sent", () => {
  const message = {
    offset: 7,
    id: "circulation/1/7",
    type: "rillmark.row.insert",
    key: "k",
    partition: "k",
    headers: [{ name: "webhook-id", value: "circulation/1/7" }],
    body: '{"n":9007199254740993}',
    size: 1234,
  } as Preview;

  it("keeps every digit, and shows headers and size", () => {
    const text = drawn(<Message message={message} />);
    expect(text).toContain("9007199254740993");
    expect(text).toContain("webhook-id");
    expect(text).toContain("1,234 bytes");
    expect(text).not.toContain("partition by");
  });

  it("says what it is where there is no text to show", () => {
    expect(drawn(<Message message={{ ...message, marker: true }} />)).toContain("a marker says that the key is gone");
    expect(drawn(<Message message={{ ...message, base64: true, content_type: "application/avro", row: { n: 1 } } as Preview} />)).toContain("Sent as application/avro");
    expect(drawn(<Message message={{ ...message, body: "plain <b>text</b>", problem: "no topic" }} />)).toContain("plain &lt;b&gt;text&lt;/b&gt;");
  });
});

describe("states", () => {
  it("differ by word and shape, not only by colour", () => {
    const shapes = ["following", "loading", "stale", "not-loaded", "paused", "left-out"].map((state) => {
      const text = drawn(<StateMark state={state} />);
      expect(text).toContain(`<span>${state}</span>`);
      return text.replace(/<span>.*?<\/span>/, "").replace(/tone-\w+/, "");
    });
    expect(new Set(shapes).size).toBe(shapes.length);
    expect(drawn(<StateMark state="a state of a later version" />)).toContain("tone-quiet");
  });
});

it("an axis ends at a round number", () => {
  expect([roundTop(0, 10), roundTop(11, 1), roundTop(50, 1), roundTop(51, 1), roundTop(0.3, 0.01), roundTop(999_999, 1)]).toEqual([10, 20, 50, 100, 0.5, 1_000_000]);
});

describe("an error", () => {
  const says = (error: unknown) => drawn(<Trouble error={error} />).replace(/<[^>]*>/g, "");
  it("is sentences, with what to do", () => {
    expect(says(new Refused(409, "it is paused", "resume it"))).toBe("it is paused. Fix: resume it.");
    expect(says(new Refused(409, "It is paused.", "Resume it."))).toBe("It is paused. Fix: Resume it.");
    expect(says(new Refused(409, "it is paused"))).toBe("it is paused");
  });
});

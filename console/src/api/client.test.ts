import { afterEach, expect, it, vi } from "vitest";
import { service } from "../testing";
import { answered, api, Refused, sendForLines } from "./client";

afterEach(() => vi.unstubAllGlobals());

it("says what was wrong, where, and what to do", async () => {
  service({
    "GET /v1/kinds": { status: 422, body: { detail: "the definition is wrong", errors: [{ location: "body.batch.every", message: "is no time" }, { message: "too many tables" }] } },
    "GET /v1/engines": { status: 503, body: { detail: "the state database does not answer", fix: "start it" } },
    "GET /v1/status": { status: 502, text: ["<html>bad gateway</html>"] },
    "GET /v1/log": { body: { items: [] } },
  });
  const refused = (call: Promise<unknown>) =>
    call.then(
      () => undefined,
      (error: unknown) => error as Refused,
    );
  const wrong = await refused(answered(api.GET("/v1/kinds")));
  expect([wrong?.status, wrong?.message]).toEqual([422, "batch.every: is no time; too many tables"]);
  const away = await refused(answered(api.GET("/v1/engines")));
  expect([away?.message, away?.fix]).toEqual(["the state database does not answer", "start it"]);
  expect(await answered(api.GET("/v1/log", { params: { query: { limit: 1 } } }))).toEqual({ items: [] });
});

it("reads lines that are cut anywhere", async () => {
  const lines = [{ table: { table: "public.loans" } }, { table: { table: "ü" } }, { result: { equal: true } }];
  const whole = new TextEncoder().encode(lines.map((line) => JSON.stringify(line) + "\n").join(""));
  for (let cut = 1; cut < whole.length; cut += 3) {
    vi.stubGlobal(
      "fetch",
      async () =>
        new Response(
          new ReadableStream({
            start(controller) {
              controller.enqueue(whole.slice(0, cut));
              controller.enqueue(whole.slice(cut));
              controller.close();
            },
          }),
        ),
    );
    const seen: unknown[] = [];
    await sendForLines("/v1/x", {}, (line) => seen.push(line), new AbortController().signal);
    expect(seen).toEqual(lines);
  }
  vi.stubGlobal("fetch", async () => new Response('{"detail":"not now"}', { status: 409 }));
  await expect(sendForLines("/v1/x", {}, () => {}, new AbortController().signal)).rejects.toThrow("not now");
});

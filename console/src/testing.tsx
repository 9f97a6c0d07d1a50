import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router-dom";
import { vi } from "vitest";

/** Stream stands for the browser's EventSource: a test says what comes. */
export class Stream extends EventTarget {
  static readonly CLOSED = 2;
  static all: Stream[] = [];
  readyState = 1;
  onopen?: () => void;
  onmessage?: (message: { lastEventId: string; data: string }) => void;
  onerror?: () => void;

  constructor(readonly address: string) {
    super();
    Stream.all.push(this);
  }

  static get last() {
    return Stream.all.at(-1)!;
  }

  close() {
    this.readyState = Stream.CLOSED;
  }

  says(data: unknown, lastEventId = "") {
    this.onmessage?.({ lastEventId, data: typeof data === "string" ? data : JSON.stringify(data) });
  }
}

/** Call is one that a page has made. */
export interface Call {
  method: string;
  path: string;
  body?: unknown;
}

type Answer = { status?: number; body?: unknown; text?: string[] };

/** service stands for the service: it answers by method and path, with a problem where
 * nothing is given, and keeps what was asked. A text is sent in the parts that it has. */
export function service(answers: Record<string, Answer | ((call: Call) => Answer)>): Call[] {
  const calls: Call[] = [];
  vi.stubGlobal("fetch", async (input: string | Request, init?: RequestInit) => {
    const request = new Request(input, init);
    const { pathname, search } = new URL(request.url);
    const text = await request.text();
    const call: Call = { method: request.method, path: pathname + search, body: text ? JSON.parse(text) : undefined };
    calls.push(call);
    const found = answers[`${call.method} ${call.path}`] ?? answers[`${call.method} ${pathname}`] ?? { status: 404, body: { detail: `nothing answers ${call.method} ${call.path}` } };
    const { status = 200, body, text: parts } = typeof found === "function" ? found(call) : found;
    const stream =
      parts &&
      new ReadableStream({
        start(controller) {
          parts.forEach((part) => controller.enqueue(new TextEncoder().encode(part)));
          controller.close();
        },
      });
    return new Response(stream ?? (body === undefined ? null : JSON.stringify(body)), { status, headers: { "Content-Type": "application/json" } });
  });
  return calls;
}

/** show draws a part of the console where it may ask the service and lead elsewhere. */
export function show(part: ReactNode, path = "/") {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={[path]}>{part}</MemoryRouter>
    </QueryClientProvider>,
  );
}

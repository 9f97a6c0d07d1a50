import { useQuery } from "@tanstack/react-query";
import type { DestinationRecord, Engine, Kind, LogEntry, Mark, OutletRecord, SourceRecord } from "./types";

/** Refused is an answer of the service that is a problem document. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
    /** fix says what to do; empty where there is nothing to say. */
    readonly fix: string = "",
  ) {
    super(detail);
  }
}

async function refused(response: Response): Promise<Refused> {
  const problem = await response.json().catch(() => ({}));
  const places = (problem.errors ?? []).map((e: { location?: string; message: string }) => `${(e.location ?? "").replace(/^body\.?/, "")}: ${e.message}`);
  return new Refused(response.status, places.length ? places.join("; ") : (problem.detail ?? response.statusText), problem.fix ?? "");
}

export async function getJSON<T>(path: string): Promise<T> {
  const response = await fetch(path, { headers: { Accept: "application/json" } });
  if (!response.ok) {
    throw await refused(response);
  }
  return response.json();
}

/** send makes a call that changes something; version is the one that it changes. */
export async function send<T>(method: "POST" | "PUT" | "DELETE", path: string, body?: unknown, version?: number): Promise<T> {
  const headers: Record<string, string> = { Accept: "application/json" };
  if (body !== undefined) {
    headers["Content-Type"] = "application/json";
  }
  if (version !== undefined) {
    headers["If-Match"] = `"${version}"`;
  }
  const response = await fetch(path, { method, headers, body: body === undefined ? undefined : JSON.stringify(body) });
  if (!response.ok) {
    throw await refused(response);
  }
  return response.status === 204 ? (undefined as T) : response.json();
}

/** sendForLines makes a call that is answered in lines of JSON, and hands each on. */
export async function sendForLines<T>(path: string, body: unknown, each: (line: T) => void, signal: AbortSignal): Promise<void> {
  const response = await fetch(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body), signal });
  if (!response.ok || !response.body) {
    throw await refused(response);
  }
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) {
      return;
    }
    const lines = (rest + value).split("\n");
    rest = lines.pop()!;
    lines.forEach((line) => each(JSON.parse(line)));
  }
}

/** openSession trades the service's token for a cookie. */
export async function openSession(token: string): Promise<void> {
  const response = await fetch("/v1/session", {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify({ token }),
  });
  if (!response.ok) {
    const problem = await response.json().catch(() => ({}));
    throw new Refused(response.status, problem.detail ?? response.statusText);
  }
}

/** Session says whether the service has a token, and until when somebody is signed in. */
export interface Session {
  wanted: boolean;
  until?: string;
}

/** closeSession signs out, here and for whoever holds the cookie. */
export async function closeSession(): Promise<void> {
  const response = await fetch("/v1/session", { method: "DELETE" });
  if (!response.ok) {
    throw await refused(response);
  }
}

/** useLog reads the newest lines of the log of the run, when something changed;
 * of one subject where it is given. */
export function useLog(limit: number, changed: unknown, subject = "") {
  return useQuery({
    queryKey: ["log", limit, changed, subject],
    queryFn: () => getJSON<{ items: LogEntry[] }>(`/v1/log?limit=${limit}&subject=${encodeURIComponent(subject)}`),
    placeholderData: (previous) => previous,
    select: (page) => page.items,
  });
}

/** useSource reads a source's definition. */
export function useSource(name: string) {
  return useQuery({ queryKey: ["source", name], queryFn: () => getJSON<SourceRecord>(`/v1/sources/${name}`), retry: false });
}

/** useOutlet reads an outlet's definition. */
export function useOutlet(name: string) {
  return useQuery({ queryKey: ["outlet", name], queryFn: () => getJSON<OutletRecord>(`/v1/outlets/${name}`), retry: false });
}

/** useMarks reads the named places of a source's journal. */
export function useMarks(source: string) {
  return useQuery({
    queryKey: ["marks", source],
    queryFn: () => getJSON<{ items: Mark[] }>(`/v1/marks?source=${encodeURIComponent(source)}`),
    refetchInterval: 15_000,
    select: (page) => page.items,
  });
}

/** useDestinations lists where events can go. */
export function useDestinations() {
  return useQuery({ queryKey: ["destinations"], queryFn: () => getJSON<{ items: DestinationRecord[] }>("/v1/destinations"), select: (page) => page.items });
}

/** useKinds lists the kinds of destinations, which stay as they are while the service
 * runs. */
export function useKinds() {
  return useQuery({ queryKey: ["kinds"], queryFn: () => getJSON<{ items: Kind[] }>("/v1/kinds"), staleTime: Infinity, select: (page) => page.items });
}

/** useEngines lists the engines that sources can be of. */
export function useEngines() {
  return useQuery({ queryKey: ["engines"], queryFn: () => getJSON<{ items: Engine[] }>("/v1/engines"), staleTime: Infinity, select: (page) => page.items });
}

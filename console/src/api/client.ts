import { useQuery } from "@tanstack/react-query";
import createClient from "openapi-fetch";
import type { paths } from "./schema.gen";
import type { Engine, Kind } from "./types";

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

/** api makes the calls that the service describes: their paths, parameters, bodies and
 * answers are checked against its description. */
export const api = createClient<paths>({ headers: { Accept: "application/json" }, fetch: (request) => fetch(request) });

/** answered is what a call of api answers; one that is refused throws [Refused]. */
export async function answered<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) {
    throw refusal(response, error);
  }
  return data as T;
}

/** at names the version that a change is made to. */
export const at = (version: number) => ({ "If-Match": `"${version}"` });

interface Problem {
  detail?: string;
  fix?: string;
  errors?: { location?: string; message: string }[];
}

function refusal(response: Response, answer: unknown): Refused {
  const problem = (typeof answer === "object" ? (answer ?? {}) : {}) as Problem;
  const places = (problem.errors ?? []).map((e) => [(e.location ?? "").replace(/^body\.?/, ""), e.message].filter(Boolean).join(": "));
  return new Refused(response.status, places.length ? places.join("; ") : (problem.detail ?? response.statusText), problem.fix ?? "");
}

const refused = async (response: Response) => refusal(response, await response.json().catch(() => undefined));

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

/** fetchText is an answer as it came, for who reads its numbers exactly. */
export async function fetchText(path: string): Promise<string> {
  const response = await fetch(path);
  if (!response.ok) {
    throw await refused(response);
  }
  return response.text();
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

/** session says how things stand with signing in. */
export async function session(): Promise<Session> {
  const response = await fetch("/v1/session");
  if (!response.ok) {
    throw await refused(response);
  }
  return response.json();
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
    queryFn: () => answered(api.GET("/v1/log", { params: { query: { limit, subject } } })),
    placeholderData: (previous) => previous,
    select: (page) => page.items,
  });
}

/** useSource reads a source's definition. */
export function useSource(name: string) {
  return useQuery({ queryKey: ["source", name], queryFn: () => answered(api.GET("/v1/sources/{name}", { params: { path: { name } } })), retry: false });
}

/** useOutlet reads an outlet's definition. */
export function useOutlet(name: string) {
  return useQuery({ queryKey: ["outlet", name], queryFn: () => answered(api.GET("/v1/outlets/{name}", { params: { path: { name } } })), retry: false });
}

/** useMarks reads the named places of a source's journal. */
export function useMarks(source: string) {
  return useQuery({
    queryKey: ["marks", source],
    queryFn: () => answered(api.GET("/v1/marks", { params: { query: { source } } })),
    refetchInterval: 15_000,
    select: (page) => page.items,
  });
}

/** useDestinations lists where events can go. */
export function useDestinations() {
  return useQuery({ queryKey: ["destinations"], queryFn: () => answered(api.GET("/v1/destinations")), select: (page) => page.items });
}

/** useForms lists the forms of rows that outlets share. */
export function useForms() {
  return useQuery({ queryKey: ["forms"], queryFn: () => answered(api.GET("/v1/forms")), select: (page) => page.items });
}

/** useOutletRecords lists the outlets with their definitions. */
export function useOutletRecords() {
  return useQuery({ queryKey: ["outlet-records"], queryFn: () => answered(api.GET("/v1/outlets")), select: (page) => page.items });
}

/** useKinds lists the kinds of destinations, which stay as they are while the service
 * runs. */
export function useKinds() {
  return useQuery({ queryKey: ["kinds"], queryFn: () => answered(api.GET("/v1/kinds")), staleTime: Infinity, select: (page) => page.items as Kind[] });
}

/** useEngines lists the engines that sources can be of. */
export function useEngines() {
  return useQuery({ queryKey: ["engines"], queryFn: () => answered(api.GET("/v1/engines")), staleTime: Infinity, select: (page) => page.items as Engine[] });
}

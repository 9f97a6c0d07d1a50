import { useQuery } from "@tanstack/react-query";
import type { LogEntry } from "./types";

/** Refused is an answer of the service that is a problem document. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

export async function getJSON<T>(path: string): Promise<T> {
  const response = await fetch(path, { headers: { Accept: "application/json" } });
  if (!response.ok) {
    const problem = await response.json().catch(() => ({}));
    throw new Refused(response.status, problem.detail ?? response.statusText);
  }
  return response.json();
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

/** useLog reads the newest lines of the log of the run, when something changed. */
export function useLog(limit: number, changed: unknown) {
  return useQuery({
    queryKey: ["log", limit, changed],
    queryFn: () => getJSON<{ items: LogEntry[] }>(`/v1/log?limit=${limit}`),
    placeholderData: (previous) => previous,
    select: (page) => page.items,
  });
}

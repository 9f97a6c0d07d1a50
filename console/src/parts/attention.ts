import type { OutletStatus, SourceStatus } from "../api/types";

/** attention is how much something needs a person: 0 for not at all. */
export function sourceAttention(s: SourceStatus): number {
  if (s.phase === "failed") {
    return 4;
  }
  if (s.phase === "waiting" || s.retained_log?.level === "urgent") {
    return 3;
  }
  if (s.retained_log?.level === "warning" || s.tables.some((t) => ["stale", "not-loaded", "unpublished"].includes(t.state))) {
    return 2;
  }
  return s.phase === "paused" ? 1 : 0;
}

export function outletAttention(o: OutletStatus): number {
  if (o.phase === "failed") {
    return 4;
  }
  if (o.phase === "waiting" || o.error) {
    return 3;
  }
  if (o.dead_letters > 0 || o.verified?.equal === false || o.lost_events > 0 || o.retention?.level === "lost") {
    return 2;
  }
  return o.phase === "paused" ? 1 : 0;
}

/** worstFirst sorts by what needs a person, then by how far behind, then by name. */
export const worstFirst = (outlets: OutletStatus[]) => [...outlets].sort((a, b) => outletAttention(b) - outletAttention(a) || b.behind_events - a.behind_events || a.name.localeCompare(b.name));

/** groupAttention is the most that a source or one of its outlets needs. One that was
 * paused, and needs nothing else, comes after those that run. */
export function groupAttention(s: SourceStatus, outlets: OutletStatus[]): number {
  const most = Math.max(sourceAttention(s), ...outlets.map(outletAttention));
  return most > 1 ? most : s.phase === "paused" ? -1 : 0;
}

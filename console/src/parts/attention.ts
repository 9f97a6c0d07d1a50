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

/** outletState is how an outlet stands, in one word: its phase, or incomplete where it delivers and
 * its consumer has not all tables as the source has them. */
export const outletState = (o: OutletStatus): string => (o.incomplete?.length && (o.phase === "running" || o.phase === "pull") ? "incomplete" : o.phase);

export function outletAttention(o: OutletStatus): number {
  if (o.phase === "failed") {
    return 4;
  }
  if (o.phase === "waiting" || o.error) {
    return 3;
  }
  if (o.incomplete?.length || o.dead_letters > 0 || o.verified?.equal === false || o.lost_events > 0 || o.retention?.level === "lost") {
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

/** mostNamed is how many tables are named at most. */
export const mostNamed = 5;

/** incompleteWords names the tables that an outlet's consumer has not as the source has them. */
export function incompleteWords(o: OutletStatus): string {
  const all = o.incomplete ?? [];
  const names = [...new Set(all.map((t) => t.table))];
  const more = names.length > mostNamed ? ` and ${names.length - mostNamed} more` : "";
  const maybe = all.every((t) => t.code === "unproven") ? "Maybe not" : "Not";
  return `${maybe} as the source has ${names.length === 1 ? "it" : "them"}: ${names.slice(0, mostNamed).join(", ")}${more}`;
}

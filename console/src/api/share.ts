/** share is next, with the parts of before that are the same: who looks at such a part
 * need not look again. */
export function share<T>(before: unknown, next: T): T {
  if (Object.is(before, next)) {
    return next;
  }
  if (Array.isArray(before) && Array.isArray(next)) {
    const shared = next.map((value, i) => share(before[i], value));
    return (shared.length === before.length && shared.every((value, i) => Object.is(value, before[i])) ? before : shared) as T;
  }
  if (isRecord(before) && isRecord(next)) {
    const names = Object.keys(next);
    const shared = Object.fromEntries(names.map((name) => [name, share(before[name], next[name])]));
    return (names.length === Object.keys(before).length && names.every((name) => name in before && Object.is(shared[name], before[name])) ? before : shared) as T;
  }
  return next;
}

const isRecord = (value: unknown): value is Record<string, unknown> => typeof value === "object" && value !== null && !Array.isArray(value);

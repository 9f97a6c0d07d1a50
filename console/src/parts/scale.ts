/** roundTop is the least of 1, 2 or 5 times a power of ten that is no less than high,
 * nor than least: where an axis ends. */
export function roundTop(high: number, least: number): number {
  const wanted = Math.max(high, least);
  const power = 10 ** Math.floor(Math.log10(wanted));
  return [1, 2, 5, 10].map((n) => n * power).find((top) => top >= wanted * (1 - 1e-9))!;
}

const whole = new Intl.NumberFormat("en-GB");

/** count writes a number with thousands separators. */
export const count = (n: number) => whole.format(n);

/** rate writes events a second. */
export const rate = (n: number) => (n > 0 && n < 10 ? n.toFixed(1) : whole.format(Math.round(n)));

/** bytes writes a size in the unit that fits. */
export function bytes(n: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let at = 0;
  while (n >= 1024 && at < units.length - 1) {
    n /= 1024;
    at++;
  }
  return `${at === 0 ? n : n.toFixed(1)} ${units[at]}`;
}

/** span writes a length of time given in seconds. */
export function span(seconds: number): string {
  if (seconds < 1) {
    return `${Math.round(seconds * 1000)} ms`;
  }
  if (seconds < 90) {
    return `${seconds.toFixed(1)} s`;
  }
  const minutes = Math.floor(seconds / 60);
  return minutes < 90 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit", fractionalSecondDigits: 3 });
const dayClock = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium", timeStyle: "medium" });

/** localClock is the local time of day of a moment. */
export const localClock = (moment: string) => clock.format(new Date(moment));

/** localMoment is a moment in local time. */
export const localMoment = (moment: string) => dayClock.format(new Date(moment));

/* What is usual for a blog, told from the dates of its posts: how often they come, and how many at once. */

const DAY = 86_400_000;
/** So many dates back are looked at. */
const LATEST = 40;

const dated = (dates: readonly (Date | null)[]): number[] =>
  dates
    .flatMap((date) => (date ? [date.getTime()] : []))
    .sort((a, b) => b - a)
    .slice(0, LATEST);

/** The usual time between two posts in milliseconds, at least a day: the median; null of fewer than four posts. */
export function usualGap(dates: readonly (Date | null)[]): number | null {
  const times = dated(dates);
  if (times.length < 4) return null;
  const gaps = times.slice(1).map((time, n) => times[n]! - time);
  gaps.sort((a, b) => a - b);
  return Math.max(DAY, gaps[Math.floor(gaps.length / 2)]!);
}

/** Fewer new posts than this at once are somebody's busy day, whoever writes; more than so many are never. */
const LEAST_BRAKE = 4;
const MOST_BRAKE = 50;

/** How many new posts at once are still usual: twice the most of any day so far. */
export function usualAtOnce(dates: readonly (Date | null)[]): number {
  const times = dated(dates);
  const peak = times.reduce(
    (most, time) => Math.max(most, times.filter((other) => other <= time && other > time - DAY).length),
    0,
  );
  return Math.min(MOST_BRAKE, Math.max(LEAST_BRAKE, 2 * peak));
}

/** Of the usual time between two posts, a look is one two-hundredth; a blog of which little is known is looked at seldom. */
const LOOKS_A_GAP = 200;
const SLOWEST = 6;

/** How long to wait before a feed is asked again: the pace of the installation for a busy blog, six times as long for one that seldom has a post. */
export function pollEvery(dates: readonly (Date | null)[], paceMs: number): number {
  const gap = usualGap(dates);
  return Math.round(Math.min(SLOWEST * paceMs, Math.max(paceMs, (gap ?? Number.POSITIVE_INFINITY) / LOOKS_A_GAP)));
}

/** A blog is silent that had no post for so many times the usual. */
const SILENT = 3;
/** Since when a blog is silent, as far as its own habit says: three times the usual time after its newest post; null where that is not over, or nothing is usual. */
export function silentSince(dates: readonly (Date | null)[], now: Date): Date | null {
  const gap = usualGap(dates);
  const newest = dated(dates.filter((date) => date === null || date <= now))[0];
  if (gap === null || newest === undefined) return null;
  const at = newest + SILENT * gap;
  return at <= now.getTime() ? new Date(at) : null;
}

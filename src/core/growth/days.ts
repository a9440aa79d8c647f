import { DateTime } from 'luxon';
import { type Days, dayAfter, daysTo, eachDay, type Within } from './periods';

/** The local calendar day of an instant in a zone, as YYYY-MM-DD. */
export const localDay = (at: Date, zone: string) => DateTime.fromJSDate(at, { zone }).toISODate() ?? '';

/** The `count` local days that end with the day of `until`, oldest first. */
export const lastDays = (until: Date, zone: string, count: number): string[] => eachDay(daysTo(localDay(until, zone), count));

/** The local days from that of `from` on: the columns of the runway. */
export function nextDays(from: Date, zone: string, count: number): string[] {
  const first = localDay(from, zone);
  return eachDay({ from: first, to: dayAfter(first, count - 1) });
}

/** Which days those are, where they are said by their number: so many that end today. */
export const daysWithin = (within: Within, now: Date, zone: string): Days =>
  typeof within === 'number' ? daysTo(localDay(now, zone), within) : within;

/** The moments between which these local days lie: from the first, before the second. */
export const momentsOf = ({ from, to }: Days, zone: string): { from: Date; until: Date } => ({
  from: DateTime.fromISO(from, { zone }).toJSDate(),
  until: DateTime.fromISO(to, { zone }).plus({ days: 1 }).toJSDate(),
});

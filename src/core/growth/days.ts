import { DateTime } from 'luxon';
import { type Days, daysTo, type Within } from './periods';

/** The local calendar day of an instant in a zone, as YYYY-MM-DD. */
export const localDay = (at: Date, zone: string) => DateTime.fromJSDate(at, { zone }).toISODate() ?? '';

/** The `count` local days that end with the day of `until`, oldest first. */
export function lastDays(until: Date, zone: string, count: number): string[] {
  const end = DateTime.fromJSDate(until, { zone }).startOf('day');
  return Array.from({ length: count }, (_, i) => end.minus({ days: count - 1 - i }).toISODate() ?? '');
}

/** The local days from that of `from` on: the columns of the runway. */
export function nextDays(from: Date, zone: string, count: number): string[] {
  const start = DateTime.fromJSDate(from, { zone }).startOf('day');
  return Array.from({ length: count }, (_, i) => start.plus({ days: i }).toISODate() ?? '');
}

/** Which days those are, where they are said by their number: so many that end today. */
export const daysWithin = (within: Within, now: Date, zone: string): Days =>
  typeof within === 'number' ? daysTo(localDay(now, zone), within) : within;

/** The moments between which these local days lie: from the first, before the second. */
export const momentsOf = ({ from, to }: Days, zone: string): { from: Date; until: Date } => ({
  from: DateTime.fromISO(from, { zone }).toJSDate(),
  until: DateTime.fromISO(to, { zone }).plus({ days: 1 }).toJSDate(),
});

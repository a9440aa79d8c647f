import { DateTime } from 'luxon';

/** A day as people say it, near days by their distance: "today 07:00", "yesterday 18:30", "19 Nov", "19 Nov 2025". */
export function spokenTime(at: Date, now: Date, zone: string): string {
  const then = DateTime.fromJSDate(at, { zone }).setLocale('en-GB');
  const here = DateTime.fromJSDate(now, { zone });
  const days = Math.round(here.startOf('day').diff(then.startOf('day'), 'days').days);
  if (days === 0) return `today ${then.toFormat('HH:mm')}`;
  if (days === 1) return `yesterday ${then.toFormat('HH:mm')}`;
  if (days === -1) return `tomorrow ${then.toFormat('HH:mm')}`;
  return then.toFormat(then.year === here.year ? 'd LLL' : 'd LLL yyyy');
}

/** A full moment with its zone, for titles and the small print. */
export const fullTime = (at: Date, zone: string) =>
  DateTime.fromJSDate(at, { zone }).setLocale('en-GB').toFormat("cccc, d LLLL yyyy, HH:mm '('z')'");

/** What one says to somebody at this hour of theirs. */
export function greeting(at: Date, zone: string): string {
  const { hour } = DateTime.fromJSDate(at, { zone });
  return hour < 5 || hour >= 18 ? 'Good evening' : hour < 12 ? 'Good morning' : 'Good afternoon';
}

/** "Tuesday, 24 November" */
export const longDay = (at: Date, zone: string) => DateTime.fromJSDate(at, { zone }).setLocale('en-GB').toFormat('cccc, d LLLL');

/** "Tue 24", or "1 Dec" on the first of a month. */
export function shortDay(day: string): string {
  const date = DateTime.fromISO(day, { locale: 'en-GB' });
  return date.toFormat(date.day === 1 ? 'd LLL' : 'ccc d');
}

/** "24 Nov": a day among others of a year. */
export const dayOfYear = (day: string): string => DateTime.fromISO(day, { locale: 'en-GB' }).toFormat('d LLL');

/** How long ago, roughly: "40 s ago", "4 min ago", "2 h ago", "3 days ago". */
export function ago(at: Date, now: Date): string {
  const seconds = Math.max(0, Math.round((now.getTime() - at.getTime()) / 1000));
  if (seconds < 90) return `${seconds} s ago`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 129_600) return `${Math.round(seconds / 3600)} h ago`;
  return `${Math.round(seconds / 86_400)} days ago`;
}

/** A moment as a field for a day and an hour has it (`YYYY-MM-DDTHH:MM`), by a zone's clock. */
export const localOf = (at: Date, zone: string): string => DateTime.fromJSDate(at, { zone }).toFormat("yyyy-MM-dd'T'HH:mm");

/** "Thu 08:30": the day and hour of something near. */
export const dayAndHour = (at: Date, zone: string) => DateTime.fromJSDate(at, { zone }).setLocale('en-GB').toFormat('ccc HH:mm');

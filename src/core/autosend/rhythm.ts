import { IANAZone } from 'luxon';
import { together } from '../growth/figures';
import { clockHour } from '../sending/departure';

/** Days of the week as ISO 8601 counts them, Monday first. */
export const WEEKDAYS = [1, 2, 3, 4, 5, 6, 7] as const;
export type Weekday = (typeof WEEKDAYS)[number];

/**
 * When a rule's letters leave: each post by itself, on days of the week or of the month at an hour (`HH:MM`) of the rule's zone, or whenever so many posts are
 * waiting. Daily is all seven days; the 31st is the last day of a month that has none.
 */
export type Rhythm =
  | { kind: 'each' }
  | { kind: 'days'; days: Weekday[]; hour: string }
  | { kind: 'monthly'; day: number; hour: string }
  | { kind: 'gathered'; posts: number };

const DAY_MS = 86_400_000;
/** Further ahead than this nobody looks. */
const MOST_DAYS = 800;

/** The local day of a moment, as the midnight of that day in UTC. */
const localDay = (at: Date, zone: string): number => {
  const local = at.getTime() + Math.round(IANAZone.create(zone).offset(at.getTime())) * 60_000;
  return Math.floor(local / DAY_MS) * DAY_MS;
};
const lastOfMonth = (day: Date) => new Date(Date.UTC(day.getUTCFullYear(), day.getUTCMonth() + 1, 0)).getUTCDate();

/** Is a day (the midnight of a local day, in UTC) one of the rhythm's? */
function isDay(rhythm: Extract<Rhythm, { hour: string }>, midnight: number): boolean {
  const day = new Date(midnight);
  if (rhythm.kind === 'days') return rhythm.days.includes((((day.getUTCDay() + 6) % 7) + 1) as Weekday);
  return day.getUTCDate() === Math.min(rhythm.day, lastOfMonth(day));
}

/**
 * The next runs of a rhythm after a moment, at most so many. An hour that clocks skip on a day comes as much later, one that comes twice comes once, the first time
 * (`clockHour`). None for a rhythm that has no hours.
 */
export function nextRuns(rhythm: Rhythm, zone: string, after: Date, most: number): Date[] {
  if (!('hour' in rhythm)) return [];
  const runs: Date[] = [];
  const today = localDay(after, zone);
  for (let n = 0; n < MOST_DAYS && runs.length < most; n += 1) {
    const midnight = today + n * DAY_MS;
    if (!isDay(rhythm, midnight)) continue;
    const at = clockHour(`${new Date(midnight).toISOString().slice(0, 10)}T${rhythm.hour}`, zone)?.at;
    if (at && at > after) runs.push(at);
  }
  return runs;
}

const DAY_NAMES = ['Mondays', 'Tuesdays', 'Wednesdays', 'Thursdays', 'Fridays', 'Saturdays', 'Sundays'];
const ordinal = (n: number) =>
  `${n}${n % 10 === 1 && n !== 11 ? 'st' : n % 10 === 2 && n !== 12 ? 'nd' : n % 10 === 3 && n !== 13 ? 'rd' : 'th'}`;

/** A rhythm in words that go on from "Readers get it …". */
export function rhythmWords(rhythm: Rhythm): string {
  switch (rhythm.kind) {
    case 'each':
      return 'post by post, at once';
    case 'gathered':
      return `whenever ${rhythm.posts === 1 ? 'a post is' : `${rhythm.posts} posts are`} waiting`;
    case 'monthly':
      return `on ${rhythm.day === 31 ? 'the last day' : `the ${ordinal(rhythm.day)}`} of each month at ${rhythm.hour}`;
    case 'days': {
      const days = WEEKDAYS.filter((day) => rhythm.days.includes(day));
      if (days.length === 7) return `every day at ${rhythm.hour}`;
      if (days.join() === '1,2,3,4,5') return `each weekday at ${rhythm.hour}`;
      return `on ${together(
        days.map((day) => DAY_NAMES[day - 1]!),
        7,
      )} at ${rhythm.hour}`;
    }
  }
}

import fc from 'fast-check';
import { DateTime } from 'luxon';
import { describe, expect, it } from 'vitest';
import { nextRuns, type Rhythm, rhythmWords, WEEKDAYS, type Weekday } from './rhythm';

const ZONES = [
  'Europe/Lisbon',
  'Europe/Berlin',
  'America/New_York',
  'America/St_Johns',
  'Australia/Lord_Howe',
  'Pacific/Auckland',
];
const daily = (hour: string): Rhythm => ({ kind: 'days', days: [...WEEKDAYS], hour });
const iso = (runs: Date[]) => runs.map((run) => run.toISOString());

describe('the runs of a rhythm', () => {
  it('come on their days at their hour, each after the moment that was asked', () => {
    const after = new Date('2026-11-26T07:00:00Z');
    expect(iso(nextRuns(daily('07:00'), 'Europe/Lisbon', after, 2))).toEqual([
      '2026-11-27T07:00:00.000Z',
      '2026-11-28T07:00:00.000Z',
    ]);
    expect(iso(nextRuns(daily('07:01'), 'Europe/Lisbon', after, 1))).toEqual(['2026-11-26T07:01:00.000Z']);
    const weekdays: Rhythm = { kind: 'days', days: [1, 2, 3, 4, 5], hour: '07:00' };
    expect(iso(nextRuns(weekdays, 'Europe/Lisbon', new Date('2026-11-27T08:00:00Z'), 2))).toEqual([
      '2026-11-30T07:00:00.000Z',
      '2026-12-01T07:00:00.000Z',
    ]);
    // Their Sunday is not everybody's.
    expect(iso(nextRuns({ kind: 'days', days: [7], hour: '06:00' }, 'Pacific/Auckland', after, 1))).toEqual([
      '2026-11-28T17:00:00.000Z',
    ]);
  });
  it('come on the last day of a month that has no such day', () => {
    const runs = (day: number, after: string) =>
      iso(nextRuns({ kind: 'monthly', day, hour: '09:00' }, 'UTC', new Date(after), 3));
    expect(runs(31, '2027-01-31T09:00:00Z')).toEqual([
      '2027-02-28T09:00:00.000Z',
      '2027-03-31T09:00:00.000Z',
      '2027-04-30T09:00:00.000Z',
    ]);
    expect(runs(29, '2028-02-01T00:00:00Z')[0]).toBe('2028-02-29T09:00:00.000Z');
  });
  it.each([
    // The night on which clocks go forward over it, and the one on which it comes twice.
    ['Europe/Lisbon', '01:30', '2027-03-27T12:00:00Z', ['2027-03-28T01:30:00.000Z', '2027-03-29T00:30:00.000Z']],
    ['Europe/Berlin', '02:30', '2026-10-24T12:00:00Z', ['2026-10-25T00:30:00.000Z', '2026-10-26T01:30:00.000Z']],
    ['America/New_York', '02:30', '2027-03-13T12:00:00Z', ['2027-03-14T07:30:00.000Z', '2027-03-15T06:30:00.000Z']],
    ['America/St_Johns', '01:15', '2026-10-31T12:00:00Z', ['2026-11-01T03:45:00.000Z', '2026-11-02T04:45:00.000Z']],
    ['Australia/Lord_Howe', '02:15', '2027-10-02T12:00:00Z', ['2027-10-02T15:45:00.000Z', '2027-10-03T15:15:00.000Z']],
    ['Pacific/Auckland', '02:30', '2027-04-03T00:00:00Z', ['2027-04-03T13:30:00.000Z', '2027-04-04T14:30:00.000Z']],
  ])('come once a day where clocks change: %s at %s', (zone, hour, after, runs) => {
    expect(iso(nextRuns(daily(hour), zone, new Date(after), 2))).toEqual(runs);
  });
  it('come once on each of their local days, in order, whenever they are asked for', () => {
    fc.assert(
      fc.property(
        fc.constantFrom(...ZONES),
        fc.integer({ min: 0, max: 1439 }),
        fc.uniqueArray(fc.constantFrom(...WEEKDAYS), { minLength: 1 }),
        fc.integer({ min: 0, max: 730 * 24 * 60 }),
        (zone, minute, days: Weekday[], minutes) => {
          const hour = `${String(Math.floor(minute / 60)).padStart(2, '0')}:${String(minute % 60).padStart(2, '0')}`;
          const after = new Date(Date.UTC(2026, 0, 1) + minutes * 60_000);
          const rhythm: Rhythm = { kind: 'days', days, hour };
          const runs = nextRuns(rhythm, zone, after, 10);
          expect(runs).toHaveLength(10);
          expect(runs.every((run) => run > after)).toBe(true);
          const local = runs.map((run) => DateTime.fromJSDate(run, { zone }));
          // Half an hour or an hour that is skipped shortly before midnight would come on the next day; no zone of these does that.
          expect(local.every((run) => days.includes(run.weekday as Weekday))).toBe(true);
          const day = local.map((run) => run.toISODate());
          expect(new Set(day).size).toBe(10);
          expect([...day].sort()).toEqual(day);
          // Asked from within, the rest is the same: no run is lost or doubled between two looks.
          expect(iso(nextRuns(rhythm, zone, runs[3]!, 6))).toEqual(iso(runs.slice(4)));
          expect(iso(nextRuns(rhythm, zone, new Date(runs[3]!.getTime() - 1), 1))).toEqual([runs[3]!.toISOString()]);
        },
      ),
      { numRuns: 300 },
    );
  });
  it('are none of a rhythm without an hour', () => {
    expect(nextRuns({ kind: 'each' }, 'UTC', new Date(), 5)).toEqual([]);
    expect(nextRuns({ kind: 'gathered', posts: 3 }, 'UTC', new Date(), 5)).toEqual([]);
    expect(nextRuns({ kind: 'days', days: [], hour: '07:00' }, 'UTC', new Date(), 5)).toEqual([]);
  });
});

describe('a rhythm in words', () => {
  it.each<[Rhythm, string]>([
    [{ kind: 'each' }, 'post by post, at once'],
    [daily('07:00'), 'every day at 07:00'],
    [{ kind: 'days', days: [5, 1, 2, 3, 4], hour: '07:00' }, 'each weekday at 07:00'],
    [{ kind: 'days', days: [7], hour: '09:30' }, 'on Sundays at 09:30'],
    [{ kind: 'days', days: [7, 3], hour: '09:30' }, 'on Wednesdays and Sundays at 09:30'],
    [{ kind: 'monthly', day: 1, hour: '08:00' }, 'on the 1st of each month at 08:00'],
    [{ kind: 'monthly', day: 12, hour: '08:00' }, 'on the 12th of each month at 08:00'],
    [{ kind: 'monthly', day: 22, hour: '08:00' }, 'on the 22nd of each month at 08:00'],
    [{ kind: 'monthly', day: 31, hour: '08:00' }, 'on the last day of each month at 08:00'],
    [{ kind: 'gathered', posts: 3 }, 'whenever 3 posts are waiting'],
  ])('%j: %s', (rhythm, words) => {
    expect(rhythmWords(rhythm)).toBe(words);
  });
});

import fc from 'fast-check';
import { DateTime } from 'luxon';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { clockHour, hoursIn, hourWords, momentOfDeparture, paceWords } from './departure';

afterEach(() => vi.useRealTimers());

/** Hours by clocks that go forward and back, each worked out by hand from the law of its zone. */
const FORWARD = [
  // zone, an hour that is skipped, the moment that stands for it
  ['Europe/Lisbon', '2027-03-28T01:30', '2027-03-28T01:30:00.000Z'],
  ['Europe/Berlin', '2027-03-28T02:30', '2027-03-28T01:30:00.000Z'],
  ['America/New_York', '2027-03-14T02:30', '2027-03-14T07:30:00.000Z'],
  ['America/St_Johns', '2027-03-14T02:15', '2027-03-14T05:45:00.000Z'],
  ['Australia/Lord_Howe', '2027-10-03T02:15', '2027-10-02T15:45:00.000Z'],
  ['Pacific/Auckland', '2027-09-26T02:30', '2027-09-25T14:30:00.000Z'],
] as const;
const BACK = [
  // zone, an hour that comes twice, both moments
  ['Europe/Lisbon', '2026-10-25T01:30', '2026-10-25T00:30:00.000Z', '2026-10-25T01:30:00.000Z'],
  ['Europe/Berlin', '2026-10-25T02:30', '2026-10-25T00:30:00.000Z', '2026-10-25T01:30:00.000Z'],
  ['America/New_York', '2026-11-01T01:30', '2026-11-01T05:30:00.000Z', '2026-11-01T06:30:00.000Z'],
  ['America/St_Johns', '2026-11-01T01:15', '2026-11-01T03:45:00.000Z', '2026-11-01T04:45:00.000Z'],
  ['Australia/Lord_Howe', '2027-04-04T01:45', '2027-04-03T14:45:00.000Z', '2027-04-03T15:15:00.000Z'],
  ['Pacific/Auckland', '2027-04-04T02:30', '2027-04-03T13:30:00.000Z', '2027-04-03T14:30:00.000Z'],
] as const;

describe.each(['2026-01-15T12:00:00Z', '2026-07-15T12:00:00Z'])('an hour of a clock, asked %s', (today) => {
  const asked = () => vi.useFakeTimers({ now: new Date(today), toFake: ['Date'] });
  it.each(FORWARD)('%s skips %s', (zone, local, at) => {
    asked();
    expect(clockHour(local, zone)).toEqual({ kind: 'skipped', at: new Date(at) });
    expect(hourWords(local, zone)).toContain('go forward');
  });
  it.each(BACK)('%s has %s twice', (zone, local, first, second) => {
    asked();
    expect(clockHour(local, zone)).toEqual({ kind: 'twice', at: new Date(first), second: new Date(second) });
    const departure = { when: 'at', local, zone, pace: { kind: 'at once' } } as const;
    expect(momentOfDeparture({ ...departure, fold: 'first' })).toEqual(new Date(first));
    expect(momentOfDeparture({ ...departure, fold: 'second' })).toEqual(new Date(second));
    expect(hourWords(local, zone)).toContain('comes twice');
  });
  it('is read back as it was said, wherever it comes just once', () => {
    asked();
    const zones = ['Europe/Lisbon', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu', 'Pacific/Kiritimati', 'UTC'];
    fc.assert(
      fc.property(fc.constantFrom(...zones), fc.integer({ min: 0, max: 1_051_200 }), (zone, minutes) => {
        const local = new Date(Date.UTC(2026, 0, 1) + minutes * 60_000).toISOString().slice(0, 16);
        const hour = clockHour(local, zone)!;
        const shown = (at: Date) => DateTime.fromJSDate(at, { zone }).toFormat("yyyy-MM-dd'T'HH:mm");
        if (hour.kind === 'skipped') expect(shown(hour.at) > local).toBe(true);
        else expect(shown(hour.at)).toBe(local);
        if (hour.kind === 'twice') expect([shown(hour.second), hour.second > hour.at]).toEqual([local, true]);
      }),
    );
  });
});

it('what is no hour is none', () => {
  for (const none of [
    '',
    'soon',
    '2027-02-30T09:00',
    '2027-13-01T09:00',
    '2027-01-01T24:30',
    '2027-01-01 09:00',
    '27-01-01T09:00',
  ])
    expect(clockHour(none, 'Europe/Lisbon'), none).toBeNull();
  expect(clockHour('2027-01-01T09:00', 'Mars/Olympus')).toBeNull();
  expect(hourWords('2027-01-01T09:00', 'Europe/Lisbon')).toBe('');
});

it('an hour comes in each zone by its own clock, and by the writer’s where a zone is none', () => {
  const hours = hoursIn('2026-11-24T08:00', ['Pacific/Kiritimati', 'America/New_York', 'Not/AZone'], 'Europe/Lisbon');
  expect([...hours].map(([zone, at]) => [zone, at.toISOString()])).toEqual([
    ['Pacific/Kiritimati', '2026-11-23T18:00:00.000Z'],
    ['America/New_York', '2026-11-24T13:00:00.000Z'],
    ['Not/AZone', '2026-11-24T08:00:00.000Z'],
  ]);
});

it('a pace is told in words', () => {
  expect(paceWords({ kind: 'at once' })).toBe('all at once');
  expect(paceWords({ kind: 'over hours', hours: 1 })).toBe('evenly over 1 hour');
  expect(paceWords({ kind: 'local hour' })).toBe('at that hour of each reader’s own clock');
});

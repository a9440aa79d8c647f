import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { groupsOf, samePosts } from './lanes';
import { laneRhythm, offeredLanes, usualSettings } from './rule';
import { ruleSettingsSchema } from './schemas';

describe('who needs which posts', () => {
  it('is what lies further than the lane was that they left, and was in no letter of theirs', () => {
    const changed = [
      { id: 'a', since: 0, had: new Set([1]) },
      { id: 'b', since: 1, had: new Set<number>() },
      { id: 'c', since: 3, had: new Set<number>() },
      { id: 'd', since: 0, had: new Set([1, 2, 3]) },
    ];
    expect(groupsOf(changed, [3, 1, 2])).toEqual([{ posts: [2, 3], people: ['a', 'b'] }]);
    expect(groupsOf(changed, [])).toEqual([]);
    expect([samePosts([1, 2], [1, 2]), samePosts([1], [1, 2]), samePosts([], [])]).toEqual([true, false, true]);
  });
  it('is each open place once for everybody, and nobody is in two groups', () => {
    const person = fc.record({ since: fc.nat(8), had: fc.uniqueArray(fc.nat(8)) });
    fc.assert(
      fc.property(fc.array(person, { maxLength: 12 }), fc.uniqueArray(fc.nat(8)), (people, open) => {
        const changed = people.map((one, n) => ({ id: String(n), since: one.since, had: new Set(one.had) }));
        const groups = groupsOf(changed, open);
        const placed = groups.flatMap((group) => group.people);
        expect(new Set(placed).size).toBe(placed.length);
        for (const one of changed) {
          const needs = open.filter((n) => n > one.since && !one.had.has(n)).sort((a, b) => a - b);
          const group = groups.find((other) => other.people.includes(one.id));
          expect(group?.posts ?? []).toEqual(needs);
        }
      }),
    );
  });
});

describe('what readers may choose', () => {
  const settings = { ...usualSettings('Europe/Lisbon'), choices: { daily: '07:00', weekly: { day: 7 as const, hour: '09:00' } } };
  it('is the usual, each, daily and weekly, and none twice', () => {
    expect(offeredLanes(settings).map((one) => one.lane)).toEqual(['usual', 'daily', 'weekly']);
    const daily = { ...settings, rhythm: laneRhythm(settings, 'daily')! };
    expect(offeredLanes(daily).map((one) => one.lane)).toEqual(['usual', 'each', 'weekly']);
    const monthly = { ...settings, rhythm: { kind: 'monthly' as const, day: 1, hour: '07:00' } };
    expect(offeredLanes(monthly).map((one) => one.lane)).toEqual(['usual', 'each', 'daily', 'weekly']);
    expect(offeredLanes({ ...settings, choices: null }).map((one) => one.lane)).toEqual(['usual']);
  });
  it.each<[string, object]>([
    ['an hour that is none', { choices: { daily: '24:00', weekly: { day: 7, hour: '09:00' } } }],
    ['a zone that is none', { zone: 'Europe/Nowhere' }],
    ['no day at all', { rhythm: { kind: 'days', days: [], hour: '07:00' } }],
    ['a day twice', { rhythm: { kind: 'days', days: [1, 1], hour: '07:00' } }],
    ['a line break in a subject', { subject: 'a\r\nBcc: x' }],
    ['a campaign with a space', { campaign: 'new posts' }],
    ['a NUL in a word', { including: ['a\0b'] }],
    ['no post in a letter', { most: 0 }],
    ['a rhythm of another kind', { rhythm: { kind: 'hourly' } }],
  ])('%s is refused', (_, more) => {
    expect(ruleSettingsSchema.validate(settings).error).toBeUndefined();
    expect(ruleSettingsSchema.validate({ ...settings, ...more }).error).toBeDefined();
  });
});

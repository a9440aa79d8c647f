import { describe, expect, it } from 'vitest';
import { chance } from '../../../backlot/public/chance';
import { junkRange, type Other, type SeenWeek } from './junk';

const draw = (random: () => number, n: number, p: number) => {
  let hits = 0;
  for (let k = 0; k < n; k += 1) if (random() < p) hits += 1;
  return hits;
};
/** Weeks of a provider whose readers read `habit` of what reaches them, with `junk` of the letters of the latest four weeks in junk. */
/** The weeks before, the latest, and the others at each of three providers. */
function split(all: SeenWeek[]): [SeenWeek[], SeenWeek[], Other[]] {
  const [before, latest] = [all.slice(0, -4), all.slice(-4)];
  const third = (weeks: SeenWeek[]) => ({
    readable: Math.floor(weeks.reduce((sum, { elsewhere }) => sum + elsewhere.readable, 0) / 3),
    read: Math.floor(weeks.reduce((sum, { elsewhere }) => sum + elsewhere.read, 0) / 3),
  });
  return [before, latest, Array(3).fill({ before: third(before), latest: third(latest) })];
}
function weeks(random: () => number, { n = 300, habit = 0.4, junk = 0, restless = 0.05 } = {}): SeenWeek[] {
  return Array.from({ length: 20 }, (_, week) => {
    // A letter that is liked more is so everywhere.
    const liked = 0.8 + 0.4 * random();
    const here = habit * liked * (1 + restless * (random() + random() - 1));
    const seen = (size: number, p: number) => ({ readable: size, read: draw(random, size, p) });
    return { here: seen(n, here * (week >= 16 ? 1 - junk : 1)), elsewhere: seen(3 * n, 0.45 * liked) };
  });
}

describe('how much landed in junk', () => {
  it.each([0, 0.2, 0.5, 0.9])('holds the truth in at least nine of ten cases, of %d', (junk) => {
    const random = chance(7);
    let held = 0;
    for (let n = 0; n < 100; n += 1) {
      const range = junkRange(...split(weeks(random, { junk })))!;
      if (range.low <= junk && junk <= range.high) held += 1;
      expect(range.high - range.low).toBeLessThan(0.5);
    }
    expect(held).toBeGreaterThanOrEqual(90);
  });
  it('is not told of little: few letters, few weeks, nobody elsewhere', () => {
    expect(junkRange([], [], [])).toBeNull();
    expect(junkRange(...split(weeks(chance(1), { n: 10 })))).toBeNull();
    expect(junkRange(...split(weeks(chance(1)).slice(-9)))).toBeNull();
    expect(junkRange(...split(weeks(chance(1)).map((week) => ({ ...week, elsewhere: { readable: 0, read: 0 } }))))).toBeNull();
  });
  it('is not moved by one other provider that puts letters into junk', () => {
    const [before, latest, others] = split(weeks(chance(5)));
    const junked = { before: others[0]!.before, latest: { readable: others[0]!.latest.readable, read: 40 } };
    const range = junkRange(before, latest, [...others.slice(1), junked])!;
    expect(range.low).toBe(0);
    expect(range.high).toBeGreaterThan(0);
  });
  it('stays between nothing and all, whatever is read', () => {
    for (const read of [0, 300]) {
      const range = junkRange(
        ...split(weeks(chance(3)).map((week, n) => (n < 16 ? week : { ...week, here: { readable: 300, read } }))),
      )!;
      expect(range.low).toBeGreaterThanOrEqual(0);
      expect(range.high).toBeLessThanOrEqual(1);
      expect(range.low).toBeLessThanOrEqual(range.high);
    }
  });
});

import { describe, expect, it } from 'vitest';
import { chance } from '../../../backlot/public/chance';
import { forecast, HORIZON, jumpAt, type Week, weeksToGoal } from './forecast';

const normal = (random: () => number) => Math.sqrt(-2 * Math.log(1 - random())) * Math.cos(2 * Math.PI * random());
const poisson = (random: () => number, mean: number) => Math.max(0, Math.round(mean + Math.sqrt(mean) * normal(random)));

type Kind = { drift?: number; wander?: number; season?: number; spikes?: number };
/** Weeks of a newsletter: people join at a level that drifts, wanders and has its seasons, with a spike now and then; a part of all leaves each week. */
function world(
  seed: number,
  count: number,
  { drift = 0, wander = 0, season = 0, spikes = 0 }: Kind,
): { weeks: Week[]; readers: number[] } {
  const random = chance(seed);
  let [level, readers] = [30, 500];
  const phase = 52 * random();
  const [weeks, all]: [Week[], number[]] = [[], []];
  for (let n = 0; n < count; n += 1) {
    level *= Math.exp(drift + wander * normal(random));
    const joined = poisson(
      random,
      level * (1 + season * Math.sin((2 * Math.PI * (n + phase)) / 52)) * (random() < spikes ? 4 : 1),
    );
    const left = Math.min(readers, poisson(random, readers * 0.012));
    readers += joined - left;
    weeks.push({ joined, left });
    all.push(readers);
  }
  return { weeks, readers: all };
}

describe('a forecast', () => {
  it.each([
    ['steady', {}],
    ['growing', { drift: 0.006 }],
    ['shrinking', { drift: -0.008 }],
    ['wandering', { wander: 0.05 }],
    ['with seasons', { season: 0.3 }],
    ['with spikes', { spikes: 0.04 }],
    ['with all of it', { drift: 0.004, wander: 0.04, season: 0.2, spikes: 0.03 }],
  ] as [string, Kind][])('holds what comes within its band in at least eight of ten worlds: %s', (_name, kind) => {
    let [held, all] = [0, 0];
    for (let seed = 1; seed <= 150; seed += 1) {
      const { weeks, readers } = world(seed, 78 + HORIZON, kind);
      const made = forecast(weeks.slice(0, 78), readers[77]!)!;
      for (const week of [4, 8, 13]) {
        const came = readers[77 + week]!;
        const { low, high } = made[week - 1]!;
        all += 1;
        if (low <= came && came <= high) held += 1;
      }
    }
    expect(held / all).toBeGreaterThan(0.8);
  });
  it('holds for a young newsletter too, with a band that says how little is known', () => {
    let held = 0;
    for (let seed = 1; seed <= 200; seed += 1) {
      const { weeks, readers } = world(seed, 20 + HORIZON, { wander: 0.04 });
      const made = forecast(weeks.slice(0, 20), readers[19]!)!;
      const came = readers[19 + HORIZON]!;
      if (made[HORIZON - 1]!.low <= came && came <= made[HORIZON - 1]!.high) held += 1;
    }
    expect(held / 200).toBeGreaterThan(0.8);
  });
  it('is not made of less than twelve weeks, goes on as it went, and never below nobody', () => {
    expect(forecast(Array(11).fill({ joined: 1, left: 0 }), 100)).toBeNull();
    const even = forecast(Array(40).fill({ joined: 12, left: 2 }), 1_000)!;
    expect(even.map(({ readers }) => readers)).toEqual(Array.from({ length: HORIZON }, (_, n) => 1_010 + 10 * n));
    expect(forecast(Array(40).fill({ joined: 0, left: 20 }), 50)!.every(({ low, readers }) => low >= 0 && readers >= 0)).toBe(
      true,
    );
  });
  it('says when a goal would be met', () => {
    const even = forecast(Array(40).fill({ joined: 12, left: 2 }), 1_000)!;
    expect(weeksToGoal(even, 1_000, 1_000)).toBe(0);
    expect(weeksToGoal(even, 1_000, 1_055)).toBe(6);
    expect(weeksToGoal(even, 1_000, 1_500)).toBe(50);
    expect(weeksToGoal(even, 1_000, 1_000_000)).toBeNull();
    expect(weeksToGoal(forecast(Array(40).fill({ joined: 1, left: 2 }), 1_000)!, 1_000, 1_100)).toBeNull();
  });
});

describe('what a day made of it', () => {
  const quiet = Array.from({ length: 60 }, (_, n) => 3 + (n % 2));
  it.each([
    ['nothing', quiet, 'usual'],
    ['a jump', quiet.map((n, at) => (at >= 40 ? n * 4 : n)), 'up'],
    ['a fall', quiet.map((n, at) => (at >= 40 ? 0 : n + 6)), 'down'],
  ] as const)('is %s', (_name, joined, tone) => {
    expect(jumpAt(joined, 40)?.tone).toBe(tone);
  });
  it('is not told before its week is over, nor of the first weeks', () => {
    expect(jumpAt(quiet, 54)).toBeNull();
    expect(jumpAt(quiet, 20)).toBeNull();
    expect(jumpAt(quiet, 53)).toMatchObject({ after: 25 / 7, before: 3.5 });
  });
});

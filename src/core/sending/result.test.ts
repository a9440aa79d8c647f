import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  type Counted,
  CURVE_HOURS,
  figuresOf,
  lookAgainAfter,
  median,
  readRange,
  timeLeft,
  timeLeftWords,
  upToEachHour,
  usualCurve,
} from './result';

describe('how many read a letter', () => {
  it('is what was seen, what was seen and what hides, and in between as many of those as of the others', () => {
    const range = (delivered: number, people: number, machines: number, hidden: number) =>
      readRange({ delivered, people, machines, hidden });
    // 80 of the 800 whose reading can be seen: so of the 200 others about 20.
    expect(range(1_000, 80, 200, 200)).toEqual({ least: 80, about: 100, most: 280 });
    // Fifteen of those 200 were seen to follow a link; they are of the 20, and not besides.
    expect(range(1_000, 95, 200, 185)).toEqual({ least: 95, about: 100, most: 280 });
    expect(range(1_000, 110, 200, 170)).toEqual({ least: 110, about: 110, most: 280 });
    expect(range(10, 4, 0, 0)).toEqual({ least: 4, about: 4, most: 4 });
    expect(range(0, 0, 0, 0)).toEqual({ least: 0, about: 0, most: 0 });
    expect(range(5, 0, 5, 5)).toEqual({ least: 0, about: 0, most: 5 });
    expect(range(5, 2, 5, 3)).toEqual({ least: 2, about: 2, most: 5 });
  });
  it('is never out of its own order', () => {
    const n = fc.integer({ min: 0, max: 10_000 });
    fc.assert(
      fc.property(n, n, n, n, (delivered, people, machines, hidden) => {
        const { least, about, most } = readRange({ delivered, people, machines, hidden });
        expect(least).toBeLessThanOrEqual(about);
        expect(about).toBeLessThanOrEqual(most);
      }),
    );
  });
});

describe('a letter’s first two days', () => {
  const row = (more: Partial<Counted>): Counted => ({
    variant: 0,
    delivered: true,
    waiting: false,
    back: false,
    readHour: null,
    clickHour: null,
    read: false,
    clicked: false,
    n: 1,
    ...more,
  });
  it('are added up by the hour and by version; what came later counts for its version alone', () => {
    const figures = figuresOf(
      [
        row({ n: 5 }),
        row({ readHour: 0, read: true, n: 3 }),
        row({ readHour: 2, clickHour: 3, read: true, clicked: true }),
        row({ variant: 1, readHour: CURVE_HOURS, read: true, n: 2 }),
        // A clock that was set back; a copy that came back after it was opened; a version that is none.
        row({ variant: 1, readHour: -2, read: true }),
        row({ delivered: false, back: true, readHour: 1, read: true }),
        // Called off: it came to nobody, and back from nobody.
        row({ delivered: false, n: 7 }),
        row({ variant: 9, n: 4 }),
      ],
      2,
    );
    expect(figures.reads.slice(0, 4)).toEqual([4, 1, 1, 0]);
    expect(figures.clicks.slice(0, 4)).toEqual([0, 0, 0, 1]);
    expect(figures.versions).toEqual([
      { got: 9, back: 1, read: 4, clicked: 1 },
      { got: 3, back: 0, read: 3, clicked: 0 },
    ]);
    expect(upToEachHour(figures.reads).at(-1)).toBe(6);
  });
  it('stand beside the middle of the letters before, once there are three', () => {
    const of = (...reads: number[]) => ({ delivered: 10, reads: [...reads, ...Array(CURVE_HOURS - reads.length).fill(0)] });
    expect(usualCurve([of(1), of(2)])).toBeNull();
    expect(usualCurve([of(1), of(2), { delivered: 0, reads: [] }])).toBeNull();
    expect(usualCurve([of(1, 1), of(2, 2), of(9, 1)])?.slice(0, 3)).toEqual([0.2, 0.4, 0.4]);
    expect(usualCurve([of(1, 1), of(2, 2), of(9, 1), of(0, 0)])?.slice(0, 2)[0]).toBeCloseTo(0.15);
  });
  it('have a middle', () => {
    expect([median([]), median([3]), median([9, 1]), median([5, 1, 3])]).toEqual([0, 3, 5, 3]);
  });
});

describe('how long a letter still takes', () => {
  const now = new Date('2026-11-24T12:00:00Z');
  const ago = (seconds: number) => new Date(now.getTime() - seconds * 1_000);
  /** A sample every ten seconds, at a pace a second. */
  const steady = (pace: number, seconds: number) =>
    Array.from({ length: seconds / 10 + 1 }, (_, n) => ({ at: ago(seconds - n * 10), done: n * 10 * pace }));
  it('is looked at the more often, the sooner it is over', () => {
    const after = (most: number) => lookAgainAfter({ least: 0, most });
    expect([lookAgainAfter(null), after(10), after(301), after(7_300), after(9e6)]).toEqual([2, 2, 5, 15, 15]);
  });
  it('is not known before its pace is, and nothing once nobody waits', () => {
    expect(timeLeft([], 100, null, now)).toBeNull();
    expect(timeLeft(steady(10, 10), 100, null, now)).toBeNull();
    expect(timeLeft([], 0, null, now)).toEqual({ least: 0, most: 0 });
    // It stands still.
    expect(timeLeft(steady(0, 120), 100, null, now)).toBeNull();
    // An hour ago says nothing of now; nor does what a clock that was set back left in the future.
    expect(
      timeLeft(
        steady(10, 60).map((one) => ({ ...one, at: new Date(one.at.getTime() - 3_600_000) })),
        9,
        null,
        now,
      ),
    ).toBeNull();
    expect(
      timeLeft(
        steady(10, 60).map((one) => ({ ...one, at: new Date(one.at.getTime() + 3_600_000) })),
        9,
        null,
        now,
      ),
    ).toBeNull();
  });
  it('goes by its quickest and its slowest lately', () => {
    expect(timeLeft(steady(10, 60), 600, null, now)).toEqual({ least: 60, most: 60 });
    const uneven = [
      { at: ago(60), done: 0 },
      { at: ago(40), done: 400 },
      { at: ago(20), done: 600 },
      { at: ago(0), done: 800 },
    ];
    expect(timeLeft(uneven, 1_000, null, now)).toEqual({ least: 50, most: 100 });
    // One stretch alone says little of how even it is.
    expect(timeLeft(steady(10, 20), 600, null, now)).toEqual({ least: 60, most: 90 });
  });
  it('is never over before the last copy is due', () => {
    const due = new Date(now.getTime() + 7_200_000);
    expect(timeLeft(steady(10, 60), 600, due, now)).toEqual({ least: 7_200, most: 7_200 });
  });
  it.each([
    [{ least: 0, most: 20 }, 'under a minute'],
    [{ least: 55, most: 75 }, '1 to 2 minutes'],
    [{ least: 170, most: 180 }, '2 to 3 minutes'],
    [{ least: 300, most: 300 }, 'about 5 minutes'],
    [{ least: 7_200, most: 7_200 }, 'about 2 hours'],
    [{ least: 2 * 86_400, most: 3.5 * 86_400 }, '2 to 4 days'],
  ])('is said as people say it: %j', (left, words) => {
    expect(timeLeftWords(left)).toBe(words);
  });
});

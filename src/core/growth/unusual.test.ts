import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { chance } from '../../../backlot/public/chance';
import { unusualCount, unusualShare } from './unusual';

const weeks = <T>(n: number, make: (n: number) => T): T[] => Array.from({ length: n }, (_, i) => make(i));

describe('what is unusual', () => {
  it('is not said of few weeks, or of nothing', () => {
    expect(
      unusualShare(
        weeks(7, () => ({ part: 1, whole: 100 })),
        { part: 90, whole: 100 },
        'above',
      ),
    ).toBeNull();
    expect(
      unusualShare(
        weeks(20, () => ({ part: 1, whole: 100 })),
        { part: 0, whole: 0 },
        'above',
      ),
    ).toBeNull();
    expect(
      unusualCount(
        weeks(7, () => 20),
        0,
        'below',
      ),
    ).toBeNull();
    expect(
      unusualCount(
        weeks(20, () => 0),
        0,
        'below',
      ),
    ).toBeNull();
  });

  // Reckoned by hand: of 1,000, with 1 % of each usual and no swing beyond chance, 21 or more come about once in 1,500 times, 20 or more once in 500.
  it('has its edge where chance alone would hardly lead', () => {
    const even = weeks(20, (n) => ({ part: n % 2 ? 98 : 102, whole: 10_000 }));
    expect(unusualShare(even, { part: 20, whole: 1_000 }, 'above')).toMatchObject({ is: false });
    const found = unusualShare(even, { part: 22, whole: 1_000 }, 'above')!;
    expect(found.is).toBe(true);
    expect(found.usual).toBeCloseTo(0.01, 3);
    expect(found.edge).toBeCloseTo(0.021, 2);
    // Of Poisson's twenty, six or fewer come about once in 4,000 times, eight or fewer twice in a thousand.
    const twenty = weeks(20, (n) => (n % 2 ? 18 : 22));
    expect(unusualCount(twenty, 6, 'below')).toMatchObject({ is: true });
    expect(unusualCount(twenty, 8, 'below')).toMatchObject({ is: false });
    expect(unusualCount(twenty, 36, 'above')).toMatchObject({ is: true });
  });

  it('is further off where weeks swing by themselves', () => {
    const restless = weeks(20, (n) => ({ part: n % 2 ? 30 : 170, whole: 10_000 }));
    expect(unusualShare(restless, { part: 22, whole: 1_000 }, 'above')).toMatchObject({ is: false });
    expect(
      unusualCount(
        weeks(20, (n) => (n % 2 ? 4 : 36)),
        3,
        'below',
      ),
    ).toMatchObject({ is: false });
  });

  it('does not become usual by having happened once', () => {
    const once = weeks(20, (n) => ({ part: n === 9 ? 900 : 100, whole: 10_000 }));
    expect(unusualShare(once, { part: 400, whole: 10_000 }, 'above')).toMatchObject({ is: true });
  });

  it('is seldom said where nothing changed, and nearly always where a rate is five times as high', () => {
    const random = chance(11);
    const binomial = (n: number, p: number) => weeks(n, () => Number(random() < p)).reduce((all, one) => all + one, 0);
    // Each week's own rate lies between half and one and a half of the usual.
    const week = (n: number, p: number) => ({ part: binomial(n, p * (0.5 + random())), whole: n });
    let [falsely, found] = [0, 0];
    const RUNS = 300;
    for (let run = 0; run < RUNS; run += 1) {
      const past = weeks(26, () => week(600, 0.02));
      if (unusualShare(past, week(600, 0.02), 'above')!.is) falsely += 1;
      if (unusualShare(past, { part: binomial(600, 0.1), whole: 600 }, 'above')!.is) found += 1;
    }
    expect(falsely).toBeLessThanOrEqual(0.01 * RUNS);
    expect(found).toBeGreaterThan(0.95 * RUNS);
  });

  it('is more surely said the further off something lies', () => {
    fc.assert(
      fc.property(
        fc.array(fc.record({ part: fc.nat(50), rest: fc.integer({ min: 1, max: 500_000 }) }), { minLength: 8, maxLength: 30 }),
        fc.integer({ min: 1, max: 3_000_000 }),
        fc.nat(1_000_000),
        (some, whole, raw) => {
          const past = some.map(({ part, rest }) => ({ part, whole: part + rest }));
          const part = raw % (whole + 1);
          const above = unusualShare(past, { part, whole }, 'above')!;
          expect(above.edge).toBeGreaterThanOrEqual(0);
          expect(above.edge).toBeLessThanOrEqual(1);
          if (above.is && part < whole) expect(unusualShare(past, { part: part + 1, whole }, 'above')!.is).toBe(true);
          if (above.is) expect(unusualShare(past, { part, whole }, 'below')!.is).toBe(false);
        },
      ),
      { numRuns: 60 },
    );
  });
});

import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { chance } from '../../../backlot/public/chance';
import { type Arm, chanceThatBetter, smallestGroup, verdictOf } from './subject-test';

/** How many of so many do something that each does with this chance: by leaps between those who do (geometric), which is exact. */
function drawn(got: number, rate: number, random: () => number): Arm {
  let did = 0;
  for (let at = Math.floor(Math.log(1 - random()) / Math.log(1 - rate)); at < got; did += 1)
    at += 1 + Math.floor(Math.log(1 - random()) / Math.log(1 - rate));
  return { got, did };
}
const RUNS = 2_000;

describe('how sure it is that one is better', () => {
  it('is what is worked out by hand', () => {
    // Beta(1,1) against itself; Beta(2,1) and Beta(3,1) against it: the integral of 2x·x and of 3x²·x.
    expect(chanceThatBetter({ got: 0, did: 0 }, { got: 0, did: 0 })).toBeCloseTo(1 / 2, 12);
    expect(chanceThatBetter({ got: 1, did: 1 }, { got: 0, did: 0 })).toBeCloseTo(2 / 3, 12);
    expect(chanceThatBetter({ got: 2, did: 2 }, { got: 0, did: 0 })).toBeCloseTo(3 / 4, 12);
    // Beta(2,1) against Beta(1,2): the integral of 2x·(2x - x²).
    expect(chanceThatBetter({ got: 1, did: 1 }, { got: 1, did: 0 })).toBeCloseTo(5 / 6, 12);
  });
  it('adds up to one with the contrary, grows with what was done, and is none the worse for a million', () => {
    const arm = fc
      .integer({ min: 0, max: 5_000 })
      .chain((got) => fc.record({ got: fc.constant(got), did: fc.integer({ min: 0, max: got }) }));
    fc.assert(
      fc.property(arm, arm, (a, b) => {
        expect(chanceThatBetter(a, b) + chanceThatBetter(b, a)).toBeCloseTo(1, 6);
        if (a.did < a.got)
          expect(chanceThatBetter({ ...a, did: a.did + 1 }, b)).toBeGreaterThanOrEqual(chanceThatBetter(a, b) - 1e-9);
      }),
      { numRuns: 60 },
    );
    const large = chanceThatBetter({ got: 500_000, did: 15_300 }, { got: 500_000, did: 15_000 });
    // As the normal distribution has it: 300 over the root of 30,300 · 0.97.
    expect(large).toBeGreaterThan(0.955);
    expect(large).toBeLessThan(0.962);
  });
});

describe('a test of subjects', () => {
  it.each([
    [2, 0.03, 3_000],
    [3, 0.03, 3_000],
    [4, 0.03, 3_000],
    [2, 0.35, 400],
    [4, 0.01, 800],
  ])('of %i without a difference, at %f of %i each, names a winner in at most 5 of 100', (arms, rate, got) => {
    const random = chance(arms * 1_000 + got);
    let named = 0;
    for (let run = 0; run < RUNS; run += 1)
      if (verdictOf(Array.from({ length: arms }, () => drawn(got, rate, random))).winner !== null) named += 1;
    expect(named / RUNS).toBeLessThanOrEqual(0.05);
    // Else it would never name one.
    if (arms === 2) expect(named).toBeGreaterThan(0);
  });
  it.each([
    [2, 0.03, 0.04],
    [3, 0.03, 0.04],
    [4, 0.03, 0.045],
    [2, 0.35, 0.4],
    [2, 0.01, 0.02],
  ])('of %i, with %f against %f in groups as large as it asks for, finds it in at least 80 of 100', (arms, usual, better) => {
    const got = smallestGroup({ usual, better, arms });
    const random = chance(arms * 77 + got);
    let found = 0;
    for (let run = 0; run < RUNS; run += 1) {
      const best = run % arms;
      const { winner } = verdictOf(Array.from({ length: arms }, (_, n) => drawn(got, n === best ? better : usual, random)));
      if (winner === best) found += 1;
    }
    expect(found / RUNS).toBeGreaterThanOrEqual(0.8);
    // Nor does it ask for far more than it needs.
    expect(found / RUNS).toBeLessThan(0.95);
  });
  it('asks for more where there is less to see', () => {
    const base = { usual: 0.03, better: 0.04, arms: 2 };
    expect(smallestGroup({ ...base, better: 0.035 })).toBeGreaterThan(3 * smallestGroup(base));
    expect(smallestGroup({ ...base, arms: 4 })).toBeGreaterThan(smallestGroup(base));
  });
  it('says who leads where nobody wins', () => {
    const verdict = verdictOf([
      { got: 100, did: 3 },
      { got: 100, did: 5 },
    ]);
    expect([verdict.winner, verdict.leader]).toEqual([null, 1]);
    expect(verdict.sure).toBeGreaterThan(0.5);
    expect(
      verdictOf([
        { got: 0, did: 0 },
        { got: 0, did: 0 },
      ]).winner,
    ).toBeNull();
  });
});

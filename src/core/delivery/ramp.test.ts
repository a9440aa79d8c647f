import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { LEAST_FIRST, proposeRamp, rampCeilings, spread, spreadLater } from './ramp';

const calm = { complaints: 0, bounced: 0, delivered: 500 };

describe('the ramp-up of a new domain', () => {
  it('rises step by step to the whole volume in the days it says', () => {
    const plan = proposeRamp(2_400, '2026-11-24');
    const ceilings = rampCeilings(plan, []);
    expect(ceilings[0]).toBe(48);
    expect(ceilings.at(-1)).toBe(2_400);
    expect(ceilings).toHaveLength(plan.days);
    expect(proposeRamp(300_000, '2026-11-24').days).toBeGreaterThan(plan.days - 1);
    expect(proposeRamp(5, '2026-11-24')).toMatchObject({ first: LEAST_FIRST, volume: LEAST_FIRST });
  });
  it('stands still after complaints and steps back after many', () => {
    const plan = { startedOn: '2026-11-24', first: 100, volume: 1_600, days: 5 };
    expect(rampCeilings(plan, [calm, calm])).toEqual([100, 200, 400, 800, 1_600]);
    expect(rampCeilings(plan, [calm, { ...calm, delivered: 1_000, complaints: 2 }])).toEqual([100, 200, 200, 400, 800, 1_600]);
    expect(rampCeilings(plan, [calm, calm, { ...calm, complaints: 4 }])).toEqual([100, 200, 400, 200, 400, 800, 1_600]);
    expect(rampCeilings(plan, [{ ...calm, bounced: 60 }]).slice(0, 2)).toEqual([100, 100]);
    // One complaint among a hundred letters is a person, not a pattern.
    expect(rampCeilings(plan, [{ complaints: 1, bounced: 0, delivered: 100 }])[1]).toBe(200);
  });
  it('always ends, never goes over the volume, and gives every recipient one day', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 500_000 }),
        fc.array(fc.record({ complaints: fc.nat(50), bounced: fc.nat(200), delivered: fc.nat(5_000) }), { maxLength: 30 }),
        fc.nat(600_000),
        (volume, past, recipients) => {
          const plan = proposeRamp(volume, '2026-11-24');
          const ceilings = rampCeilings(plan, past);
          expect(ceilings.length).toBeLessThanOrEqual(90);
          expect(Math.max(...ceilings)).toBeLessThanOrEqual(plan.volume);
          const shares = spread(
            recipients,
            ceilings.map((left, n) => ({ day: `d${n}`, left })),
            'after',
          );
          expect(shares.reduce((sum, share) => sum + share.count, 0)).toBe(recipients);
          for (const share of shares)
            if (share.day !== 'after') expect(share.count).toBeLessThanOrEqual(ceilings[Number(share.day.slice(1))]!);
        },
      ),
    );
  });
  it('lets nothing leave sooner than it was to, and fills no day over its ceiling', () => {
    const day = (n: number) => `d${String(n).padStart(2, '0')}`;
    expect(spread(3, [], 'after')).toEqual([{ day: 'after', count: 3 }]);
    const room = (...left: number[]) => left.map((n, at) => ({ day: day(at), left: n }));
    // Today has room for one more, and nothing that could take it.
    expect(
      spreadLater(
        new Map([
          [day(1), 20],
          [day(2), 5],
        ]),
        room(1, 13, 15),
        'after',
      ),
    ).toEqual([
      { day: day(1), count: 13 },
      { day: day(2), count: 12 },
    ]);
    fc.assert(
      fc.property(fc.array(fc.tuple(fc.nat(50), fc.integer({ min: -5, max: 40 })), { minLength: 1, maxLength: 20 }), (days) => {
        const waiting = new Map(days.map(([n], at) => [day(at), n]));
        const shares = spreadLater(waiting, room(...days.map(([, left]) => left)), 'after');
        const at = new Map(shares.map((share) => [share.day, share.count]));
        let [had, gave] = [0, 0];
        for (const [n, [waits, left]] of days.entries()) {
          had += waits;
          gave += at.get(day(n)) ?? 0;
          expect(at.get(day(n)) ?? 0).toBeLessThanOrEqual(Math.max(0, left));
          expect(gave).toBeLessThanOrEqual(had);
        }
        expect(gave + (at.get('after') ?? 0)).toBe(had);
      }),
    );
  });
});

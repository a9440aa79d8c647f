import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { degreeOf, type Heat, warmthOf } from './warmth';

const NOW = new Date('2026-11-24T09:00:00Z');
const heat = (part: Partial<Heat>): Heat => ({ got: 12, read: 0n, clicked: 0n, hidden: 0n, lastSentAt: NOW, ...part });
const all = (n: number) => (1n << BigInt(n)) - 1n;

describe('warmth', () => {
  it.each<[string, Partial<Heat>, number | null]>([
    ['nothing read', {}, 0],
    ['everything read', { read: all(12) }, 80],
    ['everything read and a link followed in each', { read: all(12), clicked: all(12) }, 100],
    ['only the newest of twelve', { read: 1n }, 12],
    ['only the oldest of twelve', { read: 1n << 11n }, 3],
    ['the newer half', { read: all(6) }, 53],
    ['the older half', { read: all(12) ^ all(6) }, 27],
    ['two letters got, which say nothing', { got: 2, read: 3n }, null],
    ['three got and read', { got: 3, read: 7n }, 80],
    ['a machine opens everything, and nobody knows', { hidden: all(12) }, null],
    ['a machine opens everything, and four links were followed', { hidden: all(12), read: 0b101101n, clicked: 0b101101n }, 100],
    ['a machine opened half, and the others were not read', { hidden: 0b101010101010n }, 0],
    ['what lies further back than two dozen letters', { got: 60, read: all(60) ^ all(24) }, 0],
    ['nothing sent for half a year', { lastSentAt: new Date('2026-05-01') }, null],
    ['never sent anything', { lastSentAt: null, got: 0 }, null],
  ])('of %s', (_, part, wanted) => expect(warmthOf(heat(part), NOW)).toBe(wanted));

  it('lies between 0 and 100, does not fall by reading one more, nor rise by leaving one more', () => {
    const bits = fc.bigInt({ min: 0n, max: (1n << 60n) - 1n });
    fc.assert(
      fc.property(fc.nat(80), bits, bits, bits, fc.nat(59), (got, read, clicked, hidden, n) => {
        const before = warmthOf(heat({ got, read, clicked, hidden }), NOW);
        const after = warmthOf(heat({ got, read: read | (1n << BigInt(n)), clicked, hidden }), NOW);
        const next = warmthOf(heat({ got: got + 1, read: read << 1n, clicked: clicked << 1n, hidden: hidden << 1n }), NOW);
        if (before === null) return;
        expect(before).toBeGreaterThanOrEqual(0);
        expect(before).toBeLessThanOrEqual(100);
        // What was passed over before and is read now may lie below the rest.
        if (!((hidden >> BigInt(n)) & 1n)) expect(after).toBeGreaterThanOrEqual(before);
        expect(next).toBeLessThanOrEqual(before + 1);
      }),
    );
    expect([100, 60, 59, 30, 29, 10, 9, 0].map((warmth) => degreeOf(warmth).word)).toEqual([
      'warm',
      'warm',
      'mild',
      'mild',
      'cool',
      'cool',
      'cold',
      'cold',
    ]);
  });
});

import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { dayAfter, daysTo, eachDay, lengthOf, lookedAt, MOST_DAYS } from './periods';

const TODAY = '2026-11-27';

describe('the days that a screen looks at', () => {
  it.each([
    [{}, { from: '2026-10-31', to: TODAY }, 'the last 28 days', { from: '2026-10-03', to: '2026-10-30' }],
    [{ days: '90' }, { from: '2026-08-30', to: TODAY }, 'the last 90 days', { from: '2026-06-01', to: '2026-08-29' }],
    [{ days: '31' }, { from: '2026-10-31', to: TODAY }, 'the last 28 days', { from: '2026-10-03', to: '2026-10-30' }],
    [
      { from: '2026-11-16', to: '2026-11-22' },
      { from: '2026-11-16', to: '2026-11-22' },
      '16 Nov 2026 to 22 Nov 2026',
      { from: '2026-11-09', to: '2026-11-15' },
    ],
    // The wrong way round, and ahead of today.
    [
      { from: '2027-05-01', to: '2026-11-20' },
      { from: '2026-11-20', to: TODAY },
      '20 Nov 2026 to 27 Nov 2026',
      { from: '2026-11-12', to: '2026-11-19' },
    ],
    [
      { from: '2026-11-16', to: '2026-11-22', vs: 'year' },
      { from: '2026-11-16', to: '2026-11-22' },
      '16 Nov 2026 to 22 Nov 2026',
      { from: '2025-11-16', to: '2025-11-22' },
    ],
    // No days.
    [
      { from: '2026-02-31', to: '2026-11-22' },
      { from: '2026-10-31', to: TODAY },
      'the last 28 days',
      { from: '2026-10-03', to: '2026-10-30' },
    ],
    [{ from: '2026-11-16' }, { from: '2026-10-31', to: TODAY }, 'the last 28 days', { from: '2026-10-03', to: '2026-10-30' }],
  ])('%j', (asked, days, words, beside) => {
    expect(lookedAt(asked, 28, TODAY)).toMatchObject({ days, words, beside });
  });

  it('are whole, none ahead, and no more than ten years, whatever an address says', () => {
    const text = fc.oneof(
      fc.string(),
      fc
        .date({ min: new Date('1000-01-01'), max: new Date('3000-01-01'), noInvalidDate: true })
        .map((d) => d.toISOString().slice(0, 10)),
    );
    fc.assert(
      fc.property(text, text, fc.constantFrom('before', 'year', 'x'), (from, to, vs) => {
        const { days, beside } = lookedAt({ from, to, vs }, 90, TODAY);
        expect(days.from <= days.to && days.to <= TODAY).toBe(true);
        expect(lengthOf(days)).toBeLessThanOrEqual(MOST_DAYS);
        expect(lengthOf(beside)).toBe(lengthOf(days));
        expect(beside.to < days.from || vs === 'year').toBe(true);
        expect(eachDay(days)).toHaveLength(lengthOf(days));
      }),
    );
  });

  it('go over months, leap days and the turn of a year', () => {
    expect(dayAfter('2024-02-28', 1)).toBe('2024-02-29');
    expect(dayAfter('2026-12-31', 1)).toBe('2027-01-01');
    expect(daysTo('2026-03-01', 2)).toEqual({ from: '2026-02-28', to: '2026-03-01' });
  });
});

import { describe, expect, it } from 'vitest';
import { pollEvery, silentSince, usualAtOnce, usualGap } from './usual';

const DAY = 86_400_000;
const NOW = new Date('2026-11-26T12:00:00Z');
const ago = (...days: number[]) => days.map((day) => new Date(NOW.getTime() - day * DAY));

describe('what is usual for a blog', () => {
  it('is the median time between its posts, at least a day, of four at least', () => {
    expect(usualGap(ago(0, 7, 14))).toBeNull();
    expect(usualGap(ago(0, 7, 14, 21))).toBe(7 * DAY);
    // One long holiday does not count.
    expect(usualGap(ago(0, 7, 14, 60, 67))).toBe(7 * DAY);
    expect(usualGap(ago(0, 0.1, 0.2, 0.3))).toBe(DAY);
    expect(usualGap([null, null, ...ago(1)])).toBeNull();
  });
  it('is twice the most of any day, and never fewer than four', () => {
    expect(usualAtOnce(ago(0, 7, 14))).toBe(4);
    expect(usualAtOnce(ago(0, 0.1, 0.2, 7))).toBe(6);
    expect(usualAtOnce(Array.from({ length: 40 }, () => NOW))).toBe(50);
    expect(usualAtOnce([])).toBe(4);
  });
  it('says how often it is looked at', () => {
    const minute = 60_000;
    expect(pollEvery([], minute)).toBe(6 * minute);
    expect(pollEvery(ago(0, 30, 60, 90), minute)).toBe(6 * minute);
    expect(pollEvery(ago(0, 1, 2, 3), 2 * minute)).toBe(432_000);
    expect(pollEvery(ago(0, 1, 2, 3), 20 * minute)).toBe(20 * minute);
  });
  it('says when it has been silent for three times as long', () => {
    expect(silentSince(ago(6, 13, 20, 27), NOW)).toBeNull();
    expect(silentSince(ago(21, 28, 35, 42), NOW)).toEqual(NOW);
    // A post that is dated ahead is not one that came.
    expect(silentSince([new Date(NOW.getTime() + DAY), ...ago(28, 35, 42, 49)], NOW)).not.toBeNull();
    expect(silentSince(ago(400), NOW)).toBeNull();
  });
});

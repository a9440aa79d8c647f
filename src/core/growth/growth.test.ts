import { readFileSync } from 'node:fs';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { isZone } from '../zones';
import { lastDays, localDay, nextDays } from './days';
import { counted, figure, percent, together } from './figures';
import { MEASURES } from './measures';
import { ago, dayAndHour, fullTime, longDay, shortDay, spokenTime } from './times';

const ZONE = 'Europe/Lisbon';
const NOW = new Date('2026-11-24T09:00:00Z');

describe('days', () => {
  it('are the zone’s own, over midnight and over the change of the clocks', () => {
    expect(localDay(new Date('2026-11-24T23:30:00Z'), 'Asia/Tokyo')).toBe('2026-11-25');
    expect(lastDays(new Date('2026-10-26T00:30:00Z'), ZONE, 3)).toEqual(['2026-10-24', '2026-10-25', '2026-10-26']);
    expect(nextDays(NOW, ZONE, 2)).toEqual(['2026-11-24', '2026-11-25']);
    expect(isZone('Europe/Lisbon')).toBe(true);
    expect(isZone('Europe/Atlantis')).toBe(false);
  });
});

describe('figures', () => {
  it('are written as people read them', () => {
    expect(figure(2418)).toBe('2,418');
    expect(counted(1, 'person', 'people')).toBe('1 person');
    expect(counted(0, 'person', 'people')).toBe('0 people');
    expect([percent(1, 0), percent(0, 5), percent(1, 1000), percent(41, 100), percent(989, 1000), percent(1, 1)]).toEqual([
      '–',
      '0%',
      '0.1%',
      '41.0%',
      '98.9%',
      '100%',
    ]);
    // More than there were to begin with: what is shown was not all that was seen, so nothing is said.
    expect(percent(6, 5)).toBe('–');
    expect([together([]), together(['a']), together(['a', 'b']), together(['a', 'b', 'c', 'd'])]).toEqual([
      '',
      'a',
      'a and b',
      'a, b and 2 more',
    ]);
  });
  it('a rate is never nothing of some and never all of not all', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 10_000_000 }), fc.integer({ min: 1, max: 10_000_000 }), (a, b) => {
        const [part, whole] = [Math.min(a, b), Math.max(a, b) + 1];
        expect(percent(part, whole)).not.toMatch(/^(0|0\.0|100|100\.0)%$/);
        expect([percent(0, whole), percent(whole, whole)]).toEqual(['0%', '100%']);
      }),
    );
  });
});

describe('measures', () => {
  it('have one word each, and stand in docs/measures.md with it', () => {
    const words = Object.values(MEASURES).map(([word]) => word);
    expect(new Set(words).size).toBe(words.length);
    const listed = readFileSync('docs/measures.md', 'utf8');
    for (const [word, meaning] of Object.values(MEASURES)) expect(listed).toContain(`| ${word} | ${meaning} |`);
  });
});

describe('times', () => {
  it('are said by their distance', () => {
    const at = (iso: string) => spokenTime(new Date(iso), NOW, ZONE);
    expect([
      at('2026-11-24T07:00:00Z'),
      at('2026-11-23T18:30:00Z'),
      at('2026-11-25T08:30:00Z'),
      at('2026-11-19T08:00:00Z'),
      at('2025-11-19T08:00:00Z'),
    ]).toEqual(['today 07:00', 'yesterday 18:30', 'tomorrow 08:30', '19 Nov', '19 Nov 2025']);
    expect(fullTime(NOW, ZONE)).toBe('Tuesday, 24 November 2026, 09:00 (Europe/Lisbon)');
    expect(longDay(NOW, ZONE)).toBe('Tuesday, 24 November');
    expect(shortDay('2026-12-01')).toBe('1 Dec');
    expect(dayAndHour(NOW, ZONE)).toBe('Tue 09:00');
    const before = (seconds: number) => ago(new Date(NOW.getTime() - seconds * 1000), NOW);
    expect([before(40), before(240), before(7200), before(300_000)]).toEqual(['40 s ago', '4 min ago', '2 h ago', '3 days ago']);
  });
});

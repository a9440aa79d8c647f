import { describe, expect, it } from 'vitest';
import { usualSettings } from './rule';
import {
  approvalWords,
  choicesWords,
  holdsWords,
  laneWords,
  mostWords,
  quietWords,
  rhythmInPlace,
  takesWords,
} from './tell-rule';

const settings = usualSettings('America/St_Johns');

describe('a rule in words', () => {
  it('says each of its parts', () => {
    expect(takesWords(settings)).toBe('on any topic');
    expect(takesWords({ topics: ['eels', 'moths'], authors: ['Mara'], including: ['lamp'], leavingOut: ['draft'] })).toBe(
      'on eels and moths by Mara with “lamp” without “draft”',
    );
    expect([0, 1, 20, 60, 240, 90].map(quietWords)).toEqual([
      'no time at all',
      '1 minute',
      '20 minutes',
      '1 hour',
      '4 hours',
      '90 minutes',
    ]);
    expect(rhythmInPlace(settings)).toBe('post by post, at once');
    expect(rhythmInPlace({ ...settings, rhythm: { kind: 'days', days: [7], hour: '09:00' } })).toBe(
      'on Sundays at 09:00 in St Johns',
    );
    expect(choicesWords({ ...settings, choices: { daily: '07:00', weekly: { day: 7, hour: '09:00' } } })).toBe(
      'unless they chose every day at 07:00 or on Sundays at 09:00',
    );
    expect(choicesWords(settings)).not.toBe('');
    expect(approvalWords(null)).toBe('by itself');
    expect(approvalWords({ hours: 1, otherwise: 'drop' })).toBe('once somebody let it go within 1 hour, or else not');
    expect(approvalWords({ hours: 12, otherwise: 'send' })).toContain('by itself');
    expect(holdsWords({ holds: 'whole', article: true })).toBe('the whole article');
    expect((['whole', 'beginning', 'summary'] as const).map((holds) => holdsWords({ holds, article: false }))).toHaveLength(3);
    expect([null, 'daily' as const].map(laneWords)).toEqual(['', ', as far as new posts come to them once a day']);
    expect(mostWords({ most: 1, rest: 'never' })).toBe('at most 1 post in a letter, the rest in none');
  });
});

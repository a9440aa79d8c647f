import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import type { Document } from '../writing/document';
import { groupSize, promiseOf, verdictWords, waitingForTest, withBeginning } from './letter-test';
import { letterTestSchema } from './schemas';

describe('the groups of a test', () => {
  it('are as large as was said, never more than there are people, and never nobody where there are enough', () => {
    expect(groupSize(1_000, 20, 2)).toBe(100);
    expect(groupSize(1_000, 100, 3)).toBe(333);
    expect(groupSize(10, 5, 2)).toBe(1);
    expect(groupSize(3, 5, 4)).toBe(0);
    fc.assert(
      fc.property(
        fc.integer({ min: 0, max: 2_000_000 }),
        fc.integer({ min: 5, max: 100 }),
        fc.integer({ min: 2, max: 4 }),
        (recipients, share, versions) => {
          const group = groupSize(recipients, share, versions);
          expect(group * versions).toBeLessThanOrEqual(recipients);
          if (recipients >= versions) expect(group).toBeGreaterThan(0);
          if (group > 1) expect(group * versions).toBeLessThanOrEqual((recipients * share) / 100);
        },
      ),
    );
  });
  it('leave the others to wait, who are never more than are still to get it', () => {
    expect(waitingForTest({ recipients: 100, waiting: 100, share: 20, versions: 2 })).toBe(80);
    expect(waitingForTest({ recipients: 100, waiting: 70, share: 20, versions: 2 })).toBe(70);
    expect(waitingForTest({ recipients: 100, waiting: 5, share: 100, versions: 2 })).toBe(0);
  });
  it('are said beforehand with what they can show', () => {
    const of = { recipients: 60_000, share: 20, versions: 2, usual: 0.04, times: 1.5, decides: 'clicks' as const };
    const enough = promiseOf(of);
    expect(enough.group).toBe(6_000);
    expect(enough.enough).toBe(true);
    expect(enough.words).toBe(
      `Each group holds 6,000 people. To tell 4.0% from 6.0% in four of five tests it takes ${new Intl.NumberFormat('en-GB').format(enough.needed!)} people each: that is enough.`,
    );
    expect(promiseOf({ ...of, recipients: 600 })).toMatchObject({ group: 60, enough: false });
    expect(promiseOf({ ...of, recipients: 600 }).words).toContain('too few');
    expect(promiseOf({ ...of, usual: null }).words).toContain('not known yet');
    expect(promiseOf({ ...of, usual: 0 }).enough).toBeNull();
    // Nothing is better than all.
    expect(promiseOf({ ...of, usual: 1, times: 2 })).toMatchObject({ needed: null, enough: false });
  });
});

describe('what came of a test', () => {
  it('is said, a doubt too', () => {
    const arms = { leader: 1, sure: 0.987 };
    expect(verdictWords({ ...arms, winner: 1 }, 'clicks', ['A', 'B'])).toBe(
      '“B” did better: it is over 98% sure that more of its readers followed a link.',
    );
    expect(verdictWords({ ...arms, winner: null }, 'opens', ['A', 'B'])).toBe(
      'No clear winner: “B” is ahead, and it is 98% sure that it is better at all.',
    );
    // Nobody is ahead of anybody.
    expect(verdictWords({ winner: null, leader: 0, sure: 0.5 }, 'clicks', ['A', 'B'])).toBe(
      'No clear winner: so far they did alike.',
    );
    expect(verdictWords({ winner: 0, leader: 0, sure: 1 }, 'opens', ['A', 'B'])).toContain('over 99% sure');
  });
});

describe('another beginning', () => {
  const p = (text: string, look?: { align: 'centre' }) => ({
    kind: 'paragraph' as const,
    inline: [{ kind: 'text' as const, text }],
    ...(look && { look }),
  });
  it('stands in the place of the first paragraph and looks like it, or before everything', () => {
    const document: Document = { version: 1, nodes: [{ kind: 'divider' }, p('One', { align: 'centre' }), p('Two')] };
    expect(withBeginning(document, 'New').nodes).toEqual([{ kind: 'divider' }, p('New', { align: 'centre' }), p('Two')]);
    expect(withBeginning({ version: 1, nodes: [{ kind: 'divider' }] }, 'New').nodes).toEqual([p('New'), { kind: 'divider' }]);
    expect(withBeginning({ version: 1, nodes: [] }, 'New').nodes).toEqual([p('New')]);
    expect(withBeginning({ version: 1, nodes: [] }, 'One\n\nTwo\n').nodes).toEqual([
      {
        kind: 'paragraph',
        inline: [{ kind: 'text', text: 'One' }, { kind: 'break' }, { kind: 'break' }, { kind: 'text', text: 'Two' }],
      },
    ]);
  });
});

describe('a test as it is said', () => {
  const said = { by: 'subject', share: 20, decides: 'clicks', hours: 4, rest: 'goes', versions: [{ subject: 'A' }] };
  it('has one to three other versions, each of one line', () => {
    expect(letterTestSchema.validate(said).error).toBeUndefined();
    for (const wrong of [
      { versions: [] },
      { versions: Array(4).fill({ subject: 'A' }) },
      { share: 4 },
      { share: 101 },
      { hours: 0 },
      { hours: 73 },
      { by: 'colour' },
      { decides: 'luck' },
    ])
      expect(letterTestSchema.validate({ ...said, ...wrong }).error).toBeDefined();
    const two = letterTestSchema.validate({ ...said, versions: [{ subject: 'A\r\nBcc: everybody@reef.example' }] }).value;
    expect(two.versions[0].subject).not.toMatch(/[\r\n]/);
  });
});

import type { Condition } from './condition';
import { rangeOf } from './warmth';

/** For how long somebody may have read nothing, to be called cold for long: in days, and in words. */
export const COLD_DAYS = [90, 180, 365] as const;
export const COLD_WORDS: Record<(typeof COLD_DAYS)[number], string> = { 90: 'three months', 180: 'half a year', 365: 'a year' };
/** Whoever got fewer letters than this has hardly been asked. */
export const LEAST_GOT = 6;
/** The last letters of each by which it is told what cleaning up would do. */
export const SHARE_OF = 10;
/** So long after a last question has left, whoever said nothing may be let go. */
export const ANSWER_DAYS = 14;

/**
 * Who reads by their standing, got letters enough, and has read none and followed no link for so many days. Whose reading cannot be seen, since machines
 * open what they get, have no warmth and are never among them.
 */
export function coldFor(days: number): Condition {
  return {
    kind: 'all',
    of: [
      { kind: 'standing', is: ['reading'] },
      { kind: 'warmth', ...rangeOf('cold') },
      { kind: 'got', least: LEAST_GOT },
      {
        kind: 'none',
        of: [
          { kind: 'came within', days },
          { kind: 'read within', days },
          { kind: 'clicked within', days },
        ],
      },
    ],
  };
}

/** Of them, who got a last question and is as cold as before. */
export const silentAfter = (letterId: string, days: number): Condition => ({
  kind: 'all',
  of: [coldFor(days), { kind: 'letter', id: letterId, what: 'got' }],
});

/** What a newsletter's readers did with the last letters that each of them got. */
export type Share = { people: number; letters: number; read: number };
/** What was counted of all and of those who were cold for so many days, at a moment. */
export type ColdCounts = {
  at: string;
  all: Share;
  cold: Record<number, Share>;
  /** Of the question that was out: who was as cold as before. */
  question: { letterId: string; silent: number } | null;
};
/** The share of them that a person read, 0 to 1; null where nobody got any. */
export const shareOf = ({ letters, read }: Share): number | null => (letters ? read / letters : null);
/** The same without some of them. */
export const without = (all: Share, some: Share): Share => ({
  people: all.people - some.people,
  letters: all.letters - some.letters,
  read: all.read - some.read,
});

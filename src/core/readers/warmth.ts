import { lowest } from './condition';

/** What warmth is worked out from: the latest letters that somebody got, one bit each, the newest lowest. */
export type Heat = {
  got: number;
  read: bigint;
  clicked: bigint;
  /** Opened by a machine, and by nobody as far as one can tell: a privacy proxy opens everything. */
  hidden: bigint;
  lastSentAt: Date | null;
};

/** So many letters back count. */
export const LETTERS = 24;
/** Of so many letters back each counts half as much as the newest. */
const HALF = 6;
/** What a letter was worth to them: a followed link is sure, an opening nearly. */
const WORTH = { clicked: 1, read: 0.8 };
/** Fewer letters than these, of which one can tell, say nothing. */
export const LEAST_KNOWN = 3;
/** Whoever was sent nothing for so long is not known any more. */
const SILENT_DAYS = 180;
const DAY_MS = 86_400_000;

/**
 * How warm somebody is, 0 to 100: the share of their latest letters that a person read, the newer the weightier. Letters that a machine alone opened are
 * passed over: they may have been read. Null where too little is known.
 */
export function warmthOf({ got, read, clicked, hidden, lastSentAt }: Heat, now: Date): number | null {
  if (!lastSentAt || now.getTime() - lastSentAt.getTime() > SILENT_DAYS * DAY_MS) return null;
  const letters = Math.min(got, LETTERS);
  let [known, sum, whole] = [0, 0, 0];
  for (let n = 0; n < letters; n += 1) {
    const is = (bits: bigint) => ((bits & lowest(LETTERS)) >> BigInt(n)) % 2n === 1n;
    const worth = is(clicked) ? WORTH.clicked : is(read) ? WORTH.read : is(hidden) ? null : 0;
    if (worth === null) continue;
    const weight = 0.5 ** (n / HALF);
    known += 1;
    sum += weight * worth;
    whole += weight;
  }
  return known < LEAST_KNOWN ? null : Math.round((sum / whole) * 100);
}

/** How warmth is called, from each figure on. */
export const DEGREES = [
  { from: 60, word: 'warm', means: 'they read most of what they get' },
  { from: 30, word: 'mild', means: 'they read now and then' },
  { from: 10, word: 'cool', means: 'they read seldom, or did long ago' },
  { from: 0, word: 'cold', means: 'they read nothing of late' },
] as const;

export type Degree = (typeof DEGREES)[number]['word'];

/** From which figure to which a warmth is called so, both within. */
export function rangeOf(word: Degree): { from: number; until: number } {
  const at = DEGREES.findIndex((degree) => degree.word === word);
  return { from: DEGREES[at]!.from, until: at === 0 ? 100 : DEGREES[at - 1]!.from - 1 };
}

/** What a warmth is called. */
export const degreeOf = (warmth: number): (typeof DEGREES)[number] =>
  DEGREES.find((degree) => warmth >= degree.from) ?? DEGREES[3];

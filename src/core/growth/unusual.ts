import { logGamma } from './rates';

/*
 * Is what just happened out of the usual, held against a newsletter's own weeks before? What swings from week to week by itself is learnt from these weeks, so
 * that a restless newsletter is not told of every swing, and a quiet one of a small change.
 */

export type Part = { part: number; whole: number };
export type Way = 'above' | 'below';
/** What is usual, from where on it is not, and is the latest? */
export type Unusual = { usual: number; edge: number; is: boolean };

/** Of fewer weeks nothing is usual yet. */
export const LEAST_WEEKS = 8;
/** What is said to be unusual would come about once in a thousand times by itself. */
const CHANCE = 0.001;
/** Beyond so many nothing is told apart that is not told apart here. */
const MOST = 200_000;

const sum = (values: readonly number[]): number => values.reduce((all, value) => all + value, 0);
/** Without the one that stands out most: that it happened once makes it no habit. */
const withoutWorst = <T>(all: readonly T[], strangeness: (one: T) => number): T[] => {
  const strange = all.map(strangeness);
  const worst = strange.indexOf(Math.max(...strange));
  return all.filter((_, n) => n !== worst);
};

/**
 * The tail of a distribution over whole numbers, given by its first probability and the ratio of each to the one before: finds from which number on (above), or up
 * to which (below), it is less likely than `CHANCE`.
 */
function edgeOf(first: number, ratio: (k: number) => number, most: number, way: Way): number {
  let log = first;
  let below = 0;
  for (let k = 0; k <= most; k += 1) {
    const here = Math.exp(log);
    if (way === 'below' && below + here >= CHANCE) return k - 1;
    below += here;
    if (way === 'above' && 1 - below < CHANCE) return k + 1;
    log += Math.log(ratio(k));
  }
  return way === 'above' ? most + 1 : most;
}

/**
 * Is a share unusually large, or small? Past weeks vary by chance and by more than chance (a beta-binomial distribution, by the method of moments). Null where too
 * few weeks are known, or there is nothing to judge.
 */
export function unusualShare(past: readonly Part[], latest: Part, way: Way): Unusual | null {
  const weeks = past.filter(({ whole }) => whole > 0);
  if (weeks.length < LEAST_WEEKS || latest.whole <= 0) return null;
  const mean = (of: readonly Part[]) => (sum(of.map(({ part }) => part)) + 0.5) / (sum(of.map(({ whole }) => whole)) + 1);
  const rough = mean(weeks);
  const kept = withoutWorst(weeks, ({ part, whole }) => (part - whole * rough) ** 2 / (whole * rough * (1 - rough)));
  const p = mean(kept);
  const q = 1 - p;
  const spread = sum(kept.map(({ part, whole }) => (part - whole * p) ** 2 - whole * p * q));
  const room = sum(kept.map(({ whole }) => whole * (whole - 1) * p * q));
  const tied = room > 0 ? Math.min(0.5, Math.max(0, spread / room)) : 0;
  // In the proportion that the largest numbers here can be told by.
  const scale = Math.min(1, MOST / latest.whole);
  const n = Math.round(latest.whole * scale);
  const part = latest.part * scale;
  let edge: number;
  if (tied < 1e-9) edge = edgeOf(n * Math.log(q), (k) => ((n - k) * p) / ((k + 1) * q), n, way);
  else {
    const both = 1 / tied - 1;
    const [a, b] = [p * both, q * both];
    const first = logGamma(n + b) + logGamma(both) - logGamma(n + both) - logGamma(b);
    edge = edgeOf(first, (k) => ((n - k) * (k + a)) / ((k + 1) * (n - k - 1 + b)), n, way);
  }
  return { usual: p, edge: Math.min(1, Math.max(0, edge / n)), is: way === 'above' ? part >= edge : part <= edge };
}

/** The same of a number of things: of people who joined, or anything that is counted (a negative binomial distribution, by the method of moments). */
export function unusualCount(past: readonly number[], latest: number, way: Way): Unusual | null {
  if (past.length < LEAST_WEEKS) return null;
  const rough = sum(past) / past.length;
  const kept = withoutWorst(past, (value) => Math.abs(value - rough));
  const mean = sum(kept) / kept.length;
  if (mean <= 0) return null;
  const scale = Math.min(1, MOST / (4 * Math.max(mean, latest)));
  const m = mean * scale;
  const variance = (sum(kept.map((value) => (value - mean) ** 2)) / (kept.length - 1)) * scale * scale;
  const most = Math.ceil(Math.max(MOST / 4, 50));
  const r = variance > m ? (m * m) / (variance - m) : Number.POSITIVE_INFINITY;
  const edge = Number.isFinite(r)
    ? edgeOf(r * Math.log(r / (r + m)), (k) => ((k + r) / (k + 1)) * (m / (m + r)), most, way)
    : edgeOf(-m, (k) => m / (k + 1), most, way);
  const value = latest * scale;
  return { usual: mean, edge: Math.max(0, edge / scale), is: way === 'above' ? value >= edge : value <= edge };
}

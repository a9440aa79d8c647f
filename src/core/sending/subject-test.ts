/*
 * Which of a letter's beginnings did better, from how many of those who got each did what decides (followed a link, or opened). A rate is not known but
 * believed, as a Beta distribution from a flat prior; a winner is named only where it is believed to beat each other one, and "no clear winner" is an answer.
 */

/** How many got one of them, and how many of those did what decides. */
export type Arm = { got: number; did: number };

/** The share of tests without any difference in which a winner may be named; a little under the twentieth that is promised, which chance takes up. */
const MISTAKEN = 0.04;
/** The share of tests with the promised difference in which it is found; a little over the four fifths that are promised. */
const FOUND = 0.83;

/** The natural logarithm of the gamma function, for arguments above 0, to some 15 digits (Lanczos, g = 7). */
function lnGamma(x: number): number {
  const weights = [
    0.99999999999980993, 676.5203681218851, -1259.1392167224028, 771.32342877765313, -176.61502916214059, 12.507343278686905,
    -0.13857109526572012, 9.9843695780195716e-6, 1.5056327351493116e-7,
  ];
  const z = x - 1;
  const sum = weights.reduce((all, weight, n) => (n === 0 ? weight : all + weight / (z + n)), 0);
  const t = z + 7.5;
  return 0.5 * Math.log(2 * Math.PI) + (z + 0.5) * Math.log(t) - t + Math.log(sum);
}
const lnBeta = (a: number, b: number) => lnGamma(a) + lnGamma(b) - lnGamma(a + b);

/** How sure it is that the first rate is above the second, 0 to 1: exactly, by the finite sum that two Beta distributions with whole parameters have. */
export function chanceThatBetter(first: Arm, second: Arm): number {
  const [a, b] = [second.did + 1, second.got - second.did + 1];
  const [c, d] = [first.did + 1, first.got - first.did + 1];
  const whole = lnBeta(a, b);
  let chance = 0;
  for (let i = 0; i < c; i += 1) chance += Math.exp(lnBeta(a + i, b + d) - Math.log(d + i) - lnBeta(1 + i, d) - whole);
  return Math.min(1, Math.max(0, chance));
}

/** The quantile of the standard normal distribution, by Acklam's rational approximation (relative error under 1.2e-9), for 0 < p < 1. */
function normalQuantile(p: number): number {
  const tail = (q: number) =>
    (((((-7.784894002430293e-3 * q - 0.3223964580411365) * q - 2.400758277161838) * q - 2.549732539343734) * q +
      4.374664141464968) *
      q +
      2.938163982698783) /
    ((((7.784695709041462e-3 * q + 0.3224671290700398) * q + 2.445134137142996) * q + 3.754408661907416) * q + 1);
  if (p < 0.02425) return tail(Math.sqrt(-2 * Math.log(p)));
  if (p > 1 - 0.02425) return -tail(Math.sqrt(-2 * Math.log(1 - p)));
  const q = p - 0.5;
  const r = q * q;
  return (
    ((((((-39.69683028665376 * r + 220.9460984245205) * r - 275.9285104469687) * r + 138.357751867269) * r - 30.66479806614716) *
      r +
      2.506628277459239) *
      q) /
    (((((-54.47609879822406 * r + 161.5858368580409) * r - 155.6989798598866) * r + 66.80131188771972) * r - 13.28068155288572) *
      r +
      1)
  );
}

/** How sure one has to be of a winner among so many, so that where none is better one is named seldom enough: whoever beats all beats any one. */
const sureOf = (arms: number) => 1 - MISTAKEN / arms;

export type Verdict = {
  /** Its place among them; null where none is clear. */
  winner: number | null;
  /** The one that did best so far, and how sure it is that it beats the one nearest to it. */
  leader: number;
  sure: number;
};

/** Which of 2 to 4 did better, if it is clear. */
export function verdictOf(arms: readonly Arm[]): Verdict {
  const rate = (arm: Arm) => (arm.did + 1) / (arm.got + 2);
  const leader = arms.reduce((best, arm, n) => (rate(arm) > rate(arms[best]!) ? n : best), 0);
  const sure = Math.min(...arms.flatMap((arm, n) => (n === leader ? [] : [chanceThatBetter(arms[leader]!, arm)])));
  return { winner: sure >= sureOf(arms.length) ? leader : null, leader, sure };
}

/**
 * The least that each of so many groups has to hold for one whose rate is `better` to be found among others at `usual`, in at least four of five tests.
 * Both are shares between 0 and 1, `better` the larger.
 */
export function smallestGroup({ usual, better, arms }: { usual: number; better: number; arms: number }): number {
  const z = normalQuantile(sureOf(arms)) + normalQuantile(1 - (1 - FOUND) / (arms - 1));
  const spread = usual * (1 - usual) + better * (1 - better);
  return Math.ceil((z * z * spread) / (better - usual) ** 2);
}

/** A share with how far it can be trusted: Wilson's 95 per cent interval, which holds for small counts too. */
export type Rate = { share: number; low: number; high: number };
const Z = 1.959964;

/** Null where there is nothing to divide by, or where the whole is not known to the last. */
export function rate(part: number, whole: number): Rate | null {
  if (whole <= 0 || part > whole) return null;
  const p = Math.min(1, Math.max(0, part / whole));
  const z2 = Z * Z;
  const middle = (p + z2 / (2 * whole)) / (1 + z2 / whole);
  const reach = (Z * Math.sqrt((p * (1 - p)) / whole + z2 / (4 * whole * whole))) / (1 + z2 / whole);
  return { share: p, low: Math.max(0, middle - reach), high: Math.min(1, middle + reach) };
}

export type Arm = { shown: number; converted: number };

export const logGamma = (x: number): number => {
  // Lanczos' approximation, good to 15 digits for x > 0.
  const c = [
    76.18009172947146, -86.50532032941678, 24.01409824083091, -1.231739572450155, 0.1208650973866179e-2, -0.5395239384953e-5,
  ];
  const t = x + 5.5 - (x + 0.5) * Math.log(x + 5.5);
  return -t + Math.log((2.5066282746310007 * c.reduce((sum, value, n) => sum + value / (x + 1 + n), 1.000000000190015)) / x);
};
const logBeta = (a: number, b: number) => logGamma(a) + logGamma(b) - logGamma(a + b);

/**
 * The probability that version b converts better than version a, given what both did (Beta-Binomial with a flat prior). Computed by
 * integrating the density of a against the distribution of b on a fine grid, so the same counts always give the same number.
 */
export function probabilityBetter(a: Arm, b: Arm): number {
  const [a1, a2] = [a.converted + 1, Math.max(0, a.shown - a.converted) + 1];
  const [b1, b2] = [b.converted + 1, Math.max(0, b.shown - b.converted) + 1];
  // The grid covers where either version can sensibly lie.
  const spread = (p: number, q: number) => ({ mean: p / (p + q), sd: Math.sqrt((p * q) / ((p + q) ** 2 * (p + q + 1))) });
  const [sa, sb] = [spread(a1, a2), spread(b1, b2)];
  const low = Math.max(0, Math.min(sa.mean - 8 * sa.sd, sb.mean - 8 * sb.sd));
  const high = Math.min(1, Math.max(sa.mean + 8 * sa.sd, sb.mean + 8 * sb.sd));
  const steps = 4_000;
  const width = (high - low) / steps;
  const density = (x: number, p: number, q: number) =>
    x <= 0 || x >= 1 ? 0 : Math.exp((p - 1) * Math.log(x) + (q - 1) * Math.log(1 - x) - logBeta(p, q));
  let below = 0;
  let massA = 0;
  let better = 0;
  for (let n = 0; n < steps; n += 1) {
    const x = low + (n + 0.5) * width;
    const pb = density(x, b1, b2) * width;
    const pa = density(x, a1, a2) * width;
    better += pb * (massA + pa / 2);
    massA += pa;
    below += pb;
  }
  return Math.min(1, Math.max(0, better / Math.max(below * massA, Number.MIN_VALUE)));
}

/** What of a provider's letters could be seen to be read, in a stretch of time: of those that it took and whose reading a machine does not hide. */
export type Seen = { readable: number; read: number };
/** One week of a provider, and of all others together. */
export type SeenWeek = { here: Seen; elsewhere: Seen };
/** What share of the letters landed in junk, as far as their reading lets that be told: within this range in nine of ten cases. */
export type JunkRange = { low: number; high: number };

/** A habit is known from so many letters on each side, over so many weeks. */
const LEAST_READABLE = 200;
const LEAST_WEEKS = 6;
/** Ninety per cent of a normal distribution lie within so many standard deviations of its middle. */
const Z = 1.6449;

const sum = (weeks: readonly SeenWeek[], side: 'here' | 'elsewhere'): Seen => ({
  readable: weeks.reduce((all, week) => all + week[side].readable, 0),
  read: weeks.reduce((all, week) => all + week[side].read, 0),
});
/** The logarithm of how much more is read here than elsewhere, and its variance by counting (delta method). */
function ratio(here: Seen, elsewhere: Seen): { log: number; variance: number } {
  // A half more on each side, so that none is nothing.
  const share = ({ readable, read }: Seen) => (read + 0.5) / (readable + 1);
  const variance = ({ readable, read }: Seen) => (1 - share({ readable, read })) / ((readable + 1) * share({ readable, read }));
  return { log: Math.log(share(here) / share(elsewhere)), variance: variance(here) + variance(elsewhere) };
}

/**
 * How much of what a provider took landed in junk, as its readers' reading suggests: whoever finds a letter in junk does not read it, so that what is read falls
 * there and nowhere else. Compared is how much is read here to how much is read everywhere else, in the latest weeks and in those before (the habit
 * of this provider's readers). Its range holds what chance does, and what the weeks before differed among themselves. Null where too little is known.
 */
export function junkRange(habitual: readonly SeenWeek[], latest: readonly SeenWeek[]): JunkRange | null {
  const before = habitual.filter(({ here, elsewhere }) => here.readable > 0 && elsewhere.readable > 0);
  const [now, then] = [latest, before].map((some) => [sum(some, 'here'), sum(some, 'elsewhere')] as const);
  if (before.length < LEAST_WEEKS || [...now!, ...then!].some(({ readable }) => readable < LEAST_READABLE)) return null;
  const current = ratio(...now!);
  const habit = ratio(...then!);
  // What the weeks differ by beyond chance (method of moments), as the latest may.
  const each = before.map(({ here, elsewhere }) => ratio(here, elsewhere));
  const weight = each.map(({ variance }) => 1 / variance);
  const all = weight.reduce((a, b) => a + b, 0);
  const middle = each.reduce((a, { log }, n) => a + log * weight[n]!, 0) / all;
  const q = each.reduce((a, { log }, n) => a + weight[n]! * (log - middle) ** 2, 0);
  const c = all - weight.reduce((a, w) => a + w * w, 0) / all;
  const restless = Math.max(0, (q - (each.length - 1)) / c);
  const read = latest.filter(({ here }) => here.readable > 0).length || 1;
  const spread = Math.sqrt(current.variance + habit.variance + restless / read + restless / each.length);
  const share = (z: number) => Math.min(1, Math.max(0, 1 - Math.exp(current.log - habit.log + z * spread)));
  return { low: share(Z), high: share(-Z) };
}

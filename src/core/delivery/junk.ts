/** What of a provider's letters could be seen to be read, in a stretch of time: of those that it took and whose reading a machine does not hide. */
export type Seen = { readable: number; read: number };
/** One week of a provider, and of all others together. */
export type SeenWeek = { here: Seen; elsewhere: Seen };
/** What was read at another provider, in the weeks before and in the latest. */
export type Other = { before: Seen; latest: Seen };
/** What share of the letters landed in junk that did not before, as far as their reading lets that be told: within this range in nine of ten cases. */
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
// A half more on each side, so that none is nothing.
const share = ({ readable, read }: Seen) => (read + 0.5) / (readable + 1);
/** The logarithm of how much more is read in one than in the other, and its variance by counting (delta method). */
function ratio(one: Seen, other: Seen): { log: number; variance: number } {
  const variance = (seen: Seen) => (1 - share(seen)) / ((seen.readable + 1) * share(seen));
  return { log: Math.log(share(one) / share(other)), variance: variance(one) + variance(other) };
}

/** The middle of some changes, each weighing as much as is known of it: one provider that puts letters into junk does not move it. */
function middleOf(changes: readonly { log: number; variance: number }[]): { log: number; variance: number } {
  const sorted = [...changes].sort((a, b) => a.log - b.log);
  const weights = sorted.map(({ variance }) => 1 / variance);
  const all = weights.reduce((a, b) => a + b, 0);
  let before = 0;
  for (const [n, weight] of weights.entries()) {
    before += weight;
    // A median is known less well than a mean, by a factor of pi / 2.
    if (before >= all / 2) return { log: sorted[n]!.log, variance: Math.PI / 2 / all };
  }
  return { log: 0, variance: 0 };
}

/**
 * How much of what a provider took landed in junk that did not before, as its readers' reading suggests: whoever finds a letter in junk does not read it, so that what is
 * read falls there and nowhere else. Compared is by how much reading changed here, from the weeks before (the habit of this provider's readers) to the latest, with
 * how it changed at the others in the middle. Its range holds what chance does, and what the weeks before differed among themselves. What always lay in junk is habit, and not
 * seen. Null where too little is known.
 */
export function junkRange(
  habitual: readonly SeenWeek[],
  latest: readonly SeenWeek[],
  others: readonly Other[],
): JunkRange | null {
  const before = habitual.filter(({ here, elsewhere }) => here.readable > 0 && elsewhere.readable > 0);
  const [now, then] = [sum(latest, 'here'), sum(before, 'here')];
  const known = others.filter((one) => Math.min(one.before.readable, one.latest.readable) >= LEAST_READABLE);
  if (before.length < LEAST_WEEKS || Math.min(now.readable, then.readable) < LEAST_READABLE || known.length === 0) return null;
  const here = ratio(now, then);
  const common = middleOf(known.map((one) => ratio(one.latest, one.before)));
  // What the weeks differ by beyond chance (method of moments), as the latest may.
  const each = before.map((week) => ratio(week.here, week.elsewhere));
  const weight = each.map(({ variance }) => 1 / variance);
  const all = weight.reduce((a, b) => a + b, 0);
  const middle = each.reduce((a, { log }, n) => a + log * weight[n]!, 0) / all;
  const q = each.reduce((a, { log }, n) => a + weight[n]! * (log - middle) ** 2, 0);
  const c = all - weight.reduce((a, w) => a + w * w, 0) / all;
  const restless = Math.max(0, (q - (each.length - 1)) / c);
  const weeks = latest.filter((week) => week.here.readable > 0).length || 1;
  const spread = Math.sqrt(here.variance + common.variance + restless / weeks + restless / each.length);
  const fallen = (z: number) => Math.min(1, Math.max(0, 1 - Math.exp(here.log - common.log + z * spread)));
  return { low: fallen(Z), high: fallen(-Z) };
}

/*
 * How many will read, if it goes on as lately; with a band that is as wide as forecasts of the same kind, made from this newsletter's own past weeks, were wrong.
 */

/** What a week changed: people who joined, less those who left. */
export type Week = { joined: number; left: number };
export type Forecast = {
  /** Weeks from now. */
  week: number;
  readers: number;
  /** In eight of ten cases it lies between these. */
  low: number;
  high: number;
};

export const HORIZON = 13;
/** From so many weeks on is forecast. */
export const LEAST_WEEKS = 12;
/** What lately was: weeks count half as much for every so many that lie before. */
const HALF_LIFE = 6;
const LOOKED_BACK = 26;
/** A band is made of at least so many forecasts that could be held against what came. */
const LEAST_ORIGINS = 10;
const FIRST_ORIGIN = 8;
/** A little more than is said, since the past is never quite like what comes. */
const COVERED = 0.85;

const net = ({ joined, left }: Week) => joined - left;

/** A usual week lately, before the week `at`: of whatever is counted by week. */
function usual(all: readonly number[], at: number): number {
  const weeks = tamed(all, at);
  let [sum, weight] = [0, 0];
  for (let n = 1; n <= Math.min(LOOKED_BACK, at); n += 1) {
    const w = 0.5 ** ((n - 1) / HALF_LIFE);
    sum += w * weeks[at - n]!;
    weight += w;
  }
  return weight ? sum / weight : 0;
}

/**
 * Weeks before `at`, with what lies far outside the others (three times their spread beyond the middle half) taken back to its edge: one guest post says little of
 * the weeks to come.
 */
function tamed(weeks: readonly number[], at: number): number[] {
  const sorted = weeks.slice(Math.max(0, at - LOOKED_BACK), at).sort((a, b) => a - b);
  const quarter = (q: number) => sorted[Math.min(sorted.length - 1, Math.round(q * (sorted.length - 1)))] ?? 0;
  const [low, high] = [quarter(0.25), quarter(0.75)];
  const room = 3 * Math.max(1, high - low);
  return weeks.slice(0, at).map((week) => Math.min(high + room, Math.max(low - room, week)));
}

/** How much goes on in a usual week before `at`: whoever comes or goes. What a forecast misses by grows with it. */
const bustle = (weeks: readonly Week[], at: number): number =>
  Math.max(
    1,
    usual(
      weeks.map(({ joined, left }) => joined + left),
      at,
    ),
  );

/** By how much came more, or less, than forecasts over `ahead` weeks said that are made in each week of the past, for each person who came or went in a week: the edges of what most of them kept. */
function missed(weeks: readonly Week[], nets: readonly number[], ahead: number): { less: number; more: number; origins: number } {
  const errors: number[] = [];
  for (let at = FIRST_ORIGIN; at + ahead <= weeks.length; at += 1) {
    let came = 0;
    for (let n = 0; n < ahead; n += 1) came += nets[at + n]!;
    errors.push((came - ahead * usual(nets, at)) / bustle(weeks, at));
  }
  errors.sort((a, b) => a - b);
  // As many of n forecasts lie within the k-th as of one more would (conformal prediction), on each side.
  const n = errors.length;
  const k = Math.max(1, Math.floor((n + 1) * ((1 - COVERED) / 2)));
  return { less: Math.max(0, -(errors[k - 1] ?? 0)), more: Math.max(0, errors[n - k] ?? 0), origins: n };
}

/**
 * Readers in each of the next thirteen weeks: as many come and go each week as lately (the last half year, the latest weeks the most). The band is what forecasts of
 * the same kind missed by when they are made from the weeks before each past week and held against those after it, measured by how much came and went; neighbouring ones share most of their weeks, so
 * that it is made wider where there are few. Null for less than twelve weeks.
 */
export function forecast(weeks: readonly Week[], readers: number): Forecast[] | null {
  if (weeks.length < LEAST_WEEKS) return null;
  const nets = weeks.map(net);
  const each = usual(nets, nets.length);
  const scale = bustle(weeks, weeks.length);
  let known = { less: 0, more: 0, ahead: 1, origins: 1 };
  return Array.from({ length: HORIZON }, (_, n) => {
    const week = n + 1;
    const found = missed(weeks, nets, week);
    if (found.origins >= LEAST_ORIGINS || week === 1) known = { ...found, ahead: week };
    // What a level that was taken wrongly misses by grows with the weeks.
    const wider = scale * (week / known.ahead) * Math.sqrt(1 + (2 * week) / Math.max(1, known.origins));
    // A side on which nothing was ever missed is not without any chance.
    const least = Math.max(1, ((known.less + known.more) / 4) * wider);
    const [less, more] = [Math.max(least, known.less * wider), Math.max(least, known.more * wider)];
    const middle = readers + week * each;
    return {
      week,
      readers: Math.max(0, Math.round(middle)),
      low: Math.max(0, Math.round(middle - less)),
      high: Math.max(0, Math.round(middle + more)),
    };
  });
}

/** The week of a forecast, from now, in which a goal would be met: counted on beyond its thirteen weeks at the same pace, up to three years; null where it would not be. */
export function weeksToGoal(made: readonly Forecast[], readers: number, goal: number): number | null {
  if (readers >= goal) return 0;
  const last = made.at(-1);
  if (!last) return null;
  const each = (last.readers - readers) / last.week;
  if (each <= 0) return null;
  const weeks = Math.ceil((goal - readers) / each);
  return weeks <= 156 ? weeks : null;
}

export type Jump = {
  /** Joined a day in the week from it on, and in the four weeks before. */
  after: number;
  before: number;
  /** Whether that is more than such a week differs by chance. */
  tone: 'up' | 'down' | 'usual';
};

/**
 * What a day made a difference to: how many joined a day in the week from it on, beside the four weeks before. It counts as one where it differs by more than twice
 * what weeks of so many differ by chance, with what they differed by beyond that lately. Null where its week is not over, or nothing is known before it.
 */
export function jumpAt(joined: readonly number[], at: number): Jump | null {
  if (at < 28 || at + 7 > joined.length) return null;
  const sum = (from: number, to: number) => joined.slice(from, to).reduce((all, n) => all + n, 0);
  const after = sum(at, at + 7);
  const weeks = [28, 21, 14, 7].map((back) => sum(at - back, at - back + 7));
  const mean = weeks.reduce((all, n) => all + n, 0) / 4;
  const variance = Math.max(mean, weeks.reduce((all, n) => all + (n - mean) ** 2, 0) / 3, 1);
  const z = (after - mean) / Math.sqrt(variance * 1.25);
  return { after: after / 7, before: mean / 7, tone: z > 2 ? 'up' : z < -2 ? 'down' : 'usual' };
}

import { counted } from '../growth/figures';

/* What became of a letter, as far as it can be known. */

export const CURVE_HOURS = 48;

/** How many people read a letter: at least those who were seen to, at most those whose reading is hidden besides, and about how many in between. */
export type ReadRange = { least: number; about: number; most: number };

/** `people` were seen to open it; for `machines` a machine opened it, and for `hidden` of them no person was seen to, so that nobody can tell. */
type Opened = { delivered: number; people: number; machines: number; hidden: number };

/**
 * Those for whom no machine opened it, and how many of them read. Of the others one sees some who followed a link, which says nothing of the rest: they are left
 * out of both, or whoever follows links would count for two.
 */
function readInSight({ delivered, people, machines, hidden }: Opened): { readable: number; read: number } {
  const readable = Math.max(0, delivered - machines);
  return { readable, read: Math.min(readable, Math.max(0, people - Math.max(0, machines - hidden))) };
}

/** About as many of those for whom a machine opened it read as of the others; no fewer than were seen to, no more than may have. */
export function readRange(opened: Opened): ReadRange {
  const { delivered, people, machines, hidden } = opened;
  const { readable, read } = readInSight(opened);
  // What came back after it was opened is delivered no more.
  const most = Math.max(people, Math.min(people + hidden, delivered));
  const about = readable > 0 ? read + (machines * read) / readable : people;
  return { least: people, about: Math.max(people, Math.min(most, Math.round(about))), most };
}

/** By the hour since a letter began, and by its versions. */
export type LetterFigures = {
  /** How many opened, and followed a link, for the first time within each hour. */
  reads: number[];
  clicks: number[];
  versions: { got: number; back: number; read: number; clicked: number }[];
};

/** One group of copies as the database counts them: hours since the letter began, null for never, or not within the curve. */
export type Counted = {
  variant: number;
  delivered: boolean;
  /** Is it still to be delivered? */
  waiting: boolean;
  /** Did it come back: bounced, refused, or given up on? */
  back: boolean;
  readHour: number | null;
  clickHour: number | null;
  read: boolean;
  clicked: boolean;
  n: number;
};

/** Adds up groups of copies. Copies that wait for the end of a test are in none. */
export function figuresOf(rows: readonly Counted[], versions: number): LetterFigures {
  const figures: LetterFigures = {
    reads: Array.from({ length: CURVE_HOURS }, () => 0),
    clicks: Array.from({ length: CURVE_HOURS }, () => 0),
    versions: Array.from({ length: versions }, () => ({ got: 0, back: 0, read: 0, clicked: 0 })),
  };
  const within = (hour: number | null): hour is number => hour !== null && hour < CURVE_HOURS;
  for (const row of rows) {
    // What was read a second before it began, by a clock that was set back, belongs to its first hour.
    if (within(row.readHour)) figures.reads[Math.max(0, row.readHour)]! += row.n;
    if (within(row.clickHour)) figures.clicks[Math.max(0, row.clickHour)]! += row.n;
    const version = figures.versions[row.variant];
    if (version && row.back) version.back += row.n;
    if (!version || !row.delivered) continue;
    version.got += row.n;
    if (row.read) version.read += row.n;
    if (row.clicked) version.clicked += row.n;
  }
  return figures;
}

/** What has come together up to the end of each hour. */
export function upToEachHour(hours: readonly number[]): number[] {
  let sum = 0;
  return hours.map((n) => {
    sum += n;
    return sum;
  });
}

/** Of letters before, hour by hour, the share of those who got one that had read it by then: the median of them; null with fewer than three. */
export function usualCurve(former: readonly { delivered: number; reads: readonly number[] }[]): number[] | null {
  const curves = former
    .filter((one) => one.delivered > 0)
    .map((one) => upToEachHour(one.reads).map((n) => Math.min(1, n / one.delivered)));
  if (curves.length < 3) return null;
  return Array.from({ length: CURVE_HOURS }, (_, hour) => median(curves.map((curve) => curve[hour] ?? 0)));
}

/** The middle one; of an even number the mean of the two in the middle. 0 of none. */
export function median(values: readonly number[]): number {
  const sorted = [...values].sort((a, b) => a - b);
  const half = sorted.length / 2;
  if (sorted.length === 0) return 0;
  return sorted.length % 2 ? sorted[Math.floor(half)]! : (sorted[half - 1]! + sorted[half]!) / 2;
}

/** How many copies were done with at a moment. */
export type Sample = { at: Date; done: number };
/** Seconds. */
export type TimeLeft = { least: number; most: number };

/** A pace is taken over this long at least; shorter ones say more of chance than of the pace. */
const SLICE_MS = 20_000;
/** What was longer ago than this says nothing of now. */
const LOOKED_BACK_MS = 15 * 60_000;

/**
 * How long a letter still takes, between its quickest and its slowest lately; null where that is not known yet. Never less than until the last of its copies
 * is due: some leave on a later day.
 */
export function timeLeft(samples: readonly Sample[], waiting: number, lastDue: Date | null, now: Date): TimeLeft | null {
  if (waiting <= 0) return { least: 0, most: 0 };
  const recent = samples.filter(({ at }) => at <= now && now.getTime() - at.getTime() <= LOOKED_BACK_MS);
  const paces: number[] = [];
  let from = recent[0];
  for (const sample of recent) {
    if (!from || sample.at.getTime() - from.at.getTime() < SLICE_MS) continue;
    paces.push((sample.done - from.done) / ((sample.at.getTime() - from.at.getTime()) / 1_000));
    from = sample;
  }
  const due = lastDue ? Math.max(0, (lastDue.getTime() - now.getTime()) / 1_000) : 0;
  const moving = paces.filter((pace) => pace > 0);
  if (moving.length === 0) return null;
  const mean = paces.reduce((sum, pace) => sum + Math.max(0, pace), 0) / paces.length;
  const quickest = Math.max(...moving);
  // One slice alone says little of how even the pace is.
  const slowest = moving.length === 1 ? mean / 1.5 : Math.min(mean, ...moving);
  return { least: Math.max(due, waiting / quickest), most: Math.max(due, waiting / slowest) };
}

/** After how many seconds a letter under way is looked at again: the longer it still takes, the less changes between two looks. */
export const lookAgainAfter = (left: TimeLeft | null): number =>
  left === null || left.most < 5 * 60 ? 2 : left.most < 2 * 3_600 ? 5 : 15;

/** "under a minute", "3 to 5 minutes", "about 2 hours", "2 to 4 days". */
export function timeLeftWords({ least, most }: TimeLeft): string {
  if (most < 60) return 'under a minute';
  const [size, one, many] =
    most < 90 * 60 ? [60, 'minute', 'minutes'] : most < 36 * 3_600 ? [3_600, 'hour', 'hours'] : [86_400, 'day', 'days'];
  const [a, b] = [Math.max(1, Math.floor(least / (size as number))), Math.max(1, Math.ceil(most / (size as number)))];
  return a === b ? `about ${counted(b, one as string, many as string)}` : `${a} to ${counted(b, one as string, many as string)}`;
}

/** How a letter under way gets on, by one of the ways that its mail takes. */
export type WayProgress = {
  way: string;
  recipients: number;
  delivered: number;
  failed: number;
  waiting: number;
  deferred: number;
};
/** How a letter under way gets on. */
export type Progress = {
  /** By the way that the mail takes; the smallest together. */
  ways: WayProgress[];
  /** Told to come again later, over all ways. */
  deferred: number;
  left: TimeLeft | null;
  /** When the last of its copies is due, where that is not now. */
  lastDue: Date | null;
};

/** The spans of days that screens look back over. */
export const PERIODS = { 28: '28 days', 90: '90 days', 365: 'a year' } as const;
export type Period = keyof typeof PERIODS;

/** The span that an address asks for, else the usual one of its screen. */
export const periodOf = (asked: string | undefined, usual: Period): Period =>
  Number(asked) in PERIODS ? (Number(asked) as Period) : usual;

/** Local calendar days (YYYY-MM-DD), both among them. */
export type Days = { from: string; to: string };
/** The latest so many days, or some days by name. */
export type Within = number | Days;

/** What a screen looks at, what it is held against, and how that is said. */
export type Looked = {
  days: Days;
  beside: Days;
  /** One of the usual spans, where it is one. */
  period: Period | null;
  against: Against;
  words: string;
};
export const AGAINST = { before: 'the days before', year: 'a year earlier' } as const;
export type Against = keyof typeof AGAINST;
/** The longest span that is looked at. */
export const MOST_DAYS = 3_660;

const ofDay = (day: string): number => Date.parse(`${day}T00:00:00Z`) / 86_400_000;
const dayOf = (n: number): string => new Date(n * 86_400_000).toISOString().slice(0, 10);
const isDay = (text: string | undefined): text is string =>
  text !== undefined && /^\d{4}-\d{2}-\d{2}$/.test(text) && !Number.isNaN(ofDay(text)) && dayOf(ofDay(text)) === text;

/** How many days these are. */
export const lengthOf = ({ from, to }: Days): number => ofDay(to) - ofDay(from) + 1;
/** So many days that end with one. */
export const daysTo = (to: string, count: number): Days => ({ from: dayOf(ofDay(to) - count + 1), to });
/** A day in so many days. */
export const dayAfter = (day: string, count: number): string => dayOf(ofDay(day) + count);
/** Each of these days. */
export const eachDay = ({ from, to }: Days): string[] =>
  Array.from({ length: lengthOf({ from, to }) }, (_, n) => dayAfter(from, n));

/**
 * The days that an address asks for, by `from` and `to` or by one of the usual spans, else those that are usual on its screen; and what they are held against: as many
 * days before, or the same days a year earlier. What is no day, lies ahead or the wrong way round is put right.
 */
export function lookedAt(asked: Record<string, string | undefined>, usual: Period, today: string): Looked {
  const against: Against = asked.vs === 'year' ? 'year' : 'before';
  const chosen = isDay(asked.from) && isDay(asked.to) ? chosenDays(asked.from, asked.to, today) : null;
  const period = chosen ? null : periodOf(asked.days, usual);
  const days = chosen ?? daysTo(today, period!);
  const length = lengthOf(days);
  const beside =
    against === 'year'
      ? { from: dayAfter(days.from, -365), to: dayAfter(days.to, -365) }
      : daysTo(dayAfter(days.from, -1), length);
  return {
    days,
    beside,
    period,
    against,
    words: period ? `the last ${PERIODS[period]}` : `${spoken(days.from)} to ${spoken(days.to)}`,
  };
}

function chosenDays(a: string, b: string, today: string): Days {
  const to = [a > b ? a : b, today].sort()[0]!;
  const from = [a < b ? a : b, to].sort()[0]!;
  return lengthOf({ from, to }) > MOST_DAYS ? daysTo(to, MOST_DAYS) : { from, to };
}

const spoken = (day: string): string =>
  new Date(`${day}T00:00:00Z`).toLocaleDateString('en-GB', { timeZone: 'UTC', day: 'numeric', month: 'short', year: 'numeric' });

import { type JunkRange, junkRange } from './junk';
import type { Reason } from './reason';

/** What became of a provider's copies in a week, or in several. */
export type Copies = {
  delivered: number;
  bounced: number;
  refused: number;
  givenUp: number;
  /** Seen to be read by a person; and opened by a machine alone. */
  read: number;
  hidden: number;
  clicked: number;
  complained: number;
};
export const NO_COPIES: Copies = {
  delivered: 0,
  bounced: 0,
  refused: 0,
  givenUp: 0,
  read: 0,
  hidden: 0,
  clicked: 0,
  complained: 0,
};
export const plus = (a: Copies, b: Copies): Copies =>
  Object.fromEntries(Object.entries(a).map(([field, n]) => [field, n + b[field as keyof Copies]])) as Copies;

/** Small providers of a letter are counted together. */
export const ELSEWHERE = 'All smaller ones';

/** The lines that the large providers publish: above the first of a thousand they look closer, above three they turn letters away. */
export const COMPLAINTS = { look: 0.001, mend: 0.003 };
/** A single complaint says nothing of a rate. */
export const FEW_COMPLAINTS = 3;
/** From so large a share that was not taken, other than for dead addresses, something is wrong. */
const REFUSED = { look: 0.02, mend: 0.1 };
/** Of so many copies that came to an end is judged. */
const LEAST_SETTLED = 20;
const JUNK = { look: 0.1, mend: 0.4 };

export type Tone = 'fine' | 'look' | 'mend' | 'know';
/** What is the matter with a provider: the worst of it. */
export type Trouble = 'refuses' | 'complaints' | 'junk' | 'dead' | 'slow';
export type Provider = {
  name: string;
  /** In their order, the latest last. */
  weeks: { week: string; copies: Copies }[];
  /** Why copies were put off and came to nothing in the latest four weeks of them. */
  reasons: { reason: Reason; putOff: number; ended: number }[];
};
export type Standing = {
  name: string;
  /** Of the weeks that are shown. */
  copies: Copies;
  settled: number;
  junk: JunkRange | null;
  tone: Tone;
  trouble: Trouble | null;
  /** How it is in words, why, and what to do. */
  state: string;
  why: string;
  todo: string;
};

export const settledOf = (copies: Copies): number => copies.delivered + copies.bounced + copies.refused + copies.givenUp;

const CAUSES: Partial<Record<Reason, [state: string, why: string, todo: string]>> = {
  reputation: [
    'Turns letters away',
    'It has a low opinion of your domain or of the address letters come from.',
    'Send to those who read for a while, and look at its own page for senders.',
  ],
  content: [
    'Takes letters for junk',
    'The words, links or pictures of letters looked like junk to it.',
    'Look through the links of the latest letter, and send yourself a proof there.',
  ],
  authentication: ['Does not believe you', 'It could not prove that letters are yours.', 'Check your domain’s records.'],
  policy: ['Turns letters away', 'Letters break one of its rules.', 'Read its words under the reasons below.'],
  slow: ['Slows you down', 'It takes fewer letters at a time than you send.', 'Nothing: letters go slower there by themselves.'],
  unreachable: ['Cannot be reached', 'Its mail servers did not answer.', 'Nothing: letters are tried again for two days.'],
};

/** Up to each week: of what was taken, whose reading nothing hides, and what of it was read. */
type Sums = { readable: number[]; read: number[] };

/** What was seen of each provider up to each week, added up once: a long tail of providers over a year of weeks is looked at from each of its weeks. */
function seenUpTo(all: readonly Provider[]) {
  const weeks = [...new Set(all.flatMap((one) => one.weeks.map(({ week }) => week)))].sort();
  const place = new Map(weeks.map((week, n) => [week, n]));
  const total: Sums = { readable: weeks.map(() => 0), read: weeks.map(() => 0) };
  const upTo = ({ readable, read }: Sums): Sums => {
    const sum = (of: number[]) => {
      const so = [0];
      for (const n of of) so.push(so.at(-1)! + n);
      return so;
    };
    return { readable: sum(readable), read: sum(read) };
  };
  const sums = new Map(
    all.map((one) => {
      const own: Sums = { readable: weeks.map(() => 0), read: weeks.map(() => 0) };
      for (const { week, copies } of one.weeks) {
        const n = place.get(week)!;
        own.readable[n]! += copies.delivered - copies.hidden;
        own.read[n]! += copies.read;
        total.readable[n]! += copies.delivered - copies.hidden;
        total.read[n]! += copies.read;
      }
      return [one, upTo(own)];
    }),
  );
  const every = upTo(total);
  const less = (both: number[], own: number[]) => both.map((n, at) => n - own[at]!);
  return {
    weeks,
    seen: new Map(
      [...sums].map(([one, here]) => [
        one,
        { here, elsewhere: { readable: less(every.readable, here.readable), read: less(every.read, here.read) } },
      ]),
    ),
  };
}
/** By the providers that are held against each other, for as long as they are. */
const summed = new WeakMap<readonly Provider[], ReturnType<typeof seenUpTo>>();

/** What of a provider's letters landed in junk in the weeks from one to another that did not before, against all others. */
function junkOf(provider: Provider, all: readonly Provider[], first: string, last: string): JunkRange | null {
  const known = summed.get(all) ?? seenUpTo(all);
  summed.set(all, known);
  const { weeks, seen } = known;
  const own = seen.get(provider);
  if (!own) return null;
  const between = (of: Sums, from: number, to: number) => ({
    readable: Math.max(0, of.readable[to]! - of.readable[from]!),
    read: of.read[to]! - of.read[from]!,
  });
  const begins = weeks.findIndex((week) => week >= first);
  const from = begins < 0 ? weeks.length : begins;
  const to = weeks.filter((week) => week <= last).length;
  const each = (low: number, high: number) =>
    Array.from({ length: Math.max(0, high - low) }, (_, n) => ({
      here: between(own.here, low + n, low + n + 1),
      elsewhere: between(own.elsewhere, low + n, low + n + 1),
    }));
  return junkRange(
    each(0, from),
    each(from, to),
    [...seen].flatMap(([other, { here }]) =>
      other === provider ? [] : [{ before: between(here, 0, from), latest: between(here, from, Math.max(from, to)) }],
    ),
  );
}

/** A range of what landed in junk, in words. */
export function junkWords(junk: JunkRange | null): string {
  if (junk === null) return 'too little known';
  const whole = (share: number) => Math.round(100 * share);
  if (junk.low >= 0.01) return `${whole(junk.low)} to ${whole(junk.high)}%`;
  return junk.high < 0.1 ? 'no sign of it' : `at most ${whole(junk.high)}%`;
}

/**
 * How one provider treats letters now: from what became of the copies of the latest four weeks there, and of all others' elsewhere (from the week `lately` on). Its
 * worst trouble is said, with the one thing to do. Copies are of the weeks from `shown` on; what is before tells what its readers' habit is.
 */
export function standingOf(
  provider: Provider,
  all: readonly Provider[],
  { shown, lately }: { shown: string; lately: string },
): Standing {
  const from = (first: string) =>
    provider.weeks
      .filter(({ week }) => week >= first)
      .map((week) => week.copies)
      .reduce(plus, NO_COPIES);
  const [whole, copies] = [from(shown), from(lately)];
  const settled = settledOf(copies);
  const junk = junkOf(provider, all, lately, '9999');
  const base = { name: provider.name, copies: whole, settled: settledOf(whole), junk };
  const said = (tone: Tone, trouble: Trouble | null, state: string, why: string, todo: string): Standing => ({
    ...base,
    tone,
    trouble,
    state,
    why,
    todo,
  });
  if (settled < LEAST_SETTLED)
    return said('know', null, 'Too little to say', 'Fewer than 20 copies of the last four weeks went there.', 'Nothing.');
  const blocked = provider.reasons
    .filter(({ reason }) => reason in CAUSES && reason !== 'slow')
    .sort((a, b) => b.ended - a.ended)[0];
  const share = (blocked?.ended ?? 0) / settled;
  if (blocked && share >= REFUSED.look) {
    const [state, why, todo] = CAUSES[blocked.reason]!;
    return said(share >= REFUSED.mend ? 'mend' : 'look', 'refuses', state, why, todo);
  }
  const complaints = copies.complained >= FEW_COMPLAINTS ? copies.complained / Math.max(1, copies.delivered) : 0;
  if (complaints >= COMPLAINTS.look)
    return said(
      complaints >= COMPLAINTS.mend ? 'mend' : 'look',
      'complaints',
      'Readers complain',
      `${complaints >= COMPLAINTS.mend ? 'More than three' : 'More than one'} of a thousand reported a letter as junk.`,
      'Ask those who have long read nothing whether they stay, and look at where complainers came from.',
    );
  if (junk && junk.low >= JUNK.look)
    return said(
      junk.low >= JUNK.mend ? 'mend' : 'look',
      'junk',
      'Puts letters into junk',
      'Its readers read less than they used to, and readers elsewhere do not.',
      'Ask readers there to answer one letter, or to move it out of junk: both teach the provider.',
    );
  if (copies.bounced / settled >= REFUSED.look * 2)
    return said(
      'look',
      'dead',
      'Many dead addresses',
      'Many mailboxes there do not exist.',
      'Look at where these addresses came from; an old list that was brought is the usual cause.',
    );
  const slow = provider.reasons.find(({ reason }) => reason === 'slow');
  if ((slow?.putOff ?? 0) > settled / 2) return said('look', 'slow', ...CAUSES.slow!);
  return said('fine', null, 'Takes your letters', 'Nearly all of them are taken, and few complain.', 'Nothing.');
}

/** One reason, over all providers of some days. */
export type ReasonView = {
  reason: Reason;
  putOff: number;
  ended: number;
  /** The servers' own words, the most frequent of the latest, with what share of them said so. */
  words: { example: string; share: number }[];
};

/** A provider week by week: what became of copies there, how many were put off because it was asked too much of, and what landed in junk then and in the four weeks before. */
export type ProviderLine = { name: string; weeks: { week: string; copies: Copies; putOff: number; junk: JunkRange | null }[] };

/** So many are drawn, the largest. */
export const MOST_DRAWN = 5;
/** The Monday from which on a provider is told by its letters: four whole weeks, and the one of `week` as far as it has come. */
export const latelyOf = (week: string): string => new Date(Date.parse(week) - 28 * 86_400_000).toISOString().slice(0, 10);

/** What landed in junk at one provider, week by week from one on: each as it is told by the weeks up to it, and what its readers' habit was before these. */
export function junkByWeek(provider: Provider, all: readonly Provider[], since: string): Map<string, JunkRange | null> {
  return new Map(
    provider.weeks.flatMap(({ week }) => (week >= since ? [[week, junkOf(provider, all, latelyOf(week), week)]] : [])),
  );
}

const perCent = (part: number, whole: number): number | null => (whole > 0 ? Number(((100 * part) / whole).toFixed(2)) : null);

/** What of a provider is looked at over time: a share of its copies, in per cent, or null where there were none; with what is counted. */
export const OVER_TIME = {
  taken: {
    word: 'Taken',
    note: 'Of the copies that came to an end, how many each provider took. A copy that was put off and taken later counts as taken. By the week in which their letter began.',
    of: ({ copies }) => perCent(copies.delivered, settledOf(copies)),
  },
  slow: {
    word: 'Put off',
    note: 'For each hundred copies that came to an end, how often one was put off because the provider took fewer at a time, or wanted it sent again: by the week in which it said so. Weeks in which no letter began are not drawn.',
    of: ({ copies, putOff }) => perCent(putOff, settledOf(copies)),
  },
  away: {
    word: 'Turned away',
    note: 'Of the copies that came to an end, how many were refused, or given up on, for other causes than a dead mailbox. By the week in which their letter began.',
    of: ({ copies }) => perCent(copies.refused + copies.givenUp, settledOf(copies)),
  },
  dead: {
    word: 'Bounced',
    note: 'Of the copies that came to an end, how many went to mailboxes that do not exist any more, or stay full. By the week in which their letter began.',
    of: ({ copies }) => perCent(copies.bounced, settledOf(copies)),
  },
  complaints: {
    word: 'Complaints',
    note: 'Of the copies that were taken, how many their readers reported as junk. Large providers look closer above 0.1%, and turn letters away above 0.3%. By the week in which their letter began.',
    of: ({ copies }) => perCent(copies.complained, copies.delivered),
  },
  read: {
    word: 'Read',
    note: 'Of the copies whose reading can be seen, how many a person opened. Where it falls at one provider and at no other, letters have likely landed in junk. Letters of the last days are still being read. By the week in which their letter began.',
    of: ({ copies }) => perCent(copies.read, Math.max(0, copies.delivered - copies.hidden)),
  },
  junk: {
    word: 'In junk',
    note: 'Of what was taken, how much landed in junk that did not before, as what its readers read suggests against readers elsewhere: in each week and the four before it. Drawn is the least of it, the table has the whole range, which holds what was so in nine of ten cases. What always lay there cannot be seen.',
    of: ({ junk }) => junk && perCent(junk.low, 1),
    said: ({ junk }) => junkWords(junk),
  },
} as const satisfies Record<string, Looked>;
type Looked = {
  word: string;
  note: string;
  of: (week: ProviderLine['weeks'][number]) => number | null;
  /** Where a share is not all that is known. */
  said?: (week: ProviderLine['weeks'][number]) => string;
};
export type OverTime = keyof typeof OVER_TIME;

/** The shares of each provider in each of these weeks, in per cent, or null where nothing was sent; and as they are said, with so many digits. */
export function sharesOverTime(
  lines: readonly ProviderLine[],
  weeks: readonly string[],
  what: OverTime,
  digits: number,
): { share: number | null; said: string }[][] {
  const { of, said }: Looked = OVER_TIME[what];
  return lines.map((line) => {
    const by = new Map(line.weeks.map((week) => [week.week, week]));
    return weeks.map((week) => {
      const found = by.get(week);
      const share = found ? of(found) : null;
      return { share, said: found && said ? said(found) : share === null ? '–' : `${share.toFixed(digits)}%` };
    });
  });
}

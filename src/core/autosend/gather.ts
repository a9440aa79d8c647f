import { fullTime } from '../growth/times';
import { plainText } from '../writing/plain-line';
import type { LetterWords } from '../writing/words';
import { nextRuns, type Rhythm } from './rhythm';

/* Which posts the next run of a rule holds, and why each other one is not in it. The same decides what a run sends and what is shown beforehand. */

/** A post as a lane of a rule knows it. */
export type Gathered = {
  key: string;
  /** Its place in the row of ready posts, where it has one: then it has stood unchanged once, and what is edited since is taken as it is. */
  place: number | null;
  /** Those that somebody let go together are one letter, at whatever rhythm. */
  bundle: string | null;
  title: string;
  topics: readonly string[];
  author: string;
  /** What it says, as plain text: words are looked for in it and in its title. */
  words: string;
  publishedAt: Date | null;
  /** When it was seen first, and when it was last seen to have changed. */
  seenAt: Date;
  changedAt: Date;
  state: 'before' | 'waiting' | 'held' | 'skipped' | 'sent' | 'left out' | 'no match';
  /** Does it stand in its source no more? */
  gone: boolean;
};

/** What a rule takes of its source, and how much of it goes into one letter. */
export type Gathering = {
  /** Any of these, by any of these; everything where there are none. Small and large letters are one. */
  topics: readonly string[];
  authors: readonly string[];
  /** With any of these words, and without each of those. */
  including: readonly string[];
  leavingOut: readonly string[];
  /** So long a post has to stand unchanged, for its writer's last edits. */
  quietMs: number;
  /** At most so many posts in one letter; the oldest go first, and the rest goes into the next one, or never. */
  most: number;
  rest: 'next' | 'never';
};

export type Fate =
  | 'in'
  | 'before'
  | 'sent'
  | 'left out'
  | 'held'
  | 'skipped'
  | 'gone'
  | 'no match'
  | 'ahead'
  | 'editing'
  | 'over';
export type Judged = { post: Gathered; fate: Fate; until: Date | null };

const same = (a: string, b: string) => a.trim().toLowerCase() === b.trim().toLowerCase();
const matches = (post: Gathered, of: Gathering): boolean => {
  const text = `${post.title}\n${post.words}`.toLowerCase();
  const says = (word: string) => word.trim() !== '' && text.includes(word.trim().toLowerCase());
  return (
    (of.topics.length === 0 || post.topics.some((topic) => of.topics.some((one) => same(one, topic)))) &&
    (of.authors.length === 0 || of.authors.some((one) => same(one, post.author))) &&
    (of.including.length === 0 || of.including.some(says)) &&
    !of.leavingOut.some(says)
  );
};

export function fateOf(post: Gathered, of: Gathering, at: Date): Omit<Judged, 'post'> {
  if (post.state !== 'waiting') return { fate: post.state, until: null };
  if (post.gone) return { fate: 'gone', until: null };
  if (!matches(post, of)) return { fate: 'no match', until: null };
  if (post.publishedAt && post.publishedAt > at) return { fate: 'ahead', until: post.publishedAt };
  if (post.place !== null) return { fate: 'in', until: null };
  const quiet = new Date(post.changedAt.getTime() + of.quietMs);
  return quiet > at ? { fate: 'editing', until: quiet } : { fate: 'in', until: null };
}

/**
 * Every post with what becomes of it in a run at a moment; those that are in stand first, in the order of their places, then of their age, then as they are given. `alone`: each post is a
 * letter of its own, but for those of one bundle.
 */
export function gather(posts: readonly Gathered[], of: Gathering, at: Date, alone = false): Judged[] {
  const age = ({ post }: Judged) => (post.publishedAt ?? post.seenAt).getTime();
  const judged = posts.map((post) => ({ post, ...fateOf(post, of, at) }));
  const place = ({ post }: Judged) => post.place ?? Number.MAX_SAFE_INTEGER;
  const ready = judged.filter((one) => one.fate === 'in').sort((a, b) => place(a) - place(b) || age(a) - age(b));
  const first = ready[0]?.post.bundle ?? null;
  const together = first === null ? 1 : ready.findIndex((one) => one.post.bundle !== first);
  const most = alone ? (together < 0 ? ready.length : together) : of.most;
  return [
    ...ready.slice(0, most),
    ...ready.slice(most).map((one) => ({ ...one, fate: 'over' as const })),
    ...judged.filter((one) => one.fate !== 'in'),
  ];
}

/** The states that posts have after a run: what was in it is sent; what was too much for it waits, or is left out. */
export function afterRun(judged: readonly Judged[], of: Gathering, alone = false): Gathered[] {
  return judged.map(({ post, fate }) =>
    fate === 'in'
      ? { ...post, state: 'sent' }
      : fate === 'over' && of.rest === 'never' && !alone
        ? { ...post, state: 'left out' }
        : post,
  );
}

/** A run that is to come: when (null: nobody can say yet, it waits for posts), and every post with what becomes of it then. */
export type Coming = { at: Date | null; judged: Judged[] };

/**
 * The next runs of a lane, as they would be if nothing more were written or changed. Those of a rhythm with hours stand there whether they hold something or not;
 * of the others those for which there are posts. The hour that is skipped comes without its letter, and its posts wait on.
 */
export function comingRuns(
  posts: readonly Gathered[],
  of: Gathering,
  rhythm: Rhythm,
  zone: string,
  { after, most, skipped = null }: { after: Date; most: number; skipped?: Date | null },
): Coming[] {
  const alone = rhythm.kind === 'each';
  const runs: Coming[] = [];
  let now: readonly Gathered[] = posts;
  const run = (at: Date) => {
    const judged = gather(now, of, at, alone);
    runs.push({ at, judged });
    now = afterRun(judged, of, alone);
  };
  if ('hour' in rhythm) {
    for (const at of nextRuns(rhythm, zone, after, most)) {
      if (skipped && at.getTime() === skipped.getTime()) runs.push({ at, judged: gather(now, of, at).map(skippedOf) });
      else run(at);
    }
    return runs;
  }
  // The moments at which something more is ready.
  const moments = [
    ...new Set([after.getTime(), ...gather(now, of, after).flatMap((one) => (one.until ? [one.until.getTime()] : []))]),
  ].sort((a, b) => a - b);
  const wanted = rhythm.kind === 'gathered' ? rhythm.posts : 1;
  const ready = (at: Date) => gather(now, { ...of, most: Number.MAX_SAFE_INTEGER }, at).filter((one) => one.fate === 'in').length;
  for (const moment of moments) while (runs.length < most && ready(new Date(moment)) >= wanted) run(new Date(moment));
  if (runs.length < most && rhythm.kind === 'gathered')
    runs.push({ at: null, judged: gather(now, of, new Date(moments.at(-1)!)) });
  return runs;
}
const skippedOf = (one: Judged): Judged => (one.fate === 'in' ? { ...one, fate: 'skipped' } : one);

/** Why a post is in a run, or not, in words. */
export function fateWords({ fate, until }: Omit<Judged, 'post'>, zone: string): string {
  switch (fate) {
    case 'in':
      return 'goes with this one';
    case 'before':
      return 'stood there before you switched on';
    case 'sent':
      return 'already sent';
    case 'left out':
      return 'was left out';
    case 'held':
      return 'came with too many others: waits for your word';
    case 'skipped':
      return 'waits for the one after';
    case 'gone':
      return 'was taken down again';
    case 'no match':
      return 'is not what this rule takes';
    case 'ahead':
      return `is dated ahead: waits until ${fullTime(until!, zone)}`;
    case 'editing':
      return `still being edited: waits until ${fullTime(until!, zone)}`;
    case 'over':
      return 'is more than one letter holds';
  }
}

/** What a subject may name of its posts; each stands in the pattern between ‹ and ›. */
export const SUBJECT_CHIPS = ['first title', 'and more', 'titles', 'posts', 'date'] as const;
export type SubjectChip = (typeof SUBJECT_CHIPS)[number];

/**
 * The subject of a letter of some posts: the first of them named first. A pattern that comes to nothing is the first title. `words` are those of the newsletter's
 * language.
 */
export function subjectOf(
  pattern: string,
  titles: readonly string[],
  date: string,
  words: Pick<LetterWords, 'andMore' | 'posts'>,
): string {
  const value: Record<SubjectChip, string> = {
    'first title': titles[0] ?? '',
    'and more': titles.length > 1 ? words.andMore.replace('LABEL', String(titles.length - 1)) : '',
    titles: titles.join(' · '),
    posts: words.posts.replace('LABEL', String(titles.length)),
    date,
  };
  const said = pattern
    .replace(/‹([^‹›]*)›/g, (whole, name: string) => value[name as SubjectChip] ?? whole)
    .replace(/\s+/g, ' ')
    .trim();
  return plainText(said || value['first title'], 200);
}

import { counted, together } from '../growth/figures';
import { fullTime } from '../growth/times';

/* Which posts the next run of a rule holds, and why each other one is not in it. The same decides what a run sends and what is shown beforehand. */

/** A post as a rule knows it. */
export type Gathered = {
  key: string;
  title: string;
  topics: readonly string[];
  author: string;
  /** What it says, as plain text: words are looked for in it and in its title. */
  words: string;
  publishedAt: Date | null;
  /** When it was seen first, and when it was last seen to have changed. */
  seenAt: Date;
  changedAt: Date;
  state: 'before' | 'waiting' | 'sent' | 'left out';
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

export type Fate = 'in' | 'before' | 'sent' | 'left out' | 'gone' | 'no match' | 'ahead' | 'editing' | 'over';
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

function fateOf(post: Gathered, of: Gathering, at: Date): Omit<Judged, 'post'> {
  if (post.state !== 'waiting') return { fate: post.state, until: null };
  if (post.gone) return { fate: 'gone', until: null };
  if (!matches(post, of)) return { fate: 'no match', until: null };
  if (post.publishedAt && post.publishedAt > at) return { fate: 'ahead', until: post.publishedAt };
  const quiet = new Date(post.changedAt.getTime() + of.quietMs);
  return quiet > at ? { fate: 'editing', until: quiet } : { fate: 'in', until: null };
}

/** Every post with what becomes of it in a run at a moment; those that are in stand first, the oldest of them first. */
export function gather(posts: readonly Gathered[], of: Gathering, at: Date): Judged[] {
  const age = ({ post }: Judged) => (post.publishedAt ?? post.seenAt).getTime();
  const judged = posts.map((post) => ({ post, ...fateOf(post, of, at) }));
  const ready = judged.filter((one) => one.fate === 'in').sort((a, b) => age(a) - age(b) || (a.post.key < b.post.key ? -1 : 1));
  return [
    ...ready.slice(0, of.most),
    ...ready.slice(of.most).map((one) => ({ ...one, fate: 'over' as const })),
    ...judged.filter((one) => one.fate !== 'in'),
  ];
}

/** The states that posts have after a run: what was in it is sent; what was too much for it waits, or is left out. */
export function afterRun(judged: readonly Judged[], of: Gathering): Gathered[] {
  return judged.map(({ post, fate }) =>
    fate === 'in' ? { ...post, state: 'sent' } : fate === 'over' && of.rest === 'never' ? { ...post, state: 'left out' } : post,
  );
}

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

/** The subject of a letter of some posts, the newest of them named first; a pattern that comes to nothing is the first title. */
export function subjectOf(pattern: string, titles: readonly string[], date: string): string {
  const value: Record<SubjectChip, string> = {
    'first title': titles[0] ?? '',
    'and more': titles.length > 1 ? `and ${counted(titles.length - 1, 'more', 'more')}` : '',
    titles: together(titles),
    posts: counted(titles.length, 'post', 'posts'),
    date,
  };
  const said = pattern
    .replace(/‹([^‹›]*)›/g, (whole, name: string) => value[name as SubjectChip] ?? whole)
    .replace(/\s+/g, ' ')
    .trim();
  return said || value['first title'];
}

/*
 * Who still needs which posts. All ready posts of a rule stand in one row, numbered from 1. A lane has come so far in it; whoever never changed theirs has had
 * all up to there and nothing further. Whoever changes is looked at by what they got: they need what is further than the lane was that they left, and was in no
 * letter of theirs. So each post reaches each person once, in whatever order rhythms change, runs fail and letters wait.
 */

/**
 * The ways in which one rule's posts reach people: at the rule's own rhythm, or at one that a reader chose. Each has its own runs, and how far it has come.
 */
export const LANES = ['usual', 'each', 'daily', 'weekly'] as const;
export type Lane = (typeof LANES)[number];

/** Somebody who has changed their lane: since which place in the row, and the places they have had. */
export type Changed = { id: string; since: number; had: ReadonlySet<number> };
/** Those who need the same posts, in the order of the row. */
export type Group = { posts: number[]; people: string[] };

/**
 * What each of those who came into a lane needs of a run: `open` are the places of all posts that may still be sent, up to the last one of the run. Those who
 * need just what the run holds go with it (`posts` is the same); those who need nothing are in no group.
 */
export function groupsOf(changed: readonly Changed[], open: readonly number[]): Group[] {
  const groups = new Map<string, Group>();
  const places = [...open].sort((a, b) => a - b);
  for (const one of changed) {
    const posts = places.filter((n) => n > one.since && !one.had.has(n));
    if (posts.length === 0) continue;
    const group = groups.get(posts.join()) ?? { posts, people: [] };
    group.people.push(one.id);
    groups.set(posts.join(), group);
  }
  return [...groups.values()];
}

export const samePosts = (a: readonly number[], b: readonly number[]): boolean =>
  a.length === b.length && a.every((n, k) => n === b[k]);

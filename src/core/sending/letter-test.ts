import { counted, percent } from '../growth/figures';
import type { Document, Inline } from '../writing/document';
import { smallestGroup, type Verdict } from './subject-test';

/** What the versions of a letter differ in: their subject, who they are from, or their first paragraph. */
export const TRIED = ['subject', 'sender', 'beginning'] as const;
export type Tried = (typeof TRIED)[number];
export const TRIED_WORDS: Record<Tried, { one: string; many: string }> = {
  subject: { one: 'subject', many: 'subjects' },
  sender: { one: 'sender', many: 'senders' },
  beginning: { one: 'beginning', many: 'beginnings' },
};
/** What decides: who followed a link, or who opened. A click is a person's; an opening may be a machine's, and hides where there are no pictures. */
export const DECIDES = ['clicks', 'opens'] as const;
export type Decides = (typeof DECIDES)[number];

/** How a letter's versions are tried: on which share of its recipients, by what, for how long, and what becomes of the rest. */
export type LetterTest = {
  by: Tried;
  /** Percent of the recipients, all groups together. */
  share: number;
  decides: Decides;
  hours: number;
  /** The rest gets the best by itself, or waits for its writer. */
  rest: 'goes' | 'waits';
};
/** A version beside the letter itself, which is version 0. Only what differs is said. */
export type Version = { subject: string; senderId: string | null; beginning: string };
export const MOST_VERSIONS = 4;
export const LEAST_SHARE = 5;
export const MOST_TEST_HOURS = 72;

/** How many get each version at first; the same as `start` fixes. 0 where there are too few people to try anything. */
export function groupSize(recipients: number, share: number, versions: number): number {
  return Math.min(Math.max(1, Math.floor((recipients * share) / 100 / versions)), Math.floor(recipients / versions));
}

/** Differences that somebody may want to see: so many times the usual rate. */
export const DIFFERENCES = [
  { times: 1.25, label: 'a quarter more' },
  { times: 1.5, label: 'half as many again' },
  { times: 2, label: 'twice as many' },
] as const;

/** What such a test could show, said before it begins: what each group holds, and what it would have to. */
export function promiseOf(of: {
  recipients: number;
  share: number;
  versions: number;
  /** The share of those who get a letter that usually does what decides; null where none has left yet. */
  usual: number | null;
  times: number;
  decides: Decides;
}): { group: number; needed: number | null; enough: boolean | null; words: string } {
  const group = groupSize(of.recipients, of.share, of.versions);
  if (of.usual === null || of.usual <= 0)
    return {
      group,
      needed: null,
      enough: null,
      words: `Each group holds ${counted(group, 'person', 'people')}. How many usually ${DOES[of.decides]} is not known yet, so nobody can say what that would show.`,
    };
  const better = Math.min(0.999, of.usual * of.times);
  const needed = better > of.usual ? smallestGroup({ usual: of.usual, better, arms: of.versions }) : null;
  const enough = needed !== null && group >= needed;
  const rates = `${rate(of.usual)} from ${rate(better)}`;
  return {
    group,
    needed,
    enough,
    words: `Each group holds ${counted(group, 'person', 'people')}. To tell ${rates} in four of five tests it takes ${needed === null ? 'more than there are' : counted(needed, 'person', 'people')} each: ${
      enough ? 'that is enough.' : 'that is too few, and it will most likely end without a clear winner.'
    }`,
  };
}
const rate = (share: number) => percent(Math.round(share * 1_000_000), 1_000_000);
const DOES: Record<Decides, string> = { clicks: 'follow a link', opens: 'open' };

/** Less sure than this that the one ahead is better at all, they did alike. */
const ALIKE = 0.6;

/** How many at most wait for the end of a test, of those who are still to get a letter: whoever tries its versions is done with first. */
export const waitingForTest = (of: { recipients: number; waiting: number; share: number; versions: number }): number =>
  Math.min(of.waiting, of.recipients - groupSize(of.recipients, of.share, of.versions) * of.versions);

/** What came of a test, in words. */
export function verdictWords(verdict: Verdict, decides: Decides, names: readonly string[]): string {
  const leader = names[verdict.leader] ?? '';
  const sure = `${Math.min(99, Math.floor(verdict.sure * 100))}%`;
  const what = decides === 'clicks' ? 'more of its readers followed a link' : 'more of its readers opened it';
  if (verdict.winner === null && verdict.sure < ALIKE) return 'No clear winner: so far they did alike.';
  return verdict.winner === null
    ? `No clear winner: “${leader}” is ahead, and it is ${sure} sure that it is better at all.`
    : `“${leader}” did better: it is over ${sure} sure that ${what}.`;
}

/** A document with another first paragraph: in the place of its own, or before everything where it has none. */
export function withBeginning(document: Document, beginning: string): Document {
  const lines = beginning.trim().split('\n');
  const inline = lines.flatMap((text, n): Inline[] => [
    ...(n ? [{ kind: 'break' as const }] : []),
    ...(text ? [{ kind: 'text' as const, text }] : []),
  ]);
  const paragraph = { kind: 'paragraph' as const, inline };
  const at = document.nodes.findIndex((node) => node.kind === 'paragraph');
  if (at === -1) return { ...document, nodes: [paragraph, ...document.nodes] };
  const own = document.nodes[at] as Extract<Document['nodes'][number], { kind: 'paragraph' }>;
  return {
    ...document,
    nodes: document.nodes.map((node, n) => (n === at ? { ...paragraph, ...(own.look && { look: own.look }) } : node)),
  };
}

import { createHash } from 'node:crypto';
import { type Document, every, inlineOf } from '../writing/document';

/** An item of a feed, in whatever format it came, reduced to what we use. */
export type FeedItem = {
  guid: string | null;
  link: string;
  title: string;
  summary: string;
  /** A digest of it as the feed has it, letter by letter: by this an item that was read before is known without reading what it says. */
  source: string;
  /** What it says, as nodes: no HTML of anybody's comes further than here. Null where that was not asked for. */
  document: Document | null;
  picture: string | null;
  publishedAt: Date | null;
  topics: string[];
  author: string;
};

const TRACKING = /^(utm_\w+|ref)$/i;

/** A link reduced to what names the post: no fragment, no tracking parameters, no trailing slash, host in lower case, http as https. */
export function normaliseLink(link: string): string {
  try {
    const url = new URL(link);
    url.hash = '';
    if (url.protocol === 'http:') url.protocol = 'https:';
    for (const name of [...url.searchParams.keys()]) if (TRACKING.test(name)) url.searchParams.delete(name);
    url.searchParams.sort();
    return url.href.replace(/\/(?=\?|$)/, '');
  } catch {
    return link.trim();
  }
}

/** What stands for the title of a post that has none. */
export const UNTITLED = 'A new post';

/**
 * What makes two items the same post: the GUID, else the link, else its title with its date, so that an edit makes it no new one; of one without a title what it says.
 * Addresses are compared normalised, so that a site that moves from http to https, or tells its campaigns apart, has not written everything anew.
 */
export function itemKey(item: Pick<FeedItem, 'guid' | 'link' | 'title' | 'summary' | 'document' | 'publishedAt'>): string {
  const guid = item.guid?.trim();
  if (guid) return /^https?:\/\//i.test(guid) ? normaliseLink(guid) : guid;
  if (item.link) return normaliseLink(item.link);
  const told = item.title === UNTITLED ? [item.summary, item.document?.nodes] : [item.title];
  const said = createHash('sha256').update(JSON.stringify([...told, item.publishedAt?.toISOString() ?? null]));
  return `said ${said.digest('base64url')}`;
}

/** What an item says, in short: by this it is seen that somebody edited it, and not only that its feed writes it otherwise. Null for one that was not read whole. */
export const printOf = ({ title, link, summary, document, picture, topics, author }: Omit<FeedItem, 'source'>): string | null =>
  document &&
  createHash('sha256')
    .update(JSON.stringify([title, normaliseLink(link), summary, document.nodes, picture, topics, author]))
    .digest('base64url');

const MOST_WORDS = 100_000;
/** What a document says as plain text, for words to be looked for in it. */
export const wordsOf = (document: Document): string =>
  [...every(document.nodes)]
    .map((node) =>
      inlineOf(node)
        .map((one) => (one.kind === 'text' ? one.text : ' '))
        .join(''),
    )
    .filter(Boolean)
    .join('\n')
    .slice(0, MOST_WORDS);

/** An item as it was read before. */
export type KnownItem = { id: string; key: string; link: string; title: string; publishedAt: Date | null };
export type Recognised = { item: FeedItem; key: string; known: KnownItem | null };

/** The front page of a site names no post. */
const namesPost = (link: string): boolean => {
  const normal = normaliseLink(link);
  return link !== '' && URL.canParse(normal) && new URL(normal).pathname + new URL(normal).search !== '/';
};

/**
 * Each item of a reading once, with what it was before: by its key; else, where its key is new, by a link that it alone has, or by its title with its date, of
 * something that stands there no more under its old key. So a site that changes its GUIDs has written nothing anew.
 */
export function recognise(items: readonly FeedItem[], known: readonly KnownItem[]): Recognised[] {
  const byKey = new Map(known.map((one) => [one.key, one]));
  const keys = new Set(items.map(itemKey));
  // A link of one item alone names the post; in a feed whose items all lead to one page it names none.
  const uses = new Map<string, number>();
  for (const { link } of items) uses.set(normaliseLink(link), (uses.get(normaliseLink(link)) ?? 0) + 1);
  const titled = (one: { title: string; publishedAt: Date | null }) =>
    one.publishedAt && one.title !== UNTITLED ? `${one.title.toLowerCase()} ${one.publishedAt.getTime()}` : null;
  const byLink = new Map<string, KnownItem>();
  const byTitle = new Map<string, KnownItem>();
  for (const one of known) {
    if (keys.has(one.key)) continue;
    if (namesPost(one.link)) byLink.set(normaliseLink(one.link), one);
    const title = titled(one);
    if (title) byTitle.set(title, one);
  }
  const seen = new Set<string>();
  const taken = new Set<string>();
  return items.flatMap((item): Recognised[] => {
    const key = itemKey(item);
    if (seen.has(key)) return [];
    seen.add(key);
    const normal = normaliseLink(item.link);
    const candidate =
      byKey.get(key) ??
      (namesPost(item.link) && uses.get(normal) === 1 ? byLink.get(normal) : undefined) ??
      byTitle.get(titled(item) ?? '') ??
      null;
    const before = candidate && !taken.has(candidate.id) ? candidate : null;
    if (before) taken.add(before.id);
    return [{ item, key, known: before }];
  });
}

/**
 * Those that were there and were taken down: not among the items of a reading, though older ones still are. What is older than all of them has only grown out of the
 * feed, which shows its newest; of what has no date, and of a feed that shows nothing, nobody can tell.
 */
export function takenDown(known: readonly KnownItem[], recognised: readonly Recognised[]): KnownItem[] {
  const there = new Set(recognised.flatMap((one) => (one.known ? [one.known.id] : [])));
  const dates = recognised.flatMap((one) => (one.item.publishedAt ? [one.item.publishedAt.getTime()] : []));
  const oldest = dates.length ? Math.min(...dates) : Number.POSITIVE_INFINITY;
  return known.filter((one) => !there.has(one.id) && one.publishedAt !== null && one.publishedAt.getTime() > oldest);
}

/** Many sites date a post by its day alone, so a post of the day of switching on may carry an earlier hour. */
const DAY = 86_400_000;

/**
 * Is an item that was never seen before a new post, to a rule that was switched on then? One of an earlier date that turns up late is of the back catalogue. At the
 * first reading only one that carries a later date than the switch is new, for all else stood there before.
 */
export const isNewPost = (publishedAt: Date | null, switchedOn: Date, first: boolean): boolean =>
  first
    ? publishedAt !== null && publishedAt >= switchedOn
    : publishedAt === null || publishedAt.getTime() >= switchedOn.getTime() - DAY;

const MINUTE = 60_000;
/** When to ask a feed again: at its pace, or further and further apart (up to 6 hours) while it fails. */
export function nextPoll(now: Date, everyMs: number, failures: number): Date {
  const wait = failures === 0 ? everyMs : Math.min(everyMs * 2 ** Math.min(failures, 10), 360 * MINUTE);
  return new Date(now.getTime() + wait);
}

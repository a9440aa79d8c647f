import { createHash } from 'node:crypto';
import type { Document } from '../writing/document';

/** An item of a feed, in whatever format it came, reduced to what we use. */
export type FeedItem = {
  guid: string | null;
  link: string;
  title: string;
  summary: string;
  /** What it says, as nodes: no HTML of anybody's comes further than here. */
  document: Document;
  picture: string | null;
  publishedAt: Date | null;
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
  const told = item.title === UNTITLED ? [item.summary, item.document.nodes] : [item.title];
  const said = createHash('sha256').update(JSON.stringify([...told, item.publishedAt?.toISOString() ?? null]));
  return `said ${said.digest('base64url')}`;
}

/** More new posts than this at one reading are no writer's day, but a feed that changed. */
export const MOST_AT_ONCE = 5;

/** Many sites date a post by its day alone, so a post of the day of switching on may carry an earlier hour. */
const DAY = 86_400_000;

/**
 * The items of a feed to be mailed: not known yet, once each, and published since about the day the rule was switched on;
 * oldest first. An older item that turns up late (a feed that grew its back catalogue) is filed as known, but never mailed, nor is one whose link is
 * known. Items without a date count as new when they are unknown. More than a few at once are held: somebody has to say that readers want so many letters.
 */
export function newItems(
  items: FeedItem[],
  known: { keys: ReadonlySet<string>; links: ReadonlySet<string> },
  switchedOn: Date,
  isNew: (item: FeedItem) => boolean = () => true,
): { mail: FeedItem[]; file: FeedItem[]; hold: FeedItem[] } {
  const seen = new Set(known.keys);
  // A link of one item alone names the post too, whatever became of its GUID; in a feed whose items all lead to one page it names none.
  const uses = new Map<string, number>();
  for (const { link } of items) uses.set(normaliseLink(link), (uses.get(normaliseLink(link)) ?? 0) + 1);
  const isKnownLink = ({ link }: FeedItem) => {
    const normal = normaliseLink(link);
    return link !== '' && uses.get(normal) === 1 && known.links.has(normal);
  };
  const mail: FeedItem[] = [];
  const file: FeedItem[] = [];
  for (const item of items) {
    const key = itemKey(item);
    if (seen.has(key)) continue;
    seen.add(key);
    if (isKnownLink(item) || !isNew(item)) file.push(item);
    else if (item.publishedAt && item.publishedAt.getTime() < switchedOn.getTime() - DAY) file.push(item);
    else mail.push(item);
  }
  const time = (item: FeedItem) => item.publishedAt?.getTime() ?? Number.MAX_SAFE_INTEGER;
  // Feeds list the newest first, so undated items are turned round before the stable sort.
  mail.reverse().sort((a, b) => time(a) - time(b));
  return mail.length > MOST_AT_ONCE ? { mail: [], file, hold: mail } : { mail, file, hold: [] };
}

const MINUTE = 60_000;
/** When to ask a feed again: at the usual pace, or further and further apart (up to 6 hours) while it fails. */
export function nextPoll(now: Date, everyMs: number, failures: number): Date {
  const wait = failures === 0 ? everyMs : Math.min(everyMs * 2 ** Math.min(failures, 10), 360 * MINUTE);
  return new Date(now.getTime() + wait);
}

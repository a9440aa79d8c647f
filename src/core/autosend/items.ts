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

/** What makes two items the same post: the GUID, else the normalised link. */
export const itemKey = (item: Pick<FeedItem, 'guid' | 'link'>) => item.guid?.trim() || normaliseLink(item.link);

/** Many sites date a post by its day alone, so a post of the day of switching on may carry an earlier hour. */
const DAY = 86_400_000;

/**
 * The items of a feed to be mailed: not known yet, once each, and published since about the day the rule was switched on;
 * oldest first. An older item that turns up late (a feed that grew its back catalogue) is filed as known, but never mailed.
 * Items without a date count as new when they are unknown.
 */
export function newItems(
  items: FeedItem[],
  known: ReadonlySet<string>,
  switchedOn: Date,
): { mail: FeedItem[]; file: FeedItem[] } {
  const seen = new Set(known);
  const mail: FeedItem[] = [];
  const file: FeedItem[] = [];
  for (const item of items) {
    const key = itemKey(item);
    if (!key || seen.has(key)) continue;
    seen.add(key);
    if (item.publishedAt && item.publishedAt.getTime() < switchedOn.getTime() - DAY) file.push(item);
    else mail.push(item);
  }
  const time = (item: FeedItem) => item.publishedAt?.getTime() ?? Number.MAX_SAFE_INTEGER;
  // Feeds list the newest first, so undated items are turned round before the stable sort.
  return { mail: mail.reverse().sort((a, b) => time(a) - time(b)), file };
}

const MINUTE = 60_000;
/** When to ask a feed again: at the usual pace, or further and further apart (up to 6 hours) while it fails. */
export function nextPoll(now: Date, everyMs: number, failures: number): Date {
  const wait = failures === 0 ? everyMs : Math.min(everyMs * 2 ** Math.min(failures, 10), 360 * MINUTE);
  return new Date(now.getTime() + wait);
}

import { parseFeed } from 'feedsmith';
import type { FeedItem } from '@/core/autosend/items';
import { Fault } from '@/core/faults';
import { fromHtml } from '@/core/writing/from-html';
import { plainLine } from '@/core/writing/plain-line';
import type { Context } from '../context';
import { guardedFetch } from '../fetch/guarded';

export type FeedReading = {
  unchanged: boolean;
  title: string;
  items: FeedItem[];
  etag: string | null;
  lastModified: string | null;
};
type Seen = { etag: string | null; lastModified: string | null };

/** Items beyond this many are not read: a feed is a window, not an archive. */
const MOST_ITEMS = 200;

/**
 * Reads a feed (RSS 2.0, Atom RFC 4287, JSON Feed 1.1, RDF), asking only for what changed (RFC 9110 section 13). Throws a fault
 * whose sentence says whether the site was away or the feed could not be read.
 */
export async function readFeed(ctx: Pick<Context, 'config'>, url: string, seen: Seen): Promise<FeedReading> {
  const headers: Record<string, string> = {
    accept: 'application/atom+xml, application/rss+xml, application/feed+json, application/xml;q=0.9, */*;q=0.5',
  };
  if (seen.etag) headers['if-none-match'] = seen.etag;
  if (seen.lastModified) headers['if-modified-since'] = seen.lastModified;
  const answer = await guardedFetch(url, ctx.config.allowLoopback, headers);
  const host = new URL(url).host;
  const base = {
    etag: answer.headers.get('etag') ?? seen.etag,
    lastModified: answer.headers.get('last-modified') ?? seen.lastModified,
  };
  if (answer.status === 304) return { unchanged: true, title: '', items: [], ...base };
  if (answer.status >= 400)
    throw new Fault('unreachable', `${host} answered with error ${answer.status}. Is the feed still at this address?`);
  const { title, items } = parseItems(answer.body, answer.url, host);
  return { unchanged: false, title, items, ...base };
}

/** Turns a feed document into items. Exported for its tests: malformed feeds must end in a sentence. */
export function parseItems(body: string, url: string, host: string): { title: string; items: FeedItem[] } {
  let parsed: ReturnType<typeof parseFeed>;
  try {
    parsed = parseFeed(body, { maxItems: MOST_ITEMS });
  } catch {
    const html = /^\s*<(!doctype html|html)/i.test(body);
    throw new Fault(
      'invalid',
      html
        ? `This is a web page, not a feed. Look for a link called “RSS” or “Feed” on ${host} and paste its address.`
        : `What ${host} sent is not a feed we can read: it is neither RSS, Atom nor JSON Feed, or it breaks off in the middle.`,
    );
  }
  const absolute = (link: string | undefined) => (link && URL.canParse(link, url) ? new URL(link, url).href : '');
  const make = (raw: {
    guid?: string;
    link?: string;
    title?: string;
    summary?: string;
    html?: string;
    picture?: string;
    date?: string;
  }): FeedItem => {
    const link = absolute(raw.link);
    const at = raw.date ? new Date(raw.date) : null;
    return {
      guid: raw.guid?.slice(0, 500) || null,
      link,
      title: plainLine(raw.title ?? '', 200) || 'A new post',
      summary: plainLine(raw.summary ?? raw.html ?? '', 240),
      document: fromHtml(raw.html ?? '', link || url),
      picture: absolute(raw.picture) || null,
      publishedAt: at && !Number.isNaN(at.getTime()) ? at : null,
    };
  };
  if (parsed.format === 'atom') {
    const { feed } = parsed;
    const items = (feed.entries ?? []).map((entry) =>
      make({
        guid: entry.id,
        link: entry.links?.find((link) => !link.rel || link.rel === 'alternate')?.href,
        title: textOf(entry.title),
        summary: textOf(entry.summary),
        html: textOf(entry.content),
        date: dateOf(entry.published ?? entry.updated),
      }),
    );
    return { title: plainLine(textOf(feed.title) ?? '', 200), items };
  }
  if (parsed.format === 'json') {
    const { feed } = parsed;
    const items = (feed.items ?? []).map((item) =>
      make({
        guid: item.id,
        link: item.url,
        title: item.title,
        summary: item.summary,
        html: item.content_html,
        picture: item.image,
        date: dateOf(item.date_published),
      }),
    );
    return { title: plainLine(feed.title ?? '', 200), items };
  }
  if (parsed.format === 'rdf') {
    const { feed } = parsed;
    return {
      title: plainLine(feed.title ?? '', 200),
      items: (feed.items ?? []).map((item) => make({ link: item.link, title: item.title, summary: item.description })),
    };
  }
  const { feed } = parsed;
  const items = (feed.items ?? []).map((item) => {
    const enclosure = item.enclosures?.find((file) => file.type?.startsWith('image/'));
    return make({
      guid: item.guid?.value,
      link: item.link,
      title: item.title,
      summary: item.description,
      html: item.content?.encoded ?? item.description,
      picture: enclosure?.url,
      date: dateOf(item.pubDate),
    });
  });
  return { title: plainLine(feed.title ?? '', 200), items };
}

/** Text constructs come as plain strings or as objects with a value, depending on the feed. */
function textOf(value: unknown): string | undefined {
  if (typeof value === 'string') return value;
  const inner = (value as { value?: unknown } | undefined)?.value;
  return typeof inner === 'string' ? inner : undefined;
}

/** The feed library leaves dates as the feed wrote them. */
const dateOf = (value: unknown) => (typeof value === 'string' ? value : undefined);

import { parseFeed } from 'feedsmith';
import { decodeText } from '../charset';
import { Fault } from '../faults';
import { fromHtml } from '../writing/from-html';
import { plainLine, plainText } from '../writing/plain-line';
import { type FeedItem, UNTITLED } from './items';

/** Items beyond this many are not read: a feed is a window, not an archive. */
const MOST_ITEMS = 200;
const MOST_GUID = 500;

export type Feed = { title: string; items: FeedItem[] };
/** A text of a feed: `text` means just its letters, `html` what its tags say. */
type Said = { value: string; kind: 'text' | 'html' } | undefined;

/**
 * Reads a feed document (RSS 2.0, Atom RFC 4287, JSON Feed 1.1, RDF with its modules) into items. Whatever it brings becomes plain lines and document
 * nodes; links and pictures are http(s) or nothing. Throws a fault with a sentence for what is no feed. `host` is named in the sentence.
 */
export function readFeedDocument(bytes: Uint8Array, contentType: string | null, url: string): Feed {
  const { host } = new URL(url);
  const body = decodeText(bytes, contentType);
  // Only what stands before the first element can define entities; a post may well speak of them.
  const prolog = body.slice(0, Math.max(0, body.search(/<[a-z]/i)));
  if (/<!ENTITY/i.test(prolog))
    throw new Fault(
      'invalid',
      `The feed of ${host} defines entities of its own (<!ENTITY), which can blow up without end. We do not read such feeds.`,
    );
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
  switch (parsed.format) {
    case 'atom': {
      const { feed } = parsed;
      const base = within(url, feed.xml?.base);
      return {
        title: line(construct(feed.title), 200),
        items: (feed.entries ?? []).map((entry) => {
          const own = within(base, entry.xml?.base);
          const content = construct(entry.content);
          return make(
            {
              guid: entry.id,
              link: address(entry.links?.find((link) => !link.rel || link.rel === 'alternate')?.href, own),
              title: construct(entry.title),
              summary: construct(entry.summary),
              body: content,
              base: within(own, entry.content?.xml?.base),
              date: date(entry.published ?? entry.dc?.dates?.[0] ?? entry.updated),
            },
            url,
          );
        }),
      };
    }
    case 'json': {
      const { feed } = parsed;
      return {
        title: line(text(feed.title), 200),
        items: (feed.items ?? []).map((item) =>
          make(
            {
              guid: item.id,
              link: address(item.url, url),
              title: text(item.title),
              summary: text(item.summary),
              body: html(item.content_html) ?? text(item.content_text),
              base: url,
              picture: address(item.image ?? item.banner_image, url),
              date: date(item.date_published),
            },
            url,
          ),
        ),
      };
    }
    case 'rdf': {
      const { feed } = parsed;
      const base = within(url, feed.xml?.base);
      return {
        title: line(html(feed.title), 200),
        items: (feed.items ?? []).map((item) =>
          make(
            {
              guid: item.rdf?.about,
              link: address(item.link, within(base, item.xml?.base)),
              title: html(item.title),
              summary: html(item.description),
              body: html(item.content?.encoded ?? item.description),
              base: within(base, item.xml?.base),
              date: date(item.dc?.dates?.[0]),
            },
            url,
          ),
        ),
      };
    }
    default: {
      const { feed } = parsed;
      const base = within(url, feed.xml?.base);
      return {
        title: line(html(feed.title), 200),
        items: (feed.items ?? []).map((item) =>
          make(
            {
              guid: item.guid?.value,
              // A GUID is an address too unless it says otherwise.
              link: address(
                item.link ?? (item.guid?.isPermaLink === false ? undefined : item.guid?.value),
                within(base, item.xml?.base),
                !item.link,
              ),
              title: html(item.title),
              summary: html(item.description),
              body: html(item.content?.encoded ?? item.description),
              base: within(base, item.xml?.base),
              picture: address(item.enclosures?.find((file) => file.type?.startsWith('image/'))?.url, base),
              date: date(item.pubDate ?? item.dc?.dates?.[0]),
            },
            url,
          ),
        ),
      };
    }
  }
}

type Raw = {
  guid?: string;
  link: string;
  title: Said;
  summary: Said;
  body: Said;
  /** What addresses in the body are relative to: what the feed says (xml:base), else the item's own page. */
  base: string;
  picture?: string;
  date: Date | null;
};

function make(raw: Raw, url: string): FeedItem {
  const { body } = raw;
  return {
    guid: plainText(raw.guid ?? '', MOST_GUID) || null,
    link: raw.link,
    title: line(raw.title, 200) || UNTITLED,
    summary: line(raw.summary ?? body, 240),
    document:
      body?.kind === 'text'
        ? { version: 1, nodes: paragraphs(body.value) }
        : fromHtml(body?.value ?? '', raw.base === url && raw.link ? raw.link : raw.base),
    picture: raw.picture || null,
    publishedAt: raw.date,
  };
}

const html = (value: string | undefined): Said => (value ? { value, kind: 'html' } : undefined);
const text = (value: string | undefined): Said => (value ? { value, kind: 'text' } : undefined);
/** A text construct of Atom (RFC 4287 section 3.1). */
const construct = (of: { value?: string; type?: string } | undefined): Said =>
  of?.value ? { value: of.value, kind: !of.type || of.type === 'text' || of.type === 'text/plain' ? 'text' : 'html' } : undefined;

const line = (said: Said, most: number): string =>
  said === undefined ? '' : said.kind === 'html' ? plainLine(said.value, most) : plainText(said.value, most);

/** Plain text as paragraphs, parted by empty lines. */
const paragraphs = (value: string) =>
  value
    .slice(0, 200_000)
    .split(/\r?\n\s*\r?\n/)
    .map((part) => plainText(part, 50_000))
    .filter(Boolean)
    .slice(0, 1_000)
    .map((said) => ({ kind: 'paragraph' as const, inline: [{ kind: 'text' as const, text: said }] }));

/** A base within another (xml:base, RFC 3986 section 5.1); one that cannot be read changes nothing. */
const within = (outer: string, base: string | undefined): string =>
  base && URL.canParse(base, outer) && /^https?:/.test(new URL(base, outer).protocol) ? new URL(base, outer).href : outer;

/** A web address made absolute, or ''. */
function address(value: string | undefined, base: string, absolute = false): string {
  const given = value?.trim();
  if (!given || given.length > 2_000 || !URL.canParse(given, absolute ? undefined : base)) return '';
  const url = new URL(given, absolute ? undefined : base);
  return /^https?:$/.test(url.protocol) ? url.href : '';
}

/** A feed library leaves dates as the feed wrote them. */
function date(value: unknown): Date | null {
  const at = typeof value === 'string' ? new Date(value) : null;
  return at && !Number.isNaN(at.getTime()) ? at : null;
}

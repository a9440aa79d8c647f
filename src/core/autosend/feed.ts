import { createHash } from 'node:crypto';
import { parseFeed } from 'feedsmith';
import { decodeText } from '../charset';
import { Fault } from '../faults';
import { clockHour } from '../sending/departure';
import { fromHtml } from '../writing/from-html';
import { plainLine, plainText } from '../writing/plain-line';
import { type FeedItem, UNTITLED } from './items';

/** So many items, the newest, are read: a feed is a window, not an archive. They may stand behind all others, so that these are looked through, up to so many. */
const MOST_ITEMS = 200;
const MOST_THERE = 10_000;
const MOST_GUID = 500;

export type Feed = {
  title: string;
  items: FeedItem[];
  /** Who tells of new posts (W3C WebSub), and by which address the feed is known there. */
  hub: string | null;
  self: string | null;
  /** It breaks off in the middle: there are the items that stand whole before that. */
  cut: boolean;
};
/** Of which items is read what they say: making nodes of it takes longer than all else. */
export type Whole = {
  /** Not of those whose source is among these. */
  known: ReadonlySet<string>;
  /** Only of those dated then or later; null: of all. */
  since: Date | null;
};
/** Everything, as of a feed of which nothing is known. */
export const ALL_WHOLE: Whole = { known: new Set(), since: null };
/** What the items are called, and when they came. */
export const TITLES_ONLY: Whole = { known: new Set(), since: new Date(8.64e15) };

/** A text of a feed: `text` means just its letters, `html` what its tags say. */
type Said = { value: string; kind: 'text' | 'html' } | undefined;

/**
 * Reads a feed document (RSS 2.0, Atom RFC 4287, JSON Feed 1.1, RDF with its modules) into items. Whatever it brings becomes plain lines and document
 * nodes, of those items that are wanted whole; links and pictures are http(s) or nothing. A date that names no zone is of the feed's, as its other dates say it, else
 * of `zone`. Throws a fault with a sentence for what is no feed.
 */
export function readFeedDocument(
  bytes: Uint8Array,
  contentType: string | null,
  url: string,
  zone = 'UTC',
  whole: Whole = ALL_WHOLE,
): Feed {
  const { host } = new URL(url);
  const made = (raws: Raw[] | undefined) => newest(raws ?? []).map((raw) => itemOf(raw, url, whole));
  const body = decodeText(bytes, contentType);
  // Only what stands before the first element can define entities; a post may well speak of them.
  const prolog = body.slice(0, Math.max(0, body.search(/<[a-z]/i)));
  if (/<!ENTITY/i.test(prolog))
    throw new Fault(
      'invalid',
      `The feed of ${host} defines entities of its own (<!ENTITY), which can blow up without end. We do not read such feeds.`,
    );
  const [parsed, cut] = parse(body, host);
  const date = dates(body, zone);
  const hubs = (links: { href?: string; rel?: string }[] | undefined) => ({
    hub: address(links?.find((link) => link.rel === 'hub')?.href, url) || null,
    self: address(links?.find((link) => link.rel === 'self')?.href, url) || null,
    cut,
  });
  switch (parsed.format) {
    case 'atom': {
      const { feed } = parsed;
      const base = within(url, feed.xml?.base);
      return {
        title: line(construct(feed.title), 200),
        ...hubs(feed.links),
        items: made(
          feed.entries?.map((entry) => {
            const own = within(base, entry.xml?.base);
            const content = construct(entry.content);
            return {
              guid: entry.id,
              link: address(entry.links?.find((link) => !link.rel || link.rel === 'alternate')?.href, own),
              title: construct(entry.title),
              summary: construct(entry.summary),
              body: content,
              base: within(own, entry.content?.xml?.base),
              date: date(entry.published ?? entry.dc?.dates?.[0] ?? entry.updated),
              topics: entry.categories?.map((one) => one.label ?? one.term),
              author: (entry.authors ?? feed.authors)?.[0]?.name ?? entry.dc?.creators?.[0],
            };
          }),
        ),
      };
    }
    case 'json': {
      const { feed } = parsed;
      return {
        title: line(text(feed.title), 200),
        hub: address(feed.hubs?.find((one) => /^websub$/i.test(one.type ?? ''))?.url, url) || null,
        self: address(feed.feed_url, url) || null,
        cut,
        items: made(
          feed.items?.map((item) => ({
            guid: item.id,
            link: address(item.url, url),
            title: text(item.title),
            summary: text(item.summary),
            body: html(item.content_html) ?? text(item.content_text),
            base: url,
            picture: address(item.image ?? item.banner_image, url),
            // As Atom has it: some generators say when a post was changed, and not when it came.
            date: date(item.date_published ?? item.date_modified),
            topics: item.tags,
            author: (item.authors ?? feed.authors)?.[0]?.name,
          })),
        ),
      };
    }
    case 'rdf': {
      const { feed } = parsed;
      const base = within(url, feed.xml?.base);
      return {
        title: line(html(feed.title), 200),
        ...hubs(feed.atom?.links),
        items: made(
          feed.items?.map((item) => ({
            guid: item.rdf?.about,
            link: address(item.link, within(base, item.xml?.base)),
            title: html(item.title),
            summary: html(item.description),
            body: html(item.content?.encoded ?? item.description),
            base: within(base, item.xml?.base),
            date: date(item.dc?.dates?.[0]),
            topics: item.dc?.subjects,
            author: item.dc?.creators?.[0],
          })),
        ),
      };
    }
    default: {
      const { feed } = parsed;
      const base = within(url, feed.xml?.base);
      return {
        title: line(html(feed.title), 200),
        ...hubs(feed.atom?.links),
        items: made(
          feed.items?.map((item) => ({
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
            topics: [...(item.categories?.map((one) => one.name) ?? []), ...(item.dc?.subjects ?? [])],
            author: item.dc?.creators?.[0] ?? item.authors?.[0]?.name,
          })),
        ),
      };
    }
  }
}

type Parsed = ReturnType<typeof parseFeed>;

/** A feed's document taken apart, and whether it breaks off in the middle. Throws a fault for what is none, or breaks off before its first item ends. */
function parse(body: string, host: string): [Parsed, cut: boolean] {
  const root = ROOTS.find(({ begins }) => begins.test(body.slice(0, 5_000)));
  // A parser that forgives would take half a post for a whole one.
  const cut = root !== undefined && !endsWith(body, root.name);
  for (const text of cut ? upToItems(body, root.ending) : [body]) {
    try {
      return [parseFeed(text, { maxItems: MOST_THERE }), cut];
    } catch {
      // Said below.
    }
  }
  throw new Fault(
    'invalid',
    /^\s*<(!doctype html|html)/i.test(body)
      ? `This is a web page, not a feed. Look for a link called “RSS” or “Feed” on ${host} and paste its address.`
      : `What ${host} sent is not a feed we can read: it is neither RSS, Atom nor JSON Feed, or it breaks off in the middle.`,
  );
}

/** How documents of feeds begin, and how they end. */
const ROOTS = [
  { name: 'rss', begins: /<rss[\s>]/i, ending: '</channel></rss>' },
  { name: 'rdf:RDF', begins: /<rdf:RDF[\s>]/i, ending: '</rdf:RDF>' },
  { name: 'feed', begins: /<feed[\s>]/i, ending: '</feed>' },
] as const;
/** Does a document end its root element, and not in a part of characters that is still open? */
const endsWith = (body: string, root: string): boolean =>
  new RegExp(`</${root}\\s*>`, 'i').test(body.slice(-20_000)) && body.lastIndexOf('<![CDATA[') <= body.lastIndexOf(']]>');
/** An item may speak of the ends of items: then one before it is the last whole one. */
const MOST_ENDS = 3;

/** A document that breaks off, as it would be if it ended behind one of its last items. */
function* upToItems(body: string, ending: string): Generator<string> {
  let end = body.length;
  for (let n = 0; n < MOST_ENDS; n += 1) {
    end = Math.max(body.lastIndexOf('</item>', end - 1), body.lastIndexOf('</entry>', end - 1));
    if (end < 0) return;
    const text = body.slice(0, body.indexOf('>', end) + 1);
    if (text.lastIndexOf('<![CDATA[') <= text.lastIndexOf(']]>')) yield `${text}${ending}`;
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
  topics?: (string | undefined)[];
  author?: string;
};

/** The newest items, as the feed has them: by their dates; where none has one, those at both its ends, for nobody can tell at which it grows. */
function newest(all: readonly Raw[]): Raw[] {
  if (all.length <= MOST_ITEMS) return [...all];
  const dated = all.flatMap(({ date }) => (date ? [date.getTime()] : [])).sort((a, b) => b - a);
  if (dated.length === 0) return [...all.slice(0, MOST_ITEMS / 2), ...all.slice(-MOST_ITEMS / 2)];
  const oldest = dated[Math.min(dated.length, MOST_ITEMS) - 1]!;
  let undated = Math.max(0, MOST_ITEMS - dated.length);
  const isNewest = ({ date }: Raw) => {
    if (date) return date.getTime() >= oldest;
    undated -= 1;
    return undated >= 0;
  };
  return all.filter(isNewest).slice(0, MOST_ITEMS);
}

const MOST_TOPICS = 20;

function itemOf(raw: Raw, url: string, whole: Whole): FeedItem {
  const { body } = raw;
  const base = raw.base === url && raw.link ? raw.link : raw.base;
  const source = sourceOf(raw, base);
  const title = line(raw.title, 200) || UNTITLED;
  const guid = plainText(raw.guid ?? '', MOST_GUID) || null;
  // Of one that nothing names, what it says is its name.
  const wanted =
    (!whole.known.has(source) && (!whole.since || (raw.date !== null && raw.date >= whole.since))) ||
    (!guid && !raw.link && title === UNTITLED);
  return {
    guid,
    link: raw.link,
    title,
    summary: line(raw.summary ?? body, 240),
    source,
    document: !wanted
      ? null
      : body?.kind === 'text'
        ? { version: 1, nodes: paragraphs(body.value) }
        : fromHtml(body?.value ?? '', base),
    picture: raw.picture || null,
    publishedAt: raw.date,
    topics: [...new Set((raw.topics ?? []).map((one) => plainLine(one ?? '', 100)).filter(Boolean))].slice(0, MOST_TOPICS),
    author: plainLine(raw.author ?? '', 100),
  };
}

/** A digest of all that an item is made of. */
function sourceOf({ guid, link, title, summary, body, picture, date, topics, author }: Raw, base: string): string {
  const hash = createHash('sha256');
  for (const part of [
    guid,
    link,
    title?.kind,
    title?.value,
    summary?.value,
    body?.kind,
    base,
    picture,
    date?.toJSON(),
    author,
    ...(topics ?? []),
  ])
    hash.update(`${part ?? ''}\0`);
  return hash.update(body?.value ?? '').digest('base64url');
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

/** The hub of a feed and its own address, as the head of its answer names them (Link, RFC 8288): before what stands in it (W3C WebSub section 4). */
export function linkedHub(header: string | null, url: string): Partial<Pick<Feed, 'hub' | 'self'>> {
  const found: Partial<Pick<Feed, 'hub' | 'self'>> = {};
  const links = (header ?? '').slice(0, 20_000).matchAll(/<([^<>]*)>((?:\s*;\s*[\w*-]+\s*(?:=\s*(?:"[^"]*"|[^\s",;]+))?)*)/g);
  for (const [, target = '', params = ''] of links) {
    const rels = /;\s*rel\s*=\s*(?:"([^"]*)"|([^\s",;]+))/i.exec(params);
    const said = (rels?.[1] ?? rels?.[2] ?? '').toLowerCase().split(/\s+/);
    for (const rel of ['hub', 'self'] as const) if (said.includes(rel)) found[rel] ??= address(target, url) || undefined;
  }
  return found;
}

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

/** A moment with its zone: an offset, Z, or a name of RFC 822. */
const ZONED = /(?:Z|[+-]\d{2}:?\d{2}|\b(?:UTC?|GMT|[ECMP][SD]T))\s*$/i;
/** Of a date itself, not of what a post says. */
const OFFSET =
  /(?:pubDate|lastBuildDate|updated|published|date|date_published|date_modified)(?:>|"\s*:\s*")[^<"]{0,40}?\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?\s*([+-]\d{2}:?\d{2})\s*[<"]/i;

/**
 * Reads dates as feeds write them. One without a zone is of the zone that the feed names elsewhere, else of the newsletter's: never of this machine's. A day alone is
 * its midnight there.
 */
function dates(body: string, zone: string): (value: unknown) => Date | null {
  const named = OFFSET.exec(body)?.[1];
  const offset = named ? Number(`${named[0]}1`) * (Number(named.slice(1, 3)) * 60 + Number(named.slice(-2))) : null;
  return (value) => {
    if (typeof value !== 'string' || value.length > 100) return null;
    if (ZONED.test(value)) {
      const at = new Date(value);
      return Number.isNaN(at.getTime()) ? null : at;
    }
    // Read as if it were UTC, whatever this machine's zone is, and then moved to where it belongs.
    const bare = value.trim();
    const wall = new Date(
      /^\d{4}-\d{2}-\d{2}$/.test(bare) ? bare : /^\d{4}-\d/.test(bare) ? `${bare.replace(' ', 'T')}Z` : `${bare} UTC`,
    );
    if (Number.isNaN(wall.getTime())) return null;
    if (offset !== null) return new Date(wall.getTime() - offset * 60_000);
    const hour = clockHour(wall.toISOString().slice(0, 16), zone)?.at;
    return hour ? new Date(hour.getTime() + (wall.getTime() % 60_000)) : wall;
  };
}

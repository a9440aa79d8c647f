import { Parser } from 'htmlparser2';

/** A feed that a page leads to: where, and what the page calls it. */
export type NamedFeed = { url: string; title: string };

const FEEDS = /^(application\/(rss\+xml|atom\+xml|rdf\+xml|feed\+json|json)|text\/xml|application\/xml)\b/i;
/** A link that looks as if it led to a feed, where a page names none in its head. */
const LOOKS = /(^|\/)(feed|rss|atom|index)(\.(xml|json|rss|atom|rdf))?\/?$|\.(rss|atom|rdf)$|\/feeds?\//i;
const MOST = 12;
const MOST_READ = 1_000_000;

/** What a person typed, as the addresses that it may mean, the likeliest first: https before http where neither was said. */
export function addressesOf(typed: string): string[] {
  const value = typed
    .trim()
    .replace(/^feed:(\/\/)?(?=https?:)/i, '')
    .replace(/^feed:\/\//i, 'https://');
  const all =
    /^[a-z][a-z0-9+.-]*:/i.test(value) && !/^[^/]+:\d+(\/|$)/.test(value) ? [value] : [`https://${value}`, `http://${value}`];
  return all.filter((one) => {
    if (!URL.canParse(one)) return false;
    const { protocol, hostname } = new URL(one);
    return /^https?:$/.test(protocol) && hostname !== '';
  });
}

/**
 * The feeds that a page names in its head (HTML Living Standard, link rel=alternate), those of its comments last; where it names none, the links on it that
 * look like feeds. Absolute, http(s), each once.
 */
export function feedsNamed(html: string, pageUrl: string): NamedFeed[] {
  const named: NamedFeed[] = [];
  const linked: NamedFeed[] = [];
  let base = pageUrl;
  let link: NamedFeed | null = null;
  const absolute = (href: string | undefined): string | null => {
    const value = href
      ?.trim()
      .replace(/^feed:(\/\/)?(?=https?:)/i, '')
      .replace(/^feed:/i, 'https:');
    if (!value || value.length > 2_000 || !URL.canParse(value, base)) return null;
    const url = new URL(value, base);
    url.hash = '';
    return /^https?:$/.test(url.protocol) ? url.href : null;
  };
  const parser = new Parser({
    onopentag(name, attributes) {
      if (name === 'base' && attributes.href && URL.canParse(attributes.href, pageUrl))
        base = new URL(attributes.href, pageUrl).href;
      if (name === 'link' && /(^|\s)alternate(\s|$)/i.test(attributes.rel ?? '') && FEEDS.test(attributes.type ?? '')) {
        const url = absolute(attributes.href);
        if (url) named.push({ url, title: (attributes.title ?? '').trim().slice(0, 200) });
      }
      if (name === 'a') {
        const url = absolute(attributes.href);
        link = url && LOOKS.test(new URL(url).pathname) ? { url, title: '' } : null;
        if (link) linked.push(link);
      }
    },
    ontext(text) {
      if (link) link.title = `${link.title}${text}`.replace(/\s+/g, ' ').slice(0, 200);
    },
    onclosetag(name) {
      if (name === 'a') link = null;
    },
  });
  parser.write(html.slice(0, MOST_READ));
  parser.end();
  const comments = (one: NamedFeed) => /comment/i.test(`${one.title} ${one.url}`);
  const all = named.length ? named : linked;
  const once = [...new Map(all.map((one) => [one.url, { url: one.url, title: one.title.trim() }])).values()];
  return [...once.filter((one) => !comments(one)), ...once.filter(comments)].slice(0, MOST);
}

/** Where feeds usually stand, below a page and at its site, for a page that names none. */
export function usualPlaces(pageUrl: string): string[] {
  const names = ['feed.xml', 'feed', 'rss.xml', 'atom.xml', 'index.xml', 'feed.json', 'rss'];
  const below = new URL(pageUrl);
  below.search = '';
  below.hash = '';
  if (!below.pathname.endsWith('/')) below.pathname = below.pathname.replace(/[^/]*$/, '');
  const places = [below.href, new URL('/', pageUrl).href].flatMap((place) => names.map((name) => new URL(name, place).href));
  return [...new Set(places)].slice(0, MOST);
}

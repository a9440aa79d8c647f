import { getDomain, getDomainWithoutSuffix } from 'tldts';

/** What a visit says of where it came from, as the site snippet or the form sends it. */
export type Touch = {
  at: string;
  landing: string;
  referrer: string;
  source: string;
  medium: string;
  campaign: string;
  term: string;
  content: string;
};
export type SourceClass = 'search' | 'social' | 'mail' | 'link' | 'campaign' | 'direct';

/**
 * Words by which hosts are told apart. General words of the trade, matched against the labels of a host name, so that no service has to be
 * named; what fits none is a plain link.
 */
const HOST_WORDS: [RegExp, SourceClass][] = [
  [/(^|[.-])(search|suche|recherche|find|seek)([.-]|$)/i, 'search'],
  [/(^|[.-])(mail|webmail|inbox|post)([.-]|$)/i, 'mail'],
  [/(^|[.-])(social|board|forum|community|chat|groups?)([.-]|$)|board\./i, 'social'],
];
/** Values of utm_medium that say what kind of way it was. */
const MEDIUM_WORDS: [RegExp, SourceClass][] = [
  [/^(organic|search)$/i, 'search'],
  [/^(e-?mail|newsletter)$/i, 'mail'],
  [/^social/i, 'social'],
  [/^referral$/i, 'link'],
];
/** Parameters that advertising networks put into addresses to follow people: dropped before anything is kept. */
const CLICK_IDS = /clid$|click_?id$/i;

/** The host of an address, without www; '' for none. */
export const hostOf = (address: string): string => (URL.canParse(address) ? new URL(address).hostname.replace(/^www\./, '') : '');

/** An address without click ids, credentials and fragment, at most 1,000 characters; '' for anything but http(s). */
export function cleanAddress(address: string): string {
  if (!URL.canParse(address)) return '';
  const url = new URL(address);
  if (!/^https?:$/.test(url.protocol)) return '';
  url.hash = '';
  url.username = '';
  url.password = '';
  for (const name of [...url.searchParams.keys()]) if (CLICK_IDS.test(name)) url.searchParams.delete(name);
  return url.href.slice(0, 1000);
}

const short = (text: unknown) =>
  typeof text === 'string'
    ? text
        .replace(/[\u0000-\u001f\u007f]+/g, ' ')
        .trim()
        .slice(0, 120)
    : '';

/** What search engines call the words that somebody looked for, in the addresses of their pages. */
const SEARCHED = ['q', 'query', 'p', 'search', 'suche'];

/** The words that a referring page was searched for, as far as it is a search engine's and its browser passes them; else ''. */
function searchedFor(referrer: string): string {
  const host = hostOf(referrer);
  if (!HOST_WORDS.some(([word, kind]) => kind === 'search' && word.test(host))) return '';
  const asked = new URL(referrer).searchParams;
  return SEARCHED.map((name) => asked.get(name) ?? '').find(Boolean) ?? '';
}

/** A touch from anything a browser sent: every part cleaned, an unreadable one empty. Null when there is nothing in it. */
export function readTouch(sent: unknown): Touch | null {
  if (typeof sent !== 'object' || sent === null) return null;
  const from = sent as Record<string, unknown>;
  const at = typeof from.at === 'string' && !Number.isNaN(Date.parse(from.at)) ? new Date(from.at).toISOString() : '';
  const referrer = cleanAddress(typeof from.referrer === 'string' ? from.referrer : '');
  const touch: Touch = {
    at,
    landing: cleanAddress(short(from.landing).length ? String(from.landing) : ''),
    referrer,
    source: short(from.source).toLowerCase(),
    medium: short(from.medium).toLowerCase(),
    campaign: short(from.campaign),
    term: short(from.term) || short(searchedFor(referrer)),
    content: short(from.content),
  };
  return touch.landing || touch.referrer || touch.source || touch.medium || touch.campaign ? touch : null;
}

/** The touch that a page visit alone tells: its own UTM set and the referrer, when that is another site. */
export function touchOfVisit(page: string, referrer: string, at: string): Touch | null {
  const query = URL.canParse(page) ? new URL(page).searchParams : new URLSearchParams();
  const own = hostOf(page) !== '' && hostOf(page) === hostOf(referrer);
  const utm = (name: string) => query.get(`utm_${name}`) ?? '';
  return readTouch({
    at,
    landing: page,
    referrer: own ? '' : referrer,
    source: utm('source'),
    medium: utm('medium'),
    campaign: utm('campaign'),
    term: utm('term'),
    content: utm('content'),
  });
}

/** What kind of way somebody came by: the campaign's own word first, then the referring host, else directly. */
export function classify(touch: Pick<Touch, 'source' | 'medium' | 'campaign' | 'referrer' | 'landing'> | null): SourceClass {
  if (!touch) return 'direct';
  for (const [word, kind] of MEDIUM_WORDS) if (word.test(touch.medium)) return kind;
  if (touch.source || touch.medium || touch.campaign) return 'campaign';
  const host = hostOf(touch.referrer);
  if (!host || host === hostOf(touch.landing)) return 'direct';
  for (const [word, kind] of HOST_WORDS) if (word.test(host)) return kind;
  return 'link';
}

/** A word as most spell it: without case, spaces and signs. */
const bare = (word: string): string => word.toLowerCase().replace(/[\s._-]+/g, '') || word;

/**
 * Puts together what is one source under two spellings: hosts of one domain, words that differ by case and signs, and a campaign's word with the host that it names
 * (the one that weighs most, where domains of several suffixes have that name). It is called by its host where that is known, else as most spell it; the largest first.
 */
export function asOneSource<T extends { name: string }>(
  rows: readonly T[],
  weight: (row: T) => number,
  add: (a: T, b: T) => T,
): T[] {
  const sorted = [...rows].sort((a, b) => weight(b) - weight(a));
  const groups = new Map<string, T[]>();
  const join = (key: string, row: T) => groups.set(key, [...(groups.get(key) ?? []), row]);
  // By what a domain is called without its suffix: which domain a campaign's word means.
  const named = new Map<string, string>();
  const words: T[] = [];
  for (const row of sorted) {
    const domain = getDomain(row.name);
    if (!domain) {
      words.push(row);
      continue;
    }
    const word = bare(getDomainWithoutSuffix(row.name) ?? domain);
    if (!named.has(word)) named.set(word, domain);
    join(domain, row);
  }
  for (const row of words) join(named.get(bare(row.name.trim())) ?? `word ${bare(row.name.trim())}`, row);
  return [...groups.values()].map((all) => ({ ...all.reduce(add), name: all[0]!.name })).sort((a, b) => weight(b) - weight(a));
}

/** How a touch is counted: the campaign's source, else the referring host, else "direct". */
export const sourceName = (touch: Touch | null): string => touch?.source || hostOf(touch?.referrer ?? '') || 'direct';

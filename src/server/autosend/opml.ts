import { generateOpml, parseOpml } from 'feedsmith';
import { decodeText } from '@/core/charset';
import { Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';

const MOST_BYTES = 2_000_000;
const MOST_FEEDS = 60;
type Outline = { xmlUrl?: string; outlines?: Outline[] };

/** The feeds that an OPML 2.0 file lists, each once, however deep they stand. Throws "invalid" for a file that lists none. */
export function feedsInOpml(bytes: Buffer): { title: string; urls: string[] } {
  const say = (sentence: string) => new Fault('invalid', sentence, { file: sentence });
  if (bytes.length > MOST_BYTES) throw say('This file is larger than 2 MB, which no list of feeds is.');
  const text = decodeText(bytes, null);
  if (/<!ENTITY/i.test(text)) throw say('This file defines entities of its own (<!ENTITY). We do not read such files.');
  let parsed: { head?: { title?: string }; body?: { outlines?: Outline[] } };
  try {
    parsed = parseOpml(text);
  } catch {
    throw say('This is not an OPML file: a list of feeds as feed readers keep it.');
  }
  const urls: string[] = [];
  const waiting = [...(parsed.body?.outlines ?? [])];
  for (let n = 0; n < waiting.length && n < 10_000; n += 1) {
    const { xmlUrl, outlines } = waiting[n]!;
    if (xmlUrl && /^https?:/i.test(xmlUrl) && URL.canParse(xmlUrl) && xmlUrl.length <= 500) urls.push(new URL(xmlUrl).href);
    waiting.push(...(outlines ?? []));
  }
  const once = [...new Set(urls)];
  if (once.length === 0) throw say('No feed is listed in this file.');
  if (once.length > MOST_FEEDS) throw say(`It lists ${once.length} feeds; a rule has ${MOST_FEEDS} sources at most.`);
  return { title: (parsed.head?.title ?? '').trim().slice(0, 80), urls: once };
}

/** Every feed of a newsletter's rules as OPML 2.0. */
export async function opmlOf(ctx: Context, newsletter: Newsletter): Promise<string> {
  const feeds = await ctx.db
    .selectFrom('feeds')
    .select(['url', 'title'])
    .where('newsletter_id', '=', newsletter.id)
    .where('url', 'is not', null)
    .orderBy('created_at')
    .execute();
  return generateOpml({
    head: { title: newsletter.name, dateCreated: ctx.clock.now() },
    body: { outlines: feeds.map((feed) => ({ text: feed.title || feed.url!, type: 'rss', xmlUrl: feed.url! })) },
  });
}

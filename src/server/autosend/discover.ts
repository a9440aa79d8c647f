import { addressesOf, feedsNamed, usualPlaces } from '@/core/autosend/discover';
import { TITLES_ONLY } from '@/core/autosend/feed';
import { decodeText } from '@/core/charset';
import { asFault, Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';
import { type Fetched, type FetchLimits, guardedFetch } from '../fetch/guarded';
import { limit } from '../limits';
import { readApart } from './feeds';

/** A feed that can be connected, with what stands in it: none of that is ever mailed. */
export type OfferedFeed = { url: string; title: string; posts: { title: string; at: Date | null }[]; count: number };

/** Finds the feeds behind what a member of a newsletter pasted; a site is not asked on and on. */
export async function lookForFeeds(ctx: Context, newsletter: Newsletter, typed: string): Promise<OfferedFeed[]> {
  await limit(ctx, `feeds:${newsletter.id}`, 60, 3_600, 'That were sixty blogs in an hour. Please wait a while.');
  return findFeeds(ctx, typed);
}

/** So many that a page names are read; a site with more has one for each of its topics. */
const MOST_READ = 6;
const AT_ONCE = 3;
/** Somebody waits: who says nothing is waited for no longer than this, the first address and each of the others. */
const FIRST: FetchLimits = { timeoutMs: 8_000, bytes: 5_000_000, redirects: 4 };
const OTHERS: FetchLimits = { ...FIRST, timeoutMs: 4_000 };

/**
 * The feeds behind whatever somebody pasted: the address of a feed, of a blog's front page or of any of its posts. Each was read. Throws a fault with a sentence
 * where nothing answers or none is found.
 */
export async function findFeeds(ctx: Pick<Context, 'config'>, typed: string): Promise<OfferedFeed[]> {
  const addresses = addressesOf(typed.slice(0, 2_000));
  if (addresses.length === 0)
    throw invalid('That is no web address. It starts with https:// or http://, or is a name like blog.example.');
  const answer = await firstAnswer(ctx, addresses);
  const type = answer.headers.get('content-type');
  const own = await read(answer, type).catch((error: unknown) => asFault(error));
  if (!(own instanceof Fault)) return [own];
  const html = decodeText(answer.bytes, type);
  // What is a feed, but a broken one, is said as that.
  if (!/<(!doctype html|html|head|body)/i.test(html.slice(0, 5_000))) throw invalid(own.sentence);
  const named = feedsNamed(html, answer.url).slice(0, MOST_READ);
  const found = await readAll(
    ctx,
    named.map((one) => one.url),
  );
  if (found.length) return found;
  const usual = await readAll(ctx, usualPlaces(answer.url), 1);
  if (usual.length) return usual;
  const { host } = new URL(answer.url);
  throw invalid(
    named.length
      ? `${host} names a feed at ${named[0]!.url}, but what stands there cannot be read as one.`
      : `We found no feed at ${host}, neither named by the page nor in the usual places. If you know where it is, paste its own address.`,
  );
}

const invalid = (sentence: string) => new Fault('invalid', sentence, { feedUrl: sentence });

async function firstAnswer(ctx: Pick<Context, 'config'>, addresses: string[]): Promise<Fetched> {
  let fault: Fault | null = null;
  for (const address of addresses) {
    try {
      const answer = await guardedFetch(
        address,
        ctx.config.allowLoopback,
        {
          accept: 'text/html, application/atom+xml, application/rss+xml, application/feed+json, */*;q=0.5',
        },
        FIRST,
      );
      if (answer.status < 400) return answer;
      fault ??= new Fault('unreachable', `${new URL(address).host} answered with error ${answer.status}. Is the address right?`);
    } catch (error) {
      // What https says is said, unless http answers.
      fault ??= asFault(error);
    }
  }
  throw new Fault(fault!.code, fault!.sentence, { feedUrl: fault!.sentence });
}

async function read(answer: Fetched, type: string | null): Promise<OfferedFeed> {
  const feed = await readApart(answer.bytes, type, answer.url, 'UTC', TITLES_ONLY);
  return {
    url: answer.url,
    title: feed.title || new URL(answer.url).host,
    posts: feed.items.slice(0, 10).map((item) => ({ title: item.title, at: item.publishedAt })),
    count: feed.items.length,
  };
}

/** Reads feeds a few at once, and leaves out what is none; in the order given, and with `most` no further than so many. */
async function readAll(ctx: Pick<Context, 'config'>, urls: string[], most = Number.POSITIVE_INFINITY): Promise<OfferedFeed[]> {
  const found: OfferedFeed[] = [];
  for (let at = 0; at < urls.length && found.length < most; at += AT_ONCE) {
    const some = await Promise.all(
      urls.slice(at, at + AT_ONCE).map(async (url) => {
        const answer = await guardedFetch(url, ctx.config.allowLoopback, {}, OTHERS).catch(() => null);
        if (!answer || answer.status >= 400) return null;
        return read(answer, answer.headers.get('content-type')).catch(() => null);
      }),
    );
    // Two addresses that lead to one feed are one.
    for (const one of some) if (one && found.length < most && !found.some((other) => other.url === one.url)) found.push(one);
  }
  return found;
}

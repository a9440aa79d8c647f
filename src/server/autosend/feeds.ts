import { ALL_WHOLE, type Feed, linkedHub, TITLES_ONLY, type Whole } from '@/core/autosend/feed';
import { Fault } from '@/core/faults';
import type { Document } from '@/core/writing/document';
import type { Context } from '../context';
import { guardedFetch } from '../fetch/guarded';
import { bundled, Threads } from '../threads';

export type FeedReading = Feed & {
  unchanged: boolean;
  etag: string | null;
  lastModified: string | null;
  /** Where it has moved to for good. */
  movedTo: string | null;
};

/** A feed that answered, and said that it is gone for good, or when to come again. */
export class FeedAway extends Fault {
  constructor(
    sentence: string,
    readonly gone: boolean,
    readonly againMs: number,
  ) {
    super('unreachable', sentence);
  }
}

/** When to come again, as a server says it (RFC 9110 section 10.2.3: seconds, or a date), in milliseconds; 0 where it does not. */
export function retryAfter(value: string | null, now: Date): number {
  const said = value?.trim() ?? '';
  if (/^\d{1,9}$/.test(said)) return Number(said) * 1_000;
  const at = said ? Date.parse(said) : Number.NaN;
  return Number.isNaN(at) ? 0 : Math.max(0, at - now.getTime());
}
type Seen = { etag: string | null; lastModified: string | null };

/**
 * Reads a feed, asking only for what changed (RFC 9110 section 13), and makes nodes of those of its items that are wanted whole. Throws a fault whose sentence says
 * whether the site was away or the feed could not be read.
 */
export async function readFeed(
  ctx: Pick<Context, 'config' | 'clock'>,
  url: string,
  seen: Seen,
  zone: string,
  whole: Whole,
): Promise<FeedReading> {
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
    movedTo: answer.movedTo,
  };
  if (answer.status === 410)
    throw new FeedAway(`${host} says that this feed is gone for good. We do not ask for it any more.`, true, 0);
  if (answer.status === 429 || answer.status === 503)
    throw new FeedAway(
      `${host} answered with error ${answer.status}, which means “not now”. We ask again later.`,
      false,
      retryAfter(answer.headers.get('retry-after'), ctx.clock.now()),
    );
  if (answer.status === 304) return { unchanged: true, title: '', items: [], hub: null, self: null, cut: false, ...base };
  if (answer.status >= 400)
    throw new Fault('unreachable', `${host} answered with error ${answer.status}. Is the feed still at this address?`);
  const feed = await readApart(answer.bytes, answer.headers.get('content-type'), answer.url, zone, whole);
  const hub = linkedHub(answer.headers.get('link'), answer.url);
  // What broke off is asked for whole the next time.
  return { unchanged: false, ...feed, ...hub, ...base, ...(feed.cut ? { etag: null, lastModified: null } : {}) };
}

/** What a thread is to read. */
export type ReaderTask = {
  what: 'feed' | 'article';
  bytes: Uint8Array;
  contentType: string | null;
  url: string;
  zone: string;
  whole: Whole;
};

/**
 * Reads a feed document on a thread of its own, for so long and in so much memory and no more; of several at once only a few are read, the others wait
 * their turn. Throws the faults of `readFeedDocument`.
 */
export async function readApart(
  bytes: Buffer,
  contentType: string | null,
  url: string,
  zone = 'UTC',
  whole = ALL_WHOLE,
): Promise<Feed> {
  const feed = JSON.parse(await apart({ what: 'feed', bytes, contentType, url, zone, whole })) as Feed;
  for (const item of feed.items) item.publishedAt &&= new Date(item.publishedAt);
  return feed;
}

/** Reads the article of a page in the same way; null where there is none. */
export const articleApart = async (bytes: Buffer, contentType: string | null, url: string): Promise<Document | null> =>
  JSON.parse(await apart({ what: 'article', bytes, contentType, url, zone: 'UTC', whole: TITLES_ONLY }));

const threads = new Threads<ReaderTask>(bundled('reader-thread.js'), { threads: 2, seconds: 5, megabytes: 256 });

const apart = (task: ReaderTask): Promise<string> =>
  threads.run(task, `What ${new URL(task.url).host} sent is too much to read: it is made so that reading it takes too long.`);

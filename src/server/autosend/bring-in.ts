import { sql } from 'kysely';
import { type FeedItem, itemKey, printOf, wordsOf } from '@/core/autosend/items';
import { asFault } from '@/core/faults';
import { type Document, every, rewritten } from '@/core/writing/document';
import type { Context, Newsletter } from '../context';
import type { FeedTable } from '../db/schema';
import { guardedFetch } from '../fetch/guarded';
import { takeInPicture } from '../newsletters/media';
import { articleApart } from './feeds';

/*
 * What a letter of a post needs besides its feed: the article itself, where the feed has a summary alone and its rule allows it, and its pictures, kept here so that
 * they stand as long as the letter does. Done for posts that are new or edited, before anything is filed; what cannot be had stays as the feed has it.
 */

type WholeItem = FeedItem & { document: Document };
type One = { document: Document; picture: string | null; pictures: Record<string, string> };
/** By the keys of their items. */
export type Brought = Map<string, One>;

/** In one reading: so many posts, so many pictures of each, and so long altogether; the rest stays as it is. */
const MOST_POSTS = 10;
const MOST_PICTURES = 12;
const MOST_MS = 45_000;
/** A post of fewer letters than this, with a page of its own, is a summary. */
const SUMMARY = 600;

export async function bringIn(
  ctx: Context,
  newsletter: Newsletter,
  feed: Pick<FeedTable, 'id' | 'url' | 'read_at'>,
  items: readonly FeedItem[],
): Promise<Brought> {
  const brought: Brought = new Map();
  const rules = await ctx.db
    .selectFrom('auto_sends as a')
    .innerJoin('auto_send_feeds as f', 'f.auto_send_id', 'a.id')
    .select(['a.settings', 'f.since'])
    .where('f.feed_id', '=', feed.id)
    .where('a.switched_on_at', 'is not', null)
    .execute();
  // What stands in it when it is read first is its back catalogue.
  if (rules.length === 0) return brought;
  const since = Math.min(...rules.map((rule) => rule.since.getTime()));
  const known = new Map(
    (
      await ctx.db
        .selectFrom('feed_items')
        .select(['item_key', 'print', 'pictures', sql<boolean>`document is not null`.as('kept')])
        .where('feed_id', '=', feed.id)
        .where('item_key', 'in', items.length ? items.map(itemKey) : [''])
        .execute()
    ).map((row) => [row.item_key, row]),
  );
  const wanted = items
    // Of one that is as it was before, nothing was asked but what it is called.
    .filter((item): item is WholeItem => item.document !== null)
    .filter((item) => {
      const before = known.get(itemKey(item));
      if (before?.kept) return before.print !== printOf(item);
      return (feed.read_at !== null && !before) || (item.publishedAt !== null && item.publishedAt.getTime() >= since);
    })
    .slice(0, MOST_POSTS);
  const articles = rules.some((rule) => rule.settings.article);
  const until = Date.now() + MOST_MS;
  for (const item of wanted) {
    if (Date.now() > until) break;
    const document = articles && feed.url ? await articleOf(ctx, item) : item.document;
    const before = known.get(itemKey(item))?.pictures ?? {};
    brought.set(itemKey(item), await withPictures(ctx, newsletter, { document, picture: item.picture }, before, until));
  }
  return brought;
}

/** The article of a post's own page where the feed has less of it than that. */
async function articleOf(ctx: Context, item: WholeItem): Promise<Document> {
  const has = wordsOf(item.document).length;
  if (has >= SUMMARY || !item.link) return item.document;
  try {
    const page = await guardedFetch(
      item.link,
      ctx.config.allowLoopback,
      { accept: 'text/html, */*;q=0.5' },
      { timeoutMs: 8_000, bytes: 5_000_000, redirects: 4 },
    );
    if (page.status >= 400) return item.document;
    const article = await articleApart(page.bytes, page.headers.get('content-type'), page.url);
    return article && wordsOf(article).length > has ? article : item.document;
  } catch (error) {
    ctx.log.info({ page: item.link, reason: asFault(error).sentence }, 'an article could not be read');
    return item.document;
  }
}

const srcsOf = (document: Document): string[] =>
  [...every(document.nodes)].flatMap((node) =>
    node.kind === 'picture'
      ? [node.src]
      : node.kind === 'card' && node.picture
        ? [node.picture]
        : node.kind === 'gallery'
          ? node.pictures.map((one) => one.src)
          : [],
  );

/** The same with its pictures kept here, as far as they can be had. */
async function withPictures(
  ctx: Context,
  newsletter: Newsletter,
  { document, picture }: { document: Document; picture: string | null },
  before: Record<string, string>,
  until: number,
): Promise<One> {
  const pictures: Record<string, string> = {};
  const srcs = [...new Set([...(picture ? [picture] : []), ...srcsOf(document)])].slice(0, MOST_PICTURES);
  for (const src of srcs) {
    const kept = before[src];
    if (kept) pictures[src] = kept;
    // One of ours stands here already.
    else if (src.startsWith(ctx.config.linkOrigin)) continue;
    else if (Date.now() < until)
      await takeInPicture(ctx, newsletter, src).then(
        ({ url }) => {
          pictures[src] = url;
        },
        (error: unknown) => ctx.log.info({ picture: src, reason: asFault(error).sentence }, 'a picture could not be taken in'),
      );
  }
  const here = (src: string) => pictures[src] ?? src;
  return {
    pictures,
    picture: picture && here(picture),
    document: {
      version: 1,
      nodes: rewritten(document.nodes, (node) =>
        node.kind === 'picture'
          ? [{ ...node, src: here(node.src) }]
          : node.kind === 'card'
            ? [{ ...node, picture: node.picture && here(node.picture) }]
            : node.kind === 'gallery'
              ? [{ ...node, pictures: node.pictures.map((one) => ({ ...one, src: here(one.src) })) }]
              : [node],
      ),
    },
  };
}

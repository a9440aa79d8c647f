import { type FeedItem, printOf } from '@/core/autosend/items';
import type { Context, Newsletter } from '../context';
import { siteUrl } from '../sending/laid-out';
import type { FeedReading } from './feeds';

const MOST = 200;

/** The newsletter's own public pages as a feed would have them: those that were published as a page alone, for what is a letter too has been mailed. */
export async function readPages(ctx: Context, newsletter: Newsletter): Promise<FeedReading> {
  const rows = await ctx.db
    .selectFrom('posts')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .where('goes', '=', 'page')
    .where('audience', '=', 'everybody')
    .where('published_at', 'is not', null)
    .where('published_at', '<=', ctx.clock.now())
    .orderBy('published_at', 'desc')
    .orderBy('id', 'desc')
    .limit(MOST)
    .execute();
  return {
    unchanged: false,
    etag: null,
    lastModified: null,
    movedTo: null,
    hub: null,
    self: null,
    cut: false,
    title: newsletter.name,
    items: rows.map((row): FeedItem => {
      const item = {
        guid: row.id,
        link: siteUrl(ctx, newsletter, row.slug),
        title: row.title,
        summary: row.description || row.subtitle,
        document: row.document,
        picture: row.picture,
        publishedAt: row.published_at,
        topics: row.topics,
        author: row.guest || row.author,
      };
      return { ...item, source: printOf(item)! };
    }),
  };
}

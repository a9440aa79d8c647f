import { createHash } from 'node:crypto';
import { esc } from '../shell/page';

export type Post = { slug: string; title: string; summary: string; html: string; at: string };

/** The blog's RSS 2.0 feed of its newest posts, with the whole post in content:encoded. */
export function rss(posts: Post[], origin: string, title: string): { body: string; etag: string; lastModified: string } {
  const newest = [...posts].sort((a, b) => b.at.localeCompare(a.at)).slice(0, 20);
  const items = newest.map(
    (post) =>
      `<item><title>${esc(post.title)}</title><link>${origin}/posts/${post.slug}</link><guid isPermaLink="false">lanternfish-${post.slug}</guid><pubDate>${new Date(
        post.at,
      ).toUTCString()}</pubDate><description>${esc(post.summary)}</description><content:encoded><![CDATA[${post.html.replace(/\]\]>/g, ']]]]><![CDATA[>')}]]></content:encoded></item>`,
  );
  const body = `<?xml version="1.0" encoding="UTF-8"?>\n<rss version="2.0" xmlns:content="http://purl.org/rss/1.0/modules/content/" xmlns:atom="http://www.w3.org/2005/Atom"><channel><title>${esc(title)}</title><atom:link rel="self" href="${origin}/feed.xml"/><atom:link rel="hub" href="${origin}/hub"/><link>${origin}/</link><description>Essays on deep-sea life</description>${items.join('\n')}</channel></rss>\n`;
  const etag = `"${createHash('sha256').update(body).digest('hex').slice(0, 16)}"`;
  return { body, etag, lastModified: new Date(newest[0]?.at ?? 0).toUTCString() };
}

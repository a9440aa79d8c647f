import { createHash } from 'node:crypto';
import type { Selectable } from 'kysely';
import { withBeginning } from '@/core/sending/letter-test';
import { type ChipOf, chipsIn, type Document, rewritten, segmentsIn } from '@/core/writing/document';
import { bind, type Layout, type Newest, type Post, withNewest } from '@/core/writing/layout';
import { chipsOfLine } from '@/core/writing/line';
import { type LetterFrame, renderHtml } from '@/core/writing/render';
import { withoutMarks } from '@/core/writing/slots';
import { renderText } from '@/core/writing/text';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import type { Schema } from '../db/schema';
import { usualLayout } from '../mail/looks';
import { logoUrl } from '../newsletters/media';

/*
 * What a letter says and how it looks, put together out of its post, its layout and its newsletter: for the letter that leaves, for its preview and for a
 * proof alike.
 */

async function layoutOf(db: Db, newsletterId: string, id: string | null): Promise<Layout> {
  const own =
    id &&
    (await db
      .selectFrom('layouts')
      .select('layout')
      .where('newsletter_id', '=', newsletterId)
      .where('id', '=', id)
      .executeTakeFirst());
  return own ? own.layout : usualLayout(db, newsletterId);
}

/** What every letter of a newsletter is framed by. */
export function frameOf(ctx: Context, newsletter: Newsletter): Omit<LetterFrame, 'previewLine'> {
  return {
    brand: {
      name: newsletter.name,
      colour: newsletter.accent,
      language: newsletter.language,
      logo: logoUrl(ctx, newsletter),
      links: newsletter.social_links,
    },
    colophon: { reasonLine: newsletter.reason_line, postalAddress: newsletter.postal_address },
    countsOpens: newsletter.count_opens,
  };
}

/** Where a newsletter's pages stand, and one post's. */
export const siteUrl = (ctx: Pick<Context, 'config'>, newsletter: Pick<Newsletter, 'slug'>, path = ''): string =>
  `${ctx.config.webOrigin}/at/${newsletter.slug}${path && `/${path}`}`;

/** The newest posts with a public page, the newest first, but for one. */
export async function newestPosts(ctx: Context, db: Db, newsletter: Newsletter, most: number, but?: string): Promise<Newest[]> {
  const rows = await db
    .selectFrom('posts')
    .select(['id', 'title', 'subtitle', 'description', 'slug'])
    .where('newsletter_id', '=', newsletter.id)
    .where('published_at', 'is not', null)
    .where('published_at', '<=', ctx.clock.now())
    .where('goes', '<>', 'letter')
    .orderBy('published_at', 'desc')
    .orderBy('id', 'desc')
    .limit(most + 1)
    .execute();
  return rows
    .filter((row) => row.id !== but)
    .slice(0, most)
    .map((row) => ({ title: row.title, words: row.description || row.subtitle, link: siteUrl(ctx, newsletter, row.slug) }));
}

/** A day as it is spoken in a language, in a zone. */
export const spokenDay = (at: Date, language: string, zone: string): string =>
  new Intl.DateTimeFormat(language === 'en' ? 'en-GB' : language, { dateStyle: 'long', timeZone: zone }).format(at);

export type Drawn = {
  document: Document;
  frame: LetterFrame;
  /** The letter's own text part, or null. */
  ownText: string | null;
  chips: ChipOf[];
  segments: string[];
};
type LetterWords = {
  layout_id: string | null;
  preview_line: string;
  subject: string;
  /** Another first paragraph than its post has; '' for its own. */
  beginning?: string;
  own_text: string | null;
  due_at: Date;
};

/** What of a post a letter is made of. */
export type PostRow = Pick<
  Selectable<Schema['posts']>,
  | 'id'
  | 'link'
  | 'goes'
  | 'audience'
  | 'slug'
  | 'title'
  | 'subtitle'
  | 'description'
  | 'picture'
  | 'guest'
  | 'author'
  | 'document'
>;

/** A post as layouts take it, on the day on which it leaves. */
export function asPost(ctx: Context, newsletter: Newsletter, row: PostRow, leaves: Date): Post {
  const brought = row.link !== null;
  // Whom a page is not whole for finds all of it in the letter.
  const own = row.goes === 'letter' || row.audience === 'readers' ? null : siteUrl(ctx, newsletter, row.slug);
  return {
    title: row.title,
    // What a feed says of a post is a summary of it, and no subtitle that its writer wrote.
    subtitle: brought ? '' : row.subtitle,
    summary: brought ? row.subtitle : row.description,
    link: row.link ?? own,
    picture: row.picture,
    author: row.guest || row.author,
    day: spokenDay(leaves, newsletter.language, newsletter.time_zone),
    document: row.document,
  };
}

/** A letter laid out. Throws where its post is gone. */
export async function laidOut(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  letter: LetterWords & { post_id: string | null },
): Promise<Drawn> {
  const row = await db.selectFrom('posts').selectAll().where('id', '=', letter.post_id).executeTakeFirstOrThrow();
  return laidPost(ctx, db, newsletter, row, letter);
}

/** A post laid out as a letter, whether it is kept already or would only be. */
export async function laidPost(ctx: Context, db: Db, newsletter: Newsletter, row: PostRow, letter: LetterWords): Promise<Drawn> {
  const layout = await layoutOf(db, newsletter.id, letter.layout_id);
  const leaves = new Date(Math.max(letter.due_at.getTime(), ctx.clock.now().getTime()));
  const words = letter.beginning ? { ...row, document: withBeginning(row.document, letter.beginning) } : row;
  const post = asPost(ctx, newsletter, words, leaves);
  const bound = bind(layout, post);
  const wants = bound.nodes.some((node) => JSON.stringify(node).includes('"latest"'));
  const newest = wants ? await newestPosts(ctx, db, newsletter, 10, row.id) : [];
  const nodes = wants ? rewritten(bound.nodes, (node) => withNewest([node], newest)) : bound.nodes;
  const document = unmarked<Document>({ version: 1, nodes });
  return {
    document,
    frame: unmarked<LetterFrame>({
      ...frameOf(ctx, newsletter),
      previewLine: letter.preview_line,
      look: layout.look,
      seen: true,
    }),
    // A text of one's own was written for the letter's own beginning.
    ownText: letter.own_text === null || letter.beginning ? null : withoutMarks(letter.own_text),
    chips: unique([...chipsIn(document), ...chipsOfLine(letter.subject), ...chipsOfLine(letter.preview_line)]),
    segments: segmentsIn(document),
  };
}

/** Without the marks of slots, wherever they stand: nobody's words begin a part, or end one. */
const unmarked = <T>(value: T): T => JSON.parse(withoutMarks(JSON.stringify(value)));

export const unique = (chips: ChipOf[]): ChipOf[] => [...new Map(chips.map((chip) => [JSON.stringify(chip), chip])).values()];

/** Both parts of a letter as templates with slots. */
export async function drawn({ document, frame, ownText }: Drawn): Promise<{ html: string; text: string }> {
  return { html: await renderHtml(document, frame), text: renderText(document, frame, ownText) };
}

/** What a letter's text says, in short: to know whether a text of one's own still follows it. */
export const textMark = (text: string): string => createHash('sha256').update(text).digest('base64url').slice(0, 24);

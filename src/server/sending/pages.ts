import Joi from 'joi';
import { type Expression, type SqlBool, sql } from 'kysely';
import { Fault } from '@/core/faults';
import { slugify } from '@/core/newsletters/slug';
import type { Document } from '@/core/writing/document';
import { oneLine } from '@/core/writing/line';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import type { Goes } from './drafts';
import { siteUrl } from './laid-out';

/*
 * Posts as pages of the newsletter's own site: where each stands, who may read it, and since when.
 */

const MOST_TOPICS = 10;
/** Names that the site uses itself. */
const RESERVED = new Set(['letters', 'topics', 'feed', 'picture']);

export type PageSettings = {
  postId: string;
  goes: Goes;
  audience: 'everybody' | 'readers';
  slug: string;
  topics: string[];
  picture: string | null;
  pictureAlt: string;
  description: string;
  canonical: string | null;
  author: string;
  guest: string;
  publishedAt: Date | null;
  url: string;
  /** Where it stood before, from which one is led on. */
  before: string[];
};

const postOf = (db: Db, newsletter: Newsletter, letterId: string) =>
  db
    .selectFrom('letters as l')
    .innerJoin('posts as p', 'p.id', 'l.post_id')
    .selectAll('p')
    .select('l.state')
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', letterId);

/** What a letter's post is as a page. Throws "not-found". */
export async function pageOf(ctx: Context, newsletter: Newsletter, letterId: string): Promise<PageSettings> {
  const row = await postOf(ctx.db, newsletter, letterId).executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no such letter.');
  const before = await ctx.db.selectFrom('post_slugs').select('slug').where('post_id', '=', row.id).orderBy('slug').execute();
  return {
    postId: row.id,
    goes: row.goes,
    audience: row.audience,
    slug: row.slug.startsWith('draft-') ? '' : row.slug,
    topics: row.topics,
    picture: row.picture,
    pictureAlt: row.picture_alt,
    description: row.description,
    canonical: row.canonical,
    author: row.author,
    guest: row.guest,
    publishedAt: row.published_at,
    url: siteUrl(ctx, newsletter, row.slug),
    before: before.map((one) => one.slug),
  };
}

type PageInput = {
  goes: Goes;
  audience: 'everybody' | 'readers';
  slug: string;
  topics: string;
  picture: string;
  pictureAlt: string;
  description: string;
  canonical: string;
  author: string;
  guest: string;
};
const line = (most: number, label: string) =>
  Joi.string()
    .custom((value: string) => oneLine(value))
    .max(most)
    .allow('')
    .default('')
    .label(label);
const web = (label: string) =>
  Joi.string()
    .trim()
    .uri({ scheme: ['http', 'https'] })
    .max(2_000)
    .allow('')
    .default('')
    .label(label)
    .messages({
      'string.uri': `“${label}” starts with https:// or http://.`,
      'string.uriCustomScheme': `“${label}” starts with https:// or http://.`,
    });
const schema = Joi.object<PageInput>({
  goes: Joi.valid('both', 'letter', 'page').required().label('What becomes of it'),
  audience: Joi.valid('everybody', 'readers').required().label('Who reads it'),
  slug: line(100, 'Address'),
  topics: line(400, 'Topics'),
  picture: web('Picture'),
  pictureAlt: line(500, 'What the picture shows'),
  description: line(300, 'Description'),
  canonical: web('Where it stood first'),
  author: line(120, 'Author'),
  guest: line(120, 'Guest author'),
});

/** Topics typed with commas between them, each once, as they are spelt first. */
function topicsFrom(typed: string): string[] {
  const found = new Map<string, string>();
  for (const one of typed.split(',').map((part) => part.trim().slice(0, 60)))
    if (one && !found.has(one.toLowerCase())) found.set(one.toLowerCase(), one);
  if (found.size > MOST_TOPICS)
    throw new Fault('invalid', `At most ${MOST_TOPICS} topics.`, { topics: `At most ${MOST_TOPICS}.` });
  return [...found.values()];
}

/**
 * Says what a letter's post is as a page. Where its address changes, whoever comes to the old one is led on. Throws "conflict" where another page stands, or
 * "invalid" with the field.
 */
export async function savePage(ctx: Context, newsletter: Newsletter, letterId: string, raw: unknown): Promise<void> {
  const said = check(schema, raw);
  const topics = topicsFrom(said.topics);
  await inTransaction(ctx.db, async (trx) => {
    const row = await postOf(trx, newsletter, letterId).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    if (row.state !== 'draft' && row.goes !== said.goes && said.goes === 'page')
      throw new Fault('conflict', 'This letter has a time, or has left. Call it back before it becomes a page alone.');
    const wanted = said.slug ? slugify(said.slug).slice(0, 100) : row.slug;
    if (!wanted || RESERVED.has(wanted) || (wanted.startsWith('draft-') && wanted !== row.slug))
      throw new Fault('invalid', 'An address has letters a to z, digits and hyphens, and is none that the site uses itself.', {
        slug: 'Another one, please.',
      });
    if (wanted !== row.slug) await moveTo(trx, newsletter.id, row, wanted);
    await trx
      .updateTable('posts')
      .set({
        goes: said.goes,
        audience: said.audience,
        slug: wanted,
        topics,
        picture: said.picture || null,
        picture_alt: said.pictureAlt,
        description: said.description,
        canonical: said.canonical || null,
        author: said.author,
        guest: said.guest,
        // A letter alone has no page.
        ...(said.goes === 'letter' ? { published_at: null } : {}),
      })
      .where('id', '=', row.id)
      .execute();
  });
}

async function moveTo(
  db: Db,
  newsletterId: string,
  row: { id: string; slug: string; published_at: Date | null },
  wanted: string,
) {
  const taken = await db
    .selectFrom('posts')
    .select('title')
    .where('newsletter_id', '=', newsletterId)
    .where('slug', '=', wanted)
    .where('id', '<>', row.id)
    .executeTakeFirst();
  if (taken)
    throw new Fault('conflict', `“${taken.title || 'Another page'}” stands at this address already.`, { slug: 'Taken already.' });
  // A page that stands wins over one that moved away.
  await db.deleteFrom('post_slugs').where('newsletter_id', '=', newsletterId).where('slug', '=', wanted).execute();
  if (row.slug.startsWith('draft-') || !row.published_at) return;
  await db
    .insertInto('post_slugs')
    .values({ newsletter_id: newsletterId, slug: row.slug, post_id: row.id })
    .onConflict((c) => c.columns(['newsletter_id', 'slug']).doUpdateSet({ post_id: row.id }))
    .execute();
}

/** Has a post's page stand from now on, without a letter or before one. Throws "conflict" for a letter alone, and for a page that has no title. */
export async function publishPage(ctx: Context, newsletter: Newsletter, letterId: string): Promise<{ url: string }> {
  return inTransaction(ctx.db, async (trx) => {
    const row = await postOf(trx, newsletter, letterId).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    if (row.goes === 'letter') throw new Fault('conflict', 'This is a letter alone. Say first that it becomes a page too.');
    if (!row.title.trim()) throw new Fault('conflict', 'A page needs a title.');
    await trx
      .updateTable('posts')
      .set({ published_at: sql`coalesce(published_at, ${ctx.clock.now()})` })
      .where('id', '=', row.id)
      .execute();
    return { url: siteUrl(ctx, newsletter, row.slug) };
  });
}

/** Takes a page down; its letter, if it left, stays where it is. */
export async function takeDown(ctx: Context, newsletter: Newsletter, letterId: string): Promise<void> {
  const { postId } = await pageOf(ctx, newsletter, letterId);
  await ctx.db.updateTable('posts').set({ published_at: null }).where('id', '=', postId).execute();
}

/** A public post as a list of them shows it. */
export type PostLine = {
  title: string;
  words: string;
  slug: string;
  at: Date;
  by: string;
  topics: string[];
  picture: string | null;
  pictureAlt: string;
  forReaders: boolean;
};
export type PublicPost = PostLine & {
  id: string;
  subtitle: string;
  document: Document;
  canonical: string | null;
  changedAt: Date;
};

const standing = (db: Db, newsletterId: string, now: Date) =>
  db
    .selectFrom('posts')
    .where('newsletter_id', '=', newsletterId)
    .where('published_at', 'is not', null)
    .where('published_at', '<=', now)
    .where('goes', '<>', 'letter');

/** A page of public posts, the newest first; `before` is the slug after which it goes on. */
export async function publicPosts(
  ctx: Context,
  newsletter: Newsletter,
  { topic, before, most }: { topic?: string; before?: string; most: number },
): Promise<{ posts: PublicPost[]; more: string | null }> {
  const now = ctx.clock.now();
  let query = standing(ctx.db, newsletter.id, now).selectAll();
  if (topic) query = query.where(sql<string[]>`topics`, '@>', sql<string[]>`array[${topic}]::text[]` as never);
  if (before)
    query = query.where(
      sql`(published_at, id) < (select b.published_at, b.id from posts b where b.newsletter_id = ${newsletter.id} and b.slug = ${before})` as unknown as Expression<SqlBool>,
    );
  const rows = await query
    .orderBy('published_at', 'desc')
    .orderBy('id', 'desc')
    .limit(most + 1)
    .execute();
  const shown = rows.slice(0, most);
  return {
    posts: shown.map((row) => publicPost(row)),
    more: rows.length > most ? (shown.at(-1)?.slug ?? null) : null,
  };
}

type Row = {
  id: string;
  title: string;
  subtitle: string;
  description: string;
  slug: string;
  published_at: Date | null;
  updated_at: Date;
  author: string;
  guest: string;
  topics: string[];
  picture: string | null;
  picture_alt: string;
  audience: 'everybody' | 'readers';
  document: Document;
  canonical: string | null;
};
const publicPost = (row: Row): PublicPost => ({
  id: row.id,
  title: row.title,
  subtitle: row.subtitle,
  words: row.description || row.subtitle,
  slug: row.slug,
  at: row.published_at!,
  changedAt: row.updated_at,
  by: row.guest || row.author,
  topics: row.topics,
  picture: row.picture,
  pictureAlt: row.picture_alt,
  forReaders: row.audience === 'readers',
  document: row.document,
  canonical: row.canonical,
});

/** A post that stands at an address; where it moved to, if it stood there before; or null. */
export async function postAt(
  ctx: Context,
  newsletter: Newsletter,
  slug: string,
): Promise<{ post: PublicPost } | { movedTo: string } | null> {
  const now = ctx.clock.now();
  const row = await standing(ctx.db, newsletter.id, now).selectAll().where('slug', '=', slug).executeTakeFirst();
  if (row) return { post: publicPost(row) };
  const moved = await ctx.db
    .selectFrom('post_slugs as s')
    .innerJoin('posts as p', 'p.id', 's.post_id')
    .select('p.slug')
    .where('s.newsletter_id', '=', newsletter.id)
    .where('s.slug', '=', slug)
    .where('p.published_at', 'is not', null)
    .where('p.published_at', '<=', now)
    .where('p.goes', '<>', 'letter')
    .executeTakeFirst();
  return moved ? { movedTo: moved.slug } : null;
}

/** The topics of public posts, with how many bear each. */
export async function topicsOf(ctx: Context, newsletter: Newsletter): Promise<{ topic: string; posts: number }[]> {
  const { rows } = await sql<{ topic: string; posts: number }>`
    select t.topic, count(*)::int as posts from posts p cross join lateral unnest(p.topics) as t(topic)
    where p.newsletter_id = ${newsletter.id} and p.published_at <= ${ctx.clock.now()} and p.goes <> 'letter'
    group by 1 order by 2 desc, 1 limit 50`.execute(ctx.db);
  return rows;
}

import Joi from 'joi';
import { Fault } from '@/core/faults';
import { slugify } from '@/core/newsletters/slug';
import { ofList, withoutUnread } from '@/core/sending/audience';
import type { LetterState } from '@/core/sending/letter-state';
import { type Document, KINDS, type Node } from '@/core/writing/document';
import { type Change, changed } from '@/core/writing/editing';
import { oneLine } from '@/core/writing/line';
import { documentSchema } from '@/core/writing/schemas';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { newId } from '../ids';
import { dropRun } from './lanes';

/*
 * A letter that is being written: its post, of which a change at a time is saved, and what it is as an email. One window writes at a time; a save from
 * another, or on top of another state, is refused and told why, and nothing is ever overwritten unseen.
 */

/** So long a window holds what it writes without saying anything. */
const HOLD_MS = 25_000;
/** How a post stood is kept each time so long after the last. */
const VERSION_MS = 10 * 60_000;
const MOST_VERSIONS = 200;
const WRITABLE: LetterState[] = ['draft', 'scheduled', 'held'];
const MOST_BYTES = 3_000_000;

export type Draft = {
  id: string;
  postId: string;
  state: LetterState;
  title: string;
  subtitle: string;
  document: Document;
  revision: number;
  savedAt: Date;
  /** null: as the title, or the subtitle. */
  subject: string | null;
  previewLine: string | null;
  senderId: string | null;
  /** null: the newsletter's usual one. */
  layoutId: string | null;
  goes: Goes;
};
/** What becomes of a post. */
export type Goes = 'both' | 'letter' | 'page';

/** Where a post's page stands of itself: by its title, and by a part of its name, so that there is no second one. */
const ownSlug = (title: string, postId: string): string =>
  title ? `${slugify(title).slice(0, 80) || 'letter'}-${postId.slice(-6)}` : `draft-${postId}`;

/** Begins a letter: an empty post, to the newsletter's first list, from its usual sender. */
export async function beginLetter(ctx: Context, newsletter: Newsletter): Promise<{ id: string }> {
  const now = ctx.clock.now();
  const [postId, id] = [newId(), newId()];
  const list = await ctx.db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('archived_at', 'is', null)
    .orderBy('position')
    .orderBy('created_at')
    .executeTakeFirstOrThrow();
  const sender = await ctx.db
    .selectFrom('senders')
    .select(['id', 'name'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy((eb) => eb('id', '=', newsletter.default_sender_id), 'desc')
    .orderBy('created_at')
    .executeTakeFirst();
  await ctx.db.transaction().execute(async (trx) => {
    await trx
      .insertInto('posts')
      .values({
        id: postId,
        newsletter_id: newsletter.id,
        slug: ownSlug('', postId),
        title: '',
        document: JSON.stringify({ version: 1, nodes: [] }),
        goes: 'both',
        author: sender?.name ?? '',
        created_at: now,
        updated_at: now,
      })
      .execute();
    await trx
      .insertInto('letters')
      .values({
        id,
        newsletter_id: newsletter.id,
        kind: 'post',
        post_id: postId,
        audience: JSON.stringify(ofList(list.id)),
        sender_id: sender?.id ?? null,
        subject: '',
        preview_line: '',
        own_subject: false,
        own_preview: false,
        state: 'draft',
        state_at: now,
        due_at: now,
        created_at: now,
      })
      .execute();
  });
  return { id };
}

const rowOf = (db: Db, newsletter: Newsletter, id: string) =>
  db
    .selectFrom('letters as l')
    .innerJoin('posts as p', 'p.id', 'l.post_id')
    .selectAll('p')
    .select(['l.state', 'l.subject', 'l.preview_line', 'l.own_subject', 'l.own_preview', 'l.sender_id', 'l.layout_id'])
    .select(['l.audience as meant', 'l.again_of'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', id);

/** A letter to be written on. Throws "not-found", and "conflict" where it has begun to leave. */
export async function draftOf(ctx: Context, newsletter: Newsletter, id: string): Promise<Draft> {
  const row = await rowOf(ctx.db, newsletter, id).executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no such letter.');
  return {
    id,
    postId: row.id,
    state: row.state,
    title: row.title,
    subtitle: row.subtitle,
    document: row.document,
    revision: row.revision,
    savedAt: row.updated_at,
    subject: row.own_subject ? row.subject : null,
    previewLine: row.own_preview ? row.preview_line : null,
    senderId: row.sender_id,
    layoutId: row.layout_id,
    goes: row.goes,
  };
}

type Named = { id: string; label: string };
/** What a letter's blocks may name: segments, forms that stand, and what readers are asked (by its key). */
export async function aroundWriting(
  ctx: Context,
  newsletter: Newsletter,
): Promise<{ segments: Named[]; forms: Named[]; fields: Named[] }> {
  const [segments, forms, fields] = await Promise.all([
    ctx.db
      .selectFrom('segments')
      .select(['id', 'name as label'])
      .where('newsletter_id', '=', newsletter.id)
      .orderBy('name')
      .execute(),
    ctx.db
      .selectFrom('forms')
      .select(['id', 'name as label'])
      .where('newsletter_id', '=', newsletter.id)
      .where('archived_at', 'is', null)
      .orderBy('name')
      .execute(),
    ctx.db
      .selectFrom('fields')
      .select(['key as id', 'label'])
      .where('newsletter_id', '=', newsletter.id)
      .orderBy('label')
      .execute(),
  ]);
  return { segments, forms, fields };
}

/** Can it still be written on? */
export const isWritable = (state: LetterState): boolean => WRITABLE.includes(state);

type Save = {
  key: string;
  /** The window closes: whoever comes next need not wait. */
  leave: boolean;
  revision: number;
  change: Change | null;
} & Partial<{
  title: string;
  subtitle: string;
  subject: string | null;
  previewLine: string | null;
  senderId: string | null;
  layoutId: string | null;
}>;
const line = (most: number, label: string) =>
  Joi.string()
    .custom((value: string) => oneLine(value))
    .max(most)
    .allow('')
    .label(label);
const schema = Joi.object<Save>({
  key: Joi.string().min(8).max(80).required(),
  leave: Joi.boolean().default(false),
  revision: Joi.number().integer().min(1).required(),
  change: Joi.object({
    at: Joi.number().integer().min(0).required(),
    remove: Joi.number().integer().min(0).required(),
    insert: Joi.array().items(Joi.object().unknown()).max(5_000).required(),
  })
    .allow(null)
    .required(),
  title: line(300, 'Title'),
  subtitle: line(500, 'Subtitle'),
  subject: line(200, 'Subject').allow(null),
  previewLine: line(300, 'Preview line').allow(null),
  senderId: Joi.string().uuid().allow(null),
  layoutId: Joi.string().uuid().allow(null),
});

/** A fault that names who else writes. */
const taken = (name: string | null) =>
  new Fault(
    'conflict',
    `${name ?? 'Somebody'} is writing this letter in another window. What you wrote is kept here; nothing was overwritten.`,
  );

/**
 * Saves a change of a letter that was made on top of `revision`, by the window `key`; what it does not name stays as it is. Throws "conflict" where another window writes, where the post stands
 * otherwise by now, or where the letter has begun to leave: nothing is overwritten. A node that a later version knows is kept as it is.
 */
export async function saveDraftLetter(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  id: string,
  raw: unknown,
): Promise<{ revision: number; savedAt: Date }> {
  const said = check(schema, raw);
  const now = ctx.clock.now();
  return inTransaction(ctx.db, async (trx) => {
    const row = await rowOf(trx, newsletter, id).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more. What you wrote is kept here.');
    if (!isWritable(row.state))
      throw new Fault(
        'conflict',
        'This letter has begun to leave. What you wrote since is kept here, and changes nothing of it.',
      );
    if (row.writer_key !== said.key && row.writer_until && row.writer_until > now) throw taken(row.writer_name);
    if (row.revision !== said.revision)
      throw new Fault(
        'conflict',
        'This letter was changed elsewhere since it was opened here. What you wrote is kept here; nothing was overwritten.',
      );
    // It would be kept as one of ours, and what the later version knows of it lost.
    if (said.change && Number(row.document.version) > 1)
      throw new Fault(
        'conflict',
        'This was written by a later version of Inkset, and can only be read here. What you wrote is kept here.',
      );
    const nodes = said.change ? changed(row.document.nodes, said.change) : row.document.nodes;
    if (!nodes) throw new Fault('conflict', 'This stands otherwise on the server by now. What you wrote is kept here.');
    const document = said.change ? checkedDocument(nodes) : row.document;
    await keepVersion(trx, row, person.name, now);
    const title = said.title ?? row.title;
    const subtitle = said.subtitle ?? row.subtitle;
    const subject = said.subject === undefined ? (row.own_subject ? row.subject : null) : said.subject;
    const preview = said.previewLine === undefined ? (row.own_preview ? row.preview_line : null) : said.previewLine;
    await trx
      .updateTable('posts')
      .set({
        title,
        subtitle,
        ...(said.change ? { document: JSON.stringify(document) } : {}),
        revision: row.revision + 1,
        updated_at: now,
        writer_key: said.key,
        writer_name: person.name,
        writer_until: said.leave ? null : new Date(now.getTime() + HOLD_MS),
        // Where its page will stand follows its title, until it stands there or is said otherwise.
        ...(!row.published_at && [ownSlug('', row.id), ownSlug(row.title, row.id)].includes(row.slug)
          ? { slug: ownSlug(title, row.id) }
          : {}),
      })
      .where('id', '=', row.id)
      .execute();
    await trx
      .updateTable('letters')
      .set({
        subject: subject ?? title,
        own_subject: subject !== null,
        preview_line: preview ?? subtitle,
        own_preview: preview !== null,
        ...(await ways(trx, newsletter, said)),
      })
      .where('id', '=', id)
      .execute();
    return { revision: row.revision + 1, savedAt: now };
  });
}

/** The sender and the layout that were chosen, where they are the newsletter's own. */
async function ways(
  db: Db,
  newsletter: Newsletter,
  { senderId, layoutId }: Save,
): Promise<{ sender_id?: string; layout_id?: string | null }> {
  const own = async (table: 'senders' | 'layouts', id: string | null | undefined) =>
    typeof id === 'string' &&
    (await db
      .selectFrom(table)
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .executeTakeFirst()) !== undefined;
  return {
    ...((await own('senders', senderId)) ? { sender_id: senderId! } : {}),
    ...(layoutId === null || (await own('layouts', layoutId)) ? { layout_id: layoutId ?? null } : {}),
  };
}

function checkedDocument(nodes: Node[]): Document {
  const document: Document = { version: 1, nodes };
  if (JSON.stringify(document).length > MOST_BYTES)
    throw new Fault('invalid', 'This is longer than any mail program shows. Part of it has to go before it can be saved.');
  const read = check(documentSchema, { version: 1, nodes: nodes.filter((node) => KINDS.has(node.kind)) });
  let next = 0;
  return { version: 1, nodes: nodes.map((node) => (KINDS.has(node.kind) ? read.nodes[next++]! : node)) };
}

type Row = { id: string; revision: number; title: string; subtitle: string; document: Document; updated_at: Date };
/** Keeps how a post stood, unless that was done not long ago. */
async function keepVersion(db: Db, row: Row, by: string, now: Date, always = false): Promise<void> {
  const last = await db
    .selectFrom('post_versions')
    .select('at')
    .where('post_id', '=', row.id)
    .orderBy('revision', 'desc')
    .executeTakeFirst();
  if (row.document.nodes.length === 0 && !row.title) return;
  if (!always && last && now.getTime() - last.at.getTime() < VERSION_MS) return;
  await db
    .insertInto('post_versions')
    .values({
      post_id: row.id,
      revision: row.revision,
      title: row.title,
      subtitle: row.subtitle,
      document: JSON.stringify(row.document),
      by_name: by,
      at: now,
    })
    .onConflict((c) => c.doNothing())
    .execute();
  await db
    .deleteFrom('post_versions')
    .where('post_id', '=', row.id)
    .where('revision', 'not in', (eb) =>
      eb
        .selectFrom('post_versions')
        .select('revision')
        .where('post_id', '=', row.id)
        .orderBy('revision', 'desc')
        .limit(MOST_VERSIONS),
    )
    .execute();
}

const holdSchema = Joi.object<{ key: string; take: boolean; leave: boolean }>({
  leave: Joi.boolean().default(false),
  key: Joi.string().min(8).max(80).required(),
  take: Joi.boolean().default(false),
});

/** Says that a window still writes, or takes the letter over from another. Answers whether it is this window's, and whose it is. */
export async function holdLetter(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  id: string,
  raw: unknown,
): Promise<{ mine: boolean; by: string | null; revision: number }> {
  const { key, take, leave } = check(holdSchema, raw);
  const now = ctx.clock.now();
  return inTransaction(ctx.db, async (trx) => {
    const row = await rowOf(trx, newsletter, id).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    const free = !row.writer_until || row.writer_until <= now || row.writer_key === key;
    if (!free && (!take || leave)) return { mine: false, by: row.writer_name, revision: row.revision };
    await trx
      .updateTable('posts')
      .set({ writer_key: key, writer_name: person.name, writer_until: leave ? null : new Date(now.getTime() + HOLD_MS) })
      .where('id', '=', row.id)
      .execute();
    return { mine: true, by: person.name, revision: row.revision };
  });
}

export type Version = { revision: number; title: string; by: string; at: Date };

/** How a letter stood before, the latest first. */
export async function versionsOfLetter(ctx: Context, newsletter: Newsletter, id: string): Promise<Version[]> {
  const { postId } = await draftOf(ctx, newsletter, id);
  return ctx.db
    .selectFrom('post_versions')
    .select(['revision', 'title', 'by_name as by', 'at'])
    .where('post_id', '=', postId)
    .orderBy('revision', 'desc')
    .execute();
}

/** One of them whole. */
export async function versionOf(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  revision: number,
): Promise<{ title: string; subtitle: string; document: Document }> {
  const { postId } = await draftOf(ctx, newsletter, id);
  const row = await ctx.db
    .selectFrom('post_versions')
    .select(['title', 'subtitle', 'document'])
    .where('post_id', '=', postId)
    .where('revision', '=', revision)
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This version is not kept any more.');
  return row;
}

/** Brings an older version back; how it stands now is kept among the versions first. */
export async function restoreLetter(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  id: string,
  revision: number,
): Promise<void> {
  const version = await versionOf(ctx, newsletter, id, revision);
  const now = ctx.clock.now();
  await inTransaction(ctx.db, async (trx) => {
    const row = await rowOf(trx, newsletter, id).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    if (!isWritable(row.state)) throw new Fault('conflict', 'This letter has begun to leave.');
    await keepVersion(trx, row, person.name, now, true);
    await trx
      .updateTable('posts')
      .set({
        ...version,
        document: JSON.stringify(version.document),
        revision: row.revision + 1,
        updated_at: now,
        writer_key: null,
        writer_until: null,
      })
      .where('id', '=', row.id)
      .execute();
  });
}

/** Another letter with the same words, to be changed. */
export async function duplicateLetter(ctx: Context, newsletter: Newsletter, id: string): Promise<{ id: string }> {
  const from = await draftOf(ctx, newsletter, id);
  const made = await beginLetter(ctx, newsletter);
  const to = await draftOf(ctx, newsletter, made.id);
  const row = await rowOf(ctx.db, newsletter, id).executeTakeFirstOrThrow();
  const title = from.title ? `${from.title.slice(0, 290)} (copy)` : '';
  await ctx.db
    .updateTable('posts')
    .set({
      title,
      subtitle: from.subtitle,
      document: JSON.stringify(from.document),
      slug: ownSlug(title, to.postId),
      goes: row.goes,
      audience: row.audience,
      topics: row.topics,
      picture: row.picture,
      picture_alt: row.picture_alt,
      description: row.description,
      author: row.author,
      guest: row.guest,
    })
    .where('id', '=', to.postId)
    .execute();
  await ctx.db
    .updateTable('letters')
    .set({
      subject: from.subject ?? title,
      own_subject: from.subject !== null,
      preview_line: from.previewLine ?? from.subtitle,
      own_preview: from.previewLine !== null,
      // What is for nobody but those who did not open a letter is that one alone.
      audience: JSON.stringify(row.again_of ? withoutUnread(row.meant, row.again_of) : row.meant),
      sender_id: from.senderId,
      layout_id: from.layoutId,
    })
    .where('id', '=', made.id)
    .execute();
  return made;
}

/** Puts a letter away where it does not stand among the others, or brings it back. Nothing of it is changed; what is on the runway or on its way is not put away. */
export async function archiveLetter(ctx: Context, newsletter: Newsletter, id: string, away: boolean): Promise<void> {
  const result = await ctx.db
    .updateTable('letters')
    .set({ archived_at: away ? ctx.clock.now() : null })
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .where('state', 'in', ['draft', 'sent', 'stopped'])
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n)
    throw new Fault('conflict', 'Only a draft, or a letter that has left, can be put away. Call this one back first.');
}

/** Throws a draft away, with its post and its versions. Throws "conflict" for anything that has a time or has begun to leave. */
export async function discardLetter(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const row = await rowOf(trx, newsletter, id).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    if (row.state !== 'draft') throw new Fault('conflict', 'Only a draft can be thrown away. Call this letter back first.');
    const { run_id } = await trx.selectFrom('letters').select('run_id').where('id', '=', id).executeTakeFirstOrThrow();
    if (run_id) await dropRun(ctx, trx, run_id);
    await trx.deleteFrom('letters').where('id', '=', id).execute();
    const used = await trx.selectFrom('letters').select('id').where('post_id', '=', row.id).executeTakeFirst();
    if (!used) await trx.deleteFrom('posts').where('id', '=', row.id).execute();
  });
}

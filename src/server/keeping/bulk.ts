import Joi from 'joi';
import { sql } from 'kysely';
import { asFault, Fault } from '@/core/faults';
import {
  agreementSchema,
  BULK_ACTS,
  type BulkAct,
  type BulkState,
  type BulkWhat,
  canUndo,
  tagSchema,
  type Whom,
  whomSchema,
} from '@/core/readers/bulk';
import type { Person } from '../auth/session';
import { check } from '../check';
import { atOneMoment } from '../clock/clock';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction, isAway } from '../db/connection';
import { newId } from '../ids';
import { whomSql } from '../readers/table';
import { addToList, allowReaders, putBackOnList, suppressReaders, tagReaders, takeOffList, untagReaders } from './acts';
import { forgetCold } from './cold-counts';
import { type By, eraseReaders } from './erase';

export type Bulk = {
  id: string;
  act: BulkAct;
  what: BulkWhat & { list?: string };
  by: string;
  state: BulkState;
  cause: string | null;
  /** Whom it is for; null until that is fixed. */
  people: number | null;
  done: number;
  /** For so many of them something changed. */
  changed: number;
  beganAt: Date;
  endedAt: Date | null;
  undo: boolean;
};

const actSchema = Joi.string<BulkAct>()
  .valid(...BULK_ACTS)
  .required();
const schema = Joi.object<{ act: BulkAct; what: unknown; whom: Whom }>({
  act: actSchema,
  whom: whomSchema.required(),
  what: Joi.object().unknown().default({}),
});
const listId = Joi.string().uuid().required();
const WHAT: Record<BulkAct, Joi.ObjectSchema<BulkWhat>> = {
  tag: Joi.object({ tag: tagSchema }),
  untag: Joi.object({ tag: tagSchema }),
  add: Joi.object({ listId, agreement: agreementSchema.required() }),
  'take off': Joi.object({ listId }),
  'let go': Joi.object({}),
  suppress: Joi.object({}),
  erase: Joi.object({}),
};

/** So many at once, in one transaction: little enough that nobody waits for it, and much enough that half a million take seconds. */
const PORTION: Record<BulkAct, number> = {
  tag: 5_000,
  untag: 5_000,
  add: 1_000,
  'take off': 1_000,
  'let go': 1_000,
  suppress: 200,
  erase: 200,
};
/** Acts can be taken back, and are shown, for so long. */
const SHOWN_DAYS = 7;
const DAY_MS = 86_400_000;

/** Begins an act on many readers; a worker does it. Throws "invalid". */
export async function startBulk(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  raw: unknown,
): Promise<{ id: string }> {
  const { act, whom, what: said } = check(schema, raw);
  const what = check(WHAT[act], said);
  const id = newId();
  await ctx.db
    .insertInto('bulk_acts')
    .values({
      id,
      newsletter_id: newsletter.id,
      act,
      what: JSON.stringify(what),
      whom: JSON.stringify(whom),
      by_name: person.name,
      began_at: ctx.clock.now(),
    })
    .execute();
  return { id };
}

/**
 * Does one of the acts, or lifts what an earlier one did ('allow'), to one reader and at once. Throws "invalid", "not-found", and "conflict" where nothing
 * came of it: who left a list by themselves, or may not be written to, is not put on one.
 */
export async function onReader(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  id: string,
  kind: string,
  raw: Record<string, unknown>,
): Promise<void> {
  const by: By = { actor: 'member', name: person.name };
  const allowing = kind === 'allow';
  const named = allowing ? 'suppress' : check(actSchema, kind);
  const what = check(WHAT[named], 'how' in raw ? { ...raw, agreement: { how: raw.how, said: raw.said } } : raw);
  const changed = await inTransaction(ctx.db, async (trx) => {
    const there = await trx
      .selectFrom('readers')
      .select('id')
      .where('id', '=', id)
      .where('newsletter_id', '=', newsletter.id)
      .executeTakeFirst();
    if (!there) throw new Fault('not-found', 'There is no such reader.');
    return allowing ? allowReaders(ctx, trx, newsletter, [id], by) : act(ctx, trx, newsletter, named, what, [id], by);
  });
  if (changed.length === 0) throw new Fault('conflict', NOTHING[allowing ? 'allow' : named]);
}

const NOTHING: Record<BulkAct | 'allow', string> = {
  tag: 'They have this tag already.',
  untag: 'They do not have this tag.',
  add: 'They are on this list already, left it themselves, or their address is suppressed. Whoever left comes back only by their own act.',
  'take off': 'They are not on this list.',
  'let go': 'They are on no list.',
  suppress: 'Their address is suppressed already.',
  erase: 'There is no such reader.',
  allow: 'Only what a member suppressed by hand can be allowed again by hand.',
};

/** The acts of the last days, the newest first. */
export async function bulksOf(ctx: Context, newsletter: Newsletter): Promise<Bulk[]> {
  const rows = await ctx.db
    .selectFrom('bulk_acts')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .where('began_at', '>', new Date(ctx.clock.now().getTime() - SHOWN_DAYS * DAY_MS))
    .orderBy('began_at', 'desc')
    .orderBy('id', 'desc')
    .limit(20)
    .execute();
  const lists = await ctx.db.selectFrom('lists').select(['id', 'name']).where('newsletter_id', '=', newsletter.id).execute();
  const names = new Map(lists.map((list) => [list.id, list.name]));
  return rows.map((row) => ({
    id: row.id,
    act: row.act,
    what: { ...row.what, ...(row.what.listId ? { list: names.get(row.what.listId) ?? 'a list that is gone' } : {}) },
    by: row.by_name,
    state: row.state,
    cause: row.cause,
    people: row.people,
    done: row.done,
    changed: row.changed,
    beganAt: row.began_at,
    endedAt: row.ended_at,
    undo: canUndo(row.act) && ['done', 'stopped', 'failed'].includes(row.state) && row.changed > 0,
  }));
}

/** Stops an act where it stands: what is done stays, and can be taken back. Stopping it twice, or one that has ended, changes nothing. */
export async function stopBulk(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await ctx.db
    .updateTable('bulk_acts')
    .set({ state: 'stopped', ended_at: ctx.clock.now() })
    .where('id', '=', id)
    .where('newsletter_id', '=', newsletter.id)
    .where('state', 'in', ['waiting', 'working'])
    .execute();
}

/** Takes an act back, for whom it changed something: whoever has moved on since stays as they are. Throws "conflict" where it cannot be. */
export async function undoBulk(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const bulk = (await bulksOf(ctx, newsletter)).find((one) => one.id === id);
  if (!bulk) throw new Fault('not-found', 'This can no longer be taken back.');
  if (bulk.state === 'undoing' || bulk.state === 'undone') return;
  if (!bulk.undo) throw new Fault('conflict', 'There is nothing to take back.');
  await ctx.db
    .updateTable('bulk_acts')
    .set({ state: 'undoing', ended_at: null })
    .where('id', '=', id)
    .where('state', 'in', ['done', 'stopped', 'failed'])
    .execute();
}

/**
 * Works on an act until it has ended, or somebody stopped it: portions, each in a transaction with its progress, so that whoever comes after a crash goes on
 * where it stood, nobody left out and nobody twice. Two workers take turns. One that cannot go on is set aside with the reason, and stands in nobody's way.
 */
export async function workBulk(ctx: Context, id: string): Promise<void> {
  try {
    while (await inTransaction(ctx.db, (trx) => portion(ctx, trx, id)));
  } catch (error) {
    if (isAway(error)) throw error;
    if (!(error instanceof Fault)) ctx.log.error({ err: error, act: id }, 'an act on readers failed');
    await ctx.db
      .updateTable('bulk_acts')
      .set({ state: 'failed', cause: asFault(error).sentence, ended_at: ctx.clock.now() })
      .where('id', '=', id)
      .where('state', 'in', ['waiting', 'working', 'undoing'])
      .execute();
  }
}

/** Does the next portion; false when nothing is left to do. */
async function portion(ctx: Context, db: Db, id: string): Promise<boolean> {
  const row = await db.selectFrom('bulk_acts').selectAll().where('id', '=', id).forUpdate().executeTakeFirst();
  if (!row || !['waiting', 'working', 'undoing'].includes(row.state)) return false;
  const newsletter = await db.selectFrom('newsletters').selectAll().where('id', '=', row.newsletter_id).executeTakeFirstOrThrow();
  if (newsletter.removed_at) return false;
  const set = (
    values: Partial<Pick<typeof row, 'state' | 'people' | 'done' | 'changed' | 'portions' | 'ended_at'>> & { whom?: string },
  ) => db.updateTable('bulk_acts').set(values).where('id', '=', id).execute();
  if (row.people === null) {
    // Once they are fixed nobody needs to know any more how they were found: words may be an address.
    const people = await fixPeople(ctx, db, newsletter, row);
    await set({ people, state: 'working', whom: JSON.stringify({ ids: [] }) });
    return true;
  }
  const undoing = row.state === 'undoing';
  let next = db.selectFrom('bulk_people').selectAll().where('act_id', '=', id).orderBy('n').limit(1);
  next = undoing ? next.where('changed_at', 'is not', null) : next.where('n', '>=', row.portions);
  const portion = await next.executeTakeFirst();
  if (!portion) {
    await set({ state: undoing ? 'undone' : 'done', ended_at: ctx.clock.now() });
    await forgetCold(db, row.newsletter_id);
    return false;
  }
  const by: By = { actor: 'member', name: row.by_name };
  const standing = atOneMoment(ctx);
  const now = standing.clock.now();
  const keep = (ids: string[] | null) =>
    db
      .updateTable('bulk_people')
      .set({ changed_ids: ids, changed_at: ids?.length ? now : null })
      .where('act_id', '=', id)
      .where('n', '=', portion.n)
      .execute();
  if (undoing) {
    // What is taken back goes by the moment in which it was done: whoever stands otherwise since then has moved.
    const ids = portion.changed_ids!;
    await undo(standing, db, newsletter, row.act, row.what, ids, by, portion.changed_at!);
    await keep(null);
    await set({ changed: row.changed - ids.length });
    return true;
  }
  const ids = portion.reader_ids;
  const changed = await act(standing, db, newsletter, row.act, row.what, ids, by);
  // Whoever is erased stands nowhere, and need not: it is not taken back.
  if (row.act === 'erase') await db.deleteFrom('bulk_people').where('act_id', '=', id).where('n', '=', portion.n).execute();
  else await keep(changed);
  await set({ portions: portion.n + 1, done: row.done + ids.length, changed: row.changed + changed.length });
  return true;
}

/** Forgets acts that are no longer shown, with whom they were for. */
export async function forgetOldActs(ctx: Context): Promise<void> {
  await ctx.db
    .deleteFrom('bulk_acts')
    .where('began_at', '<=', new Date(ctx.clock.now().getTime() - SHOWN_DAYS * DAY_MS))
    .where('state', 'in', ['done', 'stopped', 'failed', 'undone'])
    .execute();
}

/** Fixes whom an act is for: what comes after does not change it. Answers how many they are. */
async function fixPeople(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  { id, act, whom }: { id: string; act: BulkAct; whom: Whom },
): Promise<number> {
  const who = await whomSql(ctx, db, newsletter, whom);
  const { rows } = await sql<{ people: number }>`
    with fixed as (
      insert into bulk_people (act_id, n, reader_ids)
      select ${id}::uuid, p.n, array_agg(p.id order by p.id) from (
        select r.id, (row_number() over (order by r.id) - 1) / ${PORTION[act]} as n from readers r where r.newsletter_id = ${newsletter.id}::uuid and ${who}) p
      group by p.n returning cardinality(reader_ids) as many)
    select coalesce(sum(many), 0)::int as people from fixed`.execute(db);
  return rows[0]!.people;
}

/** Answers for whom something changed. */
async function act(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  kind: BulkAct,
  what: BulkWhat,
  ids: string[],
  by: By,
): Promise<string[]> {
  switch (kind) {
    case 'tag':
      return tagReaders(ctx, db, newsletter, ids, what.tag!);
    case 'untag':
      return untagReaders(db, newsletter, ids, what.tag!);
    case 'add':
      return addToList(ctx, db, newsletter, ids, { listId: what.listId!, agreement: what.agreement!, by });
    case 'take off':
      return takeOffList(ctx, db, newsletter, ids, { listId: what.listId!, by });
    case 'let go':
      return onEveryList(db, newsletter, ids, (listId) => takeOffList(ctx, db, newsletter, ids, { listId, by }));
    case 'suppress':
      return suppressReaders(ctx, db, newsletter, ids, by);
    case 'erase':
      return eraseReaders(ctx, db, newsletter, ids, by);
  }
}

async function undo(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  kind: BulkAct,
  what: BulkWhat,
  ids: string[],
  by: By,
  since: Date,
): Promise<string[]> {
  switch (kind) {
    case 'tag':
      return untagReaders(db, newsletter, ids, what.tag!, since);
    case 'untag':
      return tagReaders(ctx, db, newsletter, ids, what.tag!);
    case 'add':
      return takeOffList(ctx, db, newsletter, ids, { listId: what.listId!, by, since });
    case 'take off':
      return putBackOnList(ctx, db, newsletter, ids, { listId: what.listId!, by, since });
    case 'let go':
      return onEveryList(db, newsletter, ids, (listId) => putBackOnList(ctx, db, newsletter, ids, { listId, by, since }));
    case 'suppress':
      return allowReaders(ctx, db, newsletter, ids, by, since);
    case 'erase':
      return [];
  }
}

/** Does something on each list that any of them is on or was taken off. Answers for whom anything changed. */
async function onEveryList(
  db: Db,
  newsletter: Newsletter,
  ids: string[],
  work: (listId: string) => Promise<string[]>,
): Promise<string[]> {
  const lists = await db
    .selectFrom('memberships')
    .select('list_id')
    .distinct()
    .where('newsletter_id', '=', newsletter.id)
    .where(sql<boolean>`reader_id = any(${ids}::uuid[])`)
    .orderBy('list_id')
    .execute();
  const changed = new Set<string>();
  for (const { list_id } of lists) for (const id of await work(list_id)) changed.add(id);
  return [...changed];
}

import { type RawBuilder, sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Agreement } from '@/core/readers/bulk';
import type { ConsentAct } from '@/core/readers/state';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { confirmationLetter } from '../forms/arrive';
import { complete } from '../forms/forms';
import { mayAsk } from '../forms/keep';
import { postAll } from '../mail/post';
import { allowAgain } from '../readers/suppressed';
import { voiceOf } from '../senders/senders';
import { cancelWhatTheyLeft, silence } from '../sending/silence';
import type { By } from './erase';

/*
 * What a member does to readers. Each answers whom it changed, in the caller's transaction; whoever is as wished already, or may not be moved, is passed over.
 */

type Own = Pick<Newsletter, 'id'>;
const idsOf = ({ rows }: { rows: { id: string }[] }) => rows.map((row) => row.id);

/** Gives readers a tag, and counts them, whose standing is at hand here: the trigger would look each of them up again. */
export async function tagReaders(ctx: Context, db: Db, newsletter: Own, ids: string[], tag: string): Promise<string[]> {
  await sql`insert into tags (newsletter_id, name) values (${newsletter.id}, ${tag}) on conflict do nothing`.execute(db);
  await sql`set local inkset.bringing = 'on'`.execute(db);
  const { rows } = await sql<{ ids: string[] }>`
    with theirs as materialized (
      select r.id, r.standing from readers r where r.newsletter_id = ${newsletter.id} and r.id = any(${ids}::uuid[]) order by r.id for key share
    ), given as (
      insert into reader_tags (reader_id, newsletter_id, tag, at) select id, ${newsletter.id}::uuid, ${tag}, ${ctx.clock.now()}::timestamptz from theirs
      on conflict do nothing returning reader_id as id
    ), counted as (
      insert into people_changes (newsletter_id, kind, key, reading, waiting, left_count, unreachable)
      select ${newsletter.id}::uuid, 'tag', ${tag}, count(*) filter (where standing = 'reading'), count(*) filter (where standing = 'waiting'),
        count(*) filter (where standing = 'left'), count(*) filter (where standing = 'unreachable')
      from given join theirs using (id) where standing <> 'none' having count(*) > 0
    ) select coalesce(array_agg(id order by id), '{}') as ids from given`.execute(db);
  await sql`set local inkset.bringing = 'off'`.execute(db);
  return rows[0]!.ids;
}

/** Takes a tag from readers; with `given`, only where they got it at that moment. */
export const untagReaders = async (
  db: Db,
  newsletter: Own,
  ids: string[],
  tag: string,
  given: Date | null = null,
): Promise<string[]> =>
  idsOf(
    await sql<{ id: string }>`
      delete from reader_tags where newsletter_id = ${newsletter.id} and reader_id = any(${ids}::uuid[]) and tag = ${tag}
        and ${given ? sql`at = ${given}` : sql`true`} returning reader_id as id`.execute(db),
  );

type Entry = { act: ConsentAct; state: string; list: { id: string; name: string }; by: By; wording?: string };

/** Adds to the record of consent of many readers what was done about one list. */
async function record(
  ctx: Context,
  db: Db,
  newsletter: Own,
  ids: string[],
  { act, state, list, by, wording }: Entry,
): Promise<void> {
  await sql`
    insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor, actor_name, wording)
    select ${newsletter.id}::uuid, id, ${list.id}::uuid, ${list.name}, ${act}, ${state}, ${ctx.clock.now()}::timestamptz, ${by.actor}, ${by.name}, ${wording ?? null}
    from unnest(${ids}::uuid[]) as t(id) order by id`.execute(db);
}

/** What was last done about a membership; what concerns the address alone is none of it. */
export const lastAct = (of: RawBuilder<unknown>) =>
  sql`(select c.act from consents c where c.reader_id = ${of}.reader_id and c.list_id = ${of}.list_id and c.act in ('ask', 'confirm', 'leave', 'return', 'add', 'take off') order by c.at desc, c.id desc limit 1)`;

/** A list of this newsletter that people can be put on. Throws "not-found". */
async function listOf(db: Db, newsletter: Own, id: string) {
  const list = await db
    .selectFrom('lists')
    .select(['id', 'name', 'public_name'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .where('archived_at', 'is', null)
    .executeTakeFirst();
  if (!list) throw new Fault('not-found', 'There is no such list any more.');
  return list;
}

/**
 * Puts readers on a list: reading at once where the writer vouches for their consent, which is kept with their words; else waiting, and asked by a
 * confirmation letter. Nobody who left it by an act of their own, and nobody whose address is suppressed, is brought back.
 */
export async function addToList(
  ctx: Context,
  db: Db,
  newsletter: Asking,
  ids: string[],
  { listId, agreement, by }: { listId: string; agreement: Agreement; by: By },
): Promise<string[]> {
  const list = await listOf(db, newsletter, listId);
  const now = ctx.clock.now();
  const state = agreement.how === 'vouched' ? 'reading' : 'waiting';
  await sql`select id from readers where newsletter_id = ${newsletter.id} and id = any(${ids}::uuid[]) order by id for update`.execute(
    db,
  );
  const moved = idsOf(
    await sql<{ id: string }>`
      insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
      select r.id, ${list.id}::uuid, r.newsletter_id, ${state}, ${now}::timestamptz, ${state === 'reading' ? now : null}::timestamptz from readers r
      where r.newsletter_id = ${newsletter.id} and r.id = any(${ids}::uuid[]) and r.address_state <> 'suppressed'
      order by r.id
      on conflict (reader_id, list_id) do update set state = excluded.state, since = excluded.since, joined_at = excluded.joined_at
      where memberships.state = 'left' and ${lastAct(sql`memberships`)} = 'take off'
      returning reader_id as id`.execute(db),
  );
  if (moved.length === 0) return moved;
  await record(ctx, db, newsletter, moved, {
    act: 'add',
    state,
    list,
    by,
    wording: agreement.how === 'vouched' ? agreement.said : undefined,
  });
  if (state === 'waiting') await askToConfirm(ctx, db, newsletter, moved, [list]);
  return moved;
}

/** Takes readers off a list; with `since`, only who has stood there as they do since that moment. What they were about to get by it is cancelled. */
export async function takeOffList(
  ctx: Context,
  db: Db,
  newsletter: Own,
  ids: string[],
  { listId, by, since = null }: { listId: string; by: By; since?: Date | null },
): Promise<string[]> {
  const list = await db
    .selectFrom('lists')
    .select(['id', 'name'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', listId)
    .executeTakeFirst();
  if (!list) throw new Fault('not-found', 'There is no such list any more.');
  await sql`select id from readers where newsletter_id = ${newsletter.id} and id = any(${ids}::uuid[]) order by id for update`.execute(
    db,
  );
  const moved = idsOf(
    await sql<{ id: string }>`
      update memberships set state = 'left', since = ${ctx.clock.now()} where newsletter_id = ${newsletter.id} and reader_id = any(${ids}::uuid[])
        and list_id = ${list.id} and state <> 'left' and ${since ? sql`since = ${since}` : sql`true`} returning reader_id as id`.execute(
      db,
    ),
  );
  await record(ctx, db, newsletter, moved, { act: 'take off', state: 'left', list, by });
  for (const id of await withQueued(db, moved)) await cancelWhatTheyLeft(ctx, db, id);
  return moved;
}

/** Those of them for whom something is queued. */
export const withQueued = async (db: Db, ids: string[]): Promise<string[]> =>
  idsOf(
    await sql<{
      id: string;
    }>`select distinct reader_id as id from deliveries where reader_id = any(${ids}::uuid[]) and state in ('kept', 'queued', 'claimed') order by 1`.execute(
      db,
    ),
  );

/** Puts readers back on a list that an act took them off, as they stood on it before: whoever was not taken off at that moment, or has moved since, stays. */
export async function putBackOnList(
  ctx: Context,
  db: Db,
  newsletter: Own,
  ids: string[],
  { listId, by, since }: { listId: string; by: By; since: Date },
): Promise<string[]> {
  const list = await listOf(db, newsletter, listId);
  await sql`select id from readers where newsletter_id = ${newsletter.id} and id = any(${ids}::uuid[]) order by id for update`.execute(
    db,
  );
  const moved = idsOf(
    await sql<{ id: string }>`
      update memberships m set state = case when m.joined_at is null then 'waiting' else 'reading' end, since = ${ctx.clock.now()}
      where m.newsletter_id = ${newsletter.id} and m.reader_id = any(${ids}::uuid[]) and m.list_id = ${list.id} and m.state = 'left' and m.since = ${since}
        and ${lastAct(sql`m`)} = 'take off'
      returning m.reader_id as id`.execute(db),
  );
  await record(ctx, db, newsletter, moved, { act: 'add', state: 'as before', list, by });
  return moved;
}

/** Lets nothing go to these addresses any more, until they are let again or their owners come back by themselves. */
export async function suppressReaders(ctx: Context, db: Db, newsletter: Own, ids: string[], by: By): Promise<string[]> {
  const rows = await db
    .selectFrom('readers')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where(sql<boolean>`id = any(${ids}::uuid[])`)
    .where('address_state', '<>', 'suppressed')
    .orderBy('id')
    .forUpdate()
    .execute();
  for (const { id } of rows)
    await silence(ctx, db, { readerId: id, newsletterId: newsletter.id, reason: 'by hand', detail: 'Suppressed by hand', by });
  return rows.map((row) => row.id);
}

/** Lets letters go again to addresses that were suppressed by hand, with `since` at that moment; never what a bounce or a complaint ended. */
export async function allowReaders(
  ctx: Context,
  db: Db,
  newsletter: Own,
  ids: string[],
  by: By,
  since: Date | null = null,
): Promise<string[]> {
  const { rows } = await sql<{ id: string; address_key: string }>`
    select r.id, r.address_key from readers r join suppressions s on s.newsletter_id = r.newsletter_id and s.address_key = r.address_key and s.reason = 'by hand'
      and ${since ? sql`s.at = ${since}` : sql`true`}
    where r.newsletter_id = ${newsletter.id} and r.id = any(${ids}::uuid[]) order by r.id for update of r`.execute(db);
  const now = ctx.clock.now();
  for (const row of rows) await allowAgain(ctx, db, newsletter.id, row.address_key);
  const allowed = rows.map((row) => row.id);
  await sql`update readers set address_state = 'fine' where id = any(${allowed}::uuid[])`.execute(db);
  await sql`
    insert into consents (newsletter_id, reader_id, act, state, at, actor, actor_name)
    select ${newsletter.id}::uuid, id, 'allow', 'fine', ${now}::timestamptz, ${by.actor}, ${by.name} from unnest(${allowed}::uuid[]) as t(id) order by id`.execute(
    db,
  );
  return allowed;
}

/**
 * Asks readers whom a member put on lists by a confirmation letter, in the look of the newsletter's own sign-up page. It is no sign-up of that page: whoever
 * confirms is not counted there. An address that had three such letters today is passed over.
 */
export async function askToConfirm(
  ctx: Context,
  db: Db,
  newsletter: Asking,
  ids: string[],
  lists: { id: string; public_name: string }[],
): Promise<void> {
  const form = await db
    .selectFrom('forms')
    .select(['id', 'name', 'definition'])
    .where('newsletter_id', '=', newsletter.id)
    .where('hosted', '=', true)
    .executeTakeFirstOrThrow();
  await mailToConfirm(ctx, db, newsletter, ids, { form, lists, variant: '', typed: 'by hand' });
}

type Asking = Pick<Newsletter, 'id' | 'name' | 'slug' | 'postal_address'>;
type Wording = {
  form: { id: string; name: string; definition: unknown };
  lists: { id: string; public_name: string }[];
  variant: string;
  typed: 'in a form' | 'by hand';
};

/** Sends these readers a confirmation letter; whose address had three of them today is passed over. Answers how many it went to. */
export async function mailToConfirm(
  ctx: Context,
  db: Db,
  newsletter: Asking,
  ids: string[],
  { form, lists, variant, typed }: Wording,
): Promise<number> {
  const readers = await db
    .selectFrom('readers')
    .select(['id', 'address', 'address_key'])
    .where(sql<boolean>`id = any(${ids}::uuid[])`)
    .orderBy('id')
    .execute();
  const fine = await mayAsk(
    { db },
    readers.map((reader) => reader.address_key),
  );
  const asked = readers.filter((_, n) => fine[n]);
  if (asked.length === 0) return 0;
  const definition = complete(form.definition);
  const voice = await voiceOf(ctx, db, newsletter, definition.next.confirmation.senderId);
  const letters = asked.map((reader) =>
    confirmationLetter(ctx, { form: { ...form, definition }, newsletter, reader, lists, variant }, voice, typed),
  );
  await db
    .insertInto('confirmations')
    .values(letters.map(({ row }) => (typed === 'by hand' ? { ...row, form_id: null } : row)))
    .execute();
  await postAll(
    ctx,
    db,
    letters.map(({ mail }) => mail),
  );
  return asked.length;
}

import { sql } from 'kysely';
import type { ConsentActor } from '@/core/readers/state';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { newId } from '../ids';
import { suppressErased } from '../readers/suppressed';
import { silence } from '../sending/silence';

/** Who does something to readers: a member by name, an import, the reader themselves. */
export type By = { actor: ConsentActor; name: string | null };

/**
 * Erases readers, in the caller's transaction. What goes: their address, name, answers, tags, note, how they came, the queue of what they were to get, and
 * whatever of a mail names them. What stays, and leads to nobody: that copies of letters were sent and what became of them, so that letters' figures
 * hold; the record of their consents without network, browser and page; one entry that they were erased; and a keyed hash of the address, so that no
 * import brings them back. Ids that are not there any more are passed over. Answers who they were.
 */
export async function eraseReaders(
  ctx: Context,
  db: Db,
  newsletter: Pick<Newsletter, 'id'>,
  ids: string[],
  by: By,
): Promise<string[]> {
  const now = ctx.clock.now();
  await sql`select pg_advisory_xact_lock_shared(hashtext('erasing'), hashtext(${newsletter.id}))`.execute(db);
  const rows = await db
    .selectFrom('readers')
    .select(['id', 'address', 'address_key', 'standing'])
    .where('newsletter_id', '=', newsletter.id)
    .where(sql<boolean>`id = any(${ids}::uuid[])`)
    .orderBy('id')
    .forUpdate()
    .execute();
  if (rows.length === 0) return [];
  const known = rows.map((row) => row.id);
  for (const row of rows)
    await silence(ctx, db, { readerId: row.id, newsletterId: newsletter.id, reason: 'erased', detail: 'Erased', by });
  await suppressErased(
    ctx,
    db,
    newsletter.id,
    rows.map((row) => row.address_key),
  );
  // Who read until now is among those who left today: the figures of growth add up.
  await sql`update memberships set state = 'left', since = ${now} where reader_id = any(${known}::uuid[]) and state = 'reading'`.execute(
    db,
  );
  await sql`delete from memberships where reader_id = any(${known}::uuid[])`.execute(db);
  const nobody = await unname(db, known);
  await sql`insert into consents (newsletter_id, reader_id, act, state, at, actor, actor_name)
    select ${newsletter.id}::uuid, n, 'erase', 'erased', ${now}::timestamptz, ${by.actor}, ${by.name} from unnest(${nobody}::uuid[]) as n`.execute(
    db,
  );
  await dropRows(db, newsletter.id, rows);
  await dropFiles(
    db,
    newsletter.id,
    rows.map((row) => row.address_key),
  );
  return known;
}

/**
 * Waits until nobody of this newsletter is being erased, in the caller's transaction. Whoever begins a file of readers does: what is erased later finds the
 * file and drops it, and what was erased before is not in it.
 */
export async function waitForErasing(db: Db, newsletterId: string): Promise<void> {
  await sql`select pg_advisory_xact_lock(hashtext('erasing'), hashtext(${newsletterId}))`.execute(db);
}

/**
 * Files of readers that wait to be fetched or brought may hold whoever is erased, in any encoding: all of them go, and are made or brought anew. What is
 * being brought at this moment goes with its file once it is through; of the rows that were judged, theirs go now.
 */
async function dropFiles(db: Db, newsletterId: string, keys: string[]): Promise<void> {
  await sql`delete from import_rows where import_id in (select id from imports where newsletter_id = ${newsletterId}) and address_key = any(${keys}::text[])`.execute(
    db,
  );
  // What stood in the first cells of a file may be theirs.
  await sql`
    update imports set columns = jsonb_set(columns, '{columns}', (select coalesce(jsonb_agg(c || '{"examples": []}'), '[]') from jsonb_array_elements(columns->'columns') c))
    where newsletter_id = ${newsletterId}`.execute(db);
  await sql`delete from kept_files where newsletter_id = ${newsletterId} and id not in (
    select file_id from imports where newsletter_id = ${newsletterId} and file_id is not null and state in ('looking', 'bringing'))`.execute(
    db,
  );
}

/**
 * Takes readers away as if they had never come, in the caller's transaction: their rows, and whatever names them. Unlike erasing it puts nothing in the way
 * of their being brought again. Their memberships have to be gone already.
 */
export async function forgetReaders(db: Db, ids: string[]): Promise<void> {
  const rows = await db
    .selectFrom('readers')
    .select(['id', 'address', 'address_key', 'newsletter_id'])
    .where(sql<boolean>`id = any(${ids}::uuid[])`)
    .execute();
  if (rows.length === 0) return;
  await unname(
    db,
    rows.map((row) => row.id),
  );
  await dropRows(db, rows[0]!.newsletter_id, rows);
}

/** Leaves what readers got and agreed to under ids that lead to nobody, which are answered in the same order. */
async function unname(db: Db, known: string[]): Promise<string[]> {
  const nobody = known.map(() => newId());
  const to = sql`unnest(${known}::uuid[], ${nobody}::uuid[]) as n(id, nobody)`;
  await sql`update deliveries d set reader_id = n.nobody, address = 'erased', chips = null, response = null from ${to} where d.reader_id = n.id`.execute(
    db,
  );
  await sql`update events e set reader_id = n.nobody, agent = null from ${to} where e.reader_id = n.id`.execute(db);
  await sql`update feedback f set reader_id = n.nobody from ${to} where f.reader_id = n.id`.execute(db);
  await sql`set local inkset.erasing = 'on'`.execute(db);
  await sql`update consents c set reader_id = n.nobody, network = null, agent = null, page = null, referrer = null from ${to} where c.reader_id = n.id`.execute(
    db,
  );
  await sql`set local inkset.erasing = 'off'`.execute(db);
  return nobody;
}

/** Deletes readers, with every row that is about them alone. */
async function dropRows(
  db: Db,
  newsletterId: string,
  rows: { id: string; address: string; address_key: string }[],
): Promise<void> {
  const known = rows.map((row) => row.id);
  await sql`delete from reader_tags where reader_id = any(${known}::uuid[])`.execute(db);
  const left = (ids: ReturnType<typeof sql.ref>) =>
    sql`array(select id from unnest(${ids}) as t(id) where id <> all(${known}::uuid[]))`;
  await sql`
    update bulk_people set reader_ids = ${left(sql.ref('reader_ids'))}, changed_ids = case when changed_ids is not null then ${left(sql.ref('changed_ids'))} end
    where act_id in (select id from bulk_acts where newsletter_id = ${newsletterId}) and reader_ids && ${known}::uuid[]`.execute(
    db,
  );
  await sql`delete from refusals where reader_id = any(${known}::uuid[])`.execute(db);
  await sql`delete from mails where reader_id = any(${known}::uuid[])`.execute(db);
  await sql`delete from held_back where newsletter_id = ${newsletterId} and address_key = any(${rows.map((row) => row.address_key)}::text[])`.execute(
    db,
  );
  // Complaints that came by mail name whom they are about.
  await sql`delete from reports where kind in ('complaint', 'postmaster') and exists (
    select 1 from unnest(${rows.map((row) => row.address)}::text[]) as a where position(convert_to(a, 'UTF8') in bytes) > 0)`.execute(
    db,
  );
  await sql`delete from readers where id = any(${known}::uuid[])`.execute(db);
}

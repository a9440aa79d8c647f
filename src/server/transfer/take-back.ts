import { sql } from 'kysely';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { takeOffList, withQueued } from '../keeping/acts';
import { forgetReaders } from '../keeping/erase';
import { silence } from '../sending/silence';

const PORTION = 5_000;

/**
 * Takes back the next portion of an import; false when nothing is left. Whom it made goes as if they had never come, but for their record of consent;
 * whoever has done something since (confirmed, asked, left, complained), or to whom a member has (put on a list, taken off, suppressed), stays. Whom it found gets back what it changed, and what it
 * suppressed is written to again.
 */
export const takeBackPortion = (ctx: Context, id: string): Promise<boolean> =>
  inTransaction(ctx.db, (trx) => portion(ctx, trx, id));

async function portion(ctx: Context, db: Db, id: string): Promise<boolean> {
  const row = await db.selectFrom('imports').selectAll().where('id', '=', id).forUpdate().executeTakeFirst();
  if (row?.state !== 'undoing' || !row.plan) return false;
  const newsletter = await db.selectFrom('newsletters').selectAll().where('id', '=', row.newsletter_id).executeTakeFirstOrThrow();
  if (newsletter.removed_at) return false;
  const goOn =
    (await made(ctx, db, newsletter, row)) ||
    (await found(ctx, db, newsletter, id, row.name, row.plan.plan.listId)) ||
    (await allowed(ctx, db, newsletter, id));
  if (!goOn) await db.updateTable('imports').set({ state: 'undone', ended_at: ctx.clock.now() }).where('id', '=', id).execute();
  return goOn;
}

/** Whom it made. Whoever stays is no longer of this import, so that each is looked at once. */
async function made(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  { id, name, plan }: { id: string; name: string; plan: { plan: { listId: string } } | null },
): Promise<boolean> {
  const { rows } = await sql<{ id: string; acted: boolean }>`
    select r.id, (select count(*) from consents c where c.reader_id = r.id) > 1 as acted from readers r
    where r.source_import_id = ${id} order by r.id limit ${PORTION} for update of r`.execute(db);
  if (rows.length === 0) return false;
  const stay = rows.filter((row) => row.acted).map((row) => row.id);
  const go = rows.filter((row) => !row.acted).map((row) => row.id);
  await sql`update readers set source_import_id = null where id = any(${stay}::uuid[])`.execute(db);
  if (go.length === 0) return true;
  await sql`
    insert into consents (newsletter_id, reader_id, list_id, act, state, at, actor, actor_name)
    select ${newsletter.id}::uuid, g.id, ${plan!.plan.listId}::uuid, 'take off', 'left', ${ctx.clock.now()}::timestamptz, 'import', ${name} from unnest(${go}::uuid[]) as g(id) order by g.id`.execute(
    db,
  );
  for (const readerId of await withQueued(db, go))
    await silence(ctx, db, {
      readerId,
      newsletterId: newsletter.id,
      reason: null,
      detail: 'The import that brought them was taken back',
    });
  // They leave the figures of the day on which they came: nobody left today.
  await sql`set local inkset.bringing = 'on'`.execute(db);
  await sql`
    insert into people_changes (newsletter_id, kind, key, reading, waiting, unreachable)
    select ${newsletter.id}::uuid, k.kind, k.key, -count(*) filter (where r.standing = 'reading'), -count(*) filter (where r.standing = 'waiting'), -count(*) filter (where r.standing = 'unreachable')
    from readers r cross join lateral (
      select 'all' as kind, 'all' as key union all select 'source', r.source_name union all select 'warmth', degree(r.warmth)
      union all select 'list', m.list_id::text from memberships m where m.reader_id = r.id and m.state <> 'left') k
    where r.id = any(${go}::uuid[]) group by 2, 3`.execute(db);
  await sql`
    insert into day_changes (day, newsletter_id, joined)
    select r.created_on, r.newsletter_id, -count(*) from readers r where r.id = any(${go}::uuid[]) and r.lists_reading > 0 group by 1, 2`.execute(
    db,
  );
  await sql`delete from memberships where reader_id = any(${go}::uuid[])`.execute(db);
  await sql`set local inkset.bringing = 'off'`.execute(db);
  await forgetReaders(db, go);
  return true;
}

/** Who was here before: the list, the name, the answers and the tags that this import gave them. */
async function found(ctx: Context, db: Db, newsletter: Newsletter, id: string, name: string, listId: string): Promise<boolean> {
  const { rows } = await sql<{ row: number; reader_id: string; at: Date; named: boolean }>`
    select row, reader_id, at, named from import_rows where import_id = ${id} and kind <> 'new' and at is not null order by at, row limit ${PORTION}`.execute(
    db,
  );
  const at = rows[0]?.at;
  if (!at) return false;
  // Everybody of one portion was changed in the same moment.
  const together = rows.filter((row) => row.at.getTime() === at.getTime());
  const ids = together.map((row) => row.reader_id);
  await takeOffList(ctx, db, newsletter, ids, { listId, by: { actor: 'import', name }, since: at });
  const of = sql`reader_id = any(${ids}::uuid[]) and at = ${at}`;
  await sql`delete from reader_answers where ${of}`.execute(db);
  await sql`delete from reader_tags where ${of}`.execute(db);
  await sql`
    update readers r set first_name = null, name_key = null from import_rows i
    where i.import_id = ${id} and i.named and i.reader_id = any(${ids}::uuid[]) and r.id = i.reader_id and r.first_name = i.first_name`.execute(
    db,
  );
  await sql`update import_rows set at = null where import_id = ${id} and row = any(${together.map((row) => row.row)}::int[])`.execute(
    db,
  );
  return true;
}

/** What it suppressed may be written to again. */
async function allowed(ctx: Context, db: Db, newsletter: Newsletter, id: string): Promise<boolean> {
  const { rows } = await sql<{ address_key: string }>`
    delete from suppressions where newsletter_id = ${newsletter.id} and address_key in (select address_key from suppressions where import_id = ${id} and not hashed limit ${PORTION}) and import_id = ${id}
    returning address_key`.execute(db);
  if (rows.length === 0) return false;
  await sql`
    with again as (update readers set address_state = 'fine' where newsletter_id = ${newsletter.id} and address_key = any(${rows.map((row) => row.address_key)}::text[]) and address_state = 'suppressed' returning id, newsletter_id)
    insert into consents (newsletter_id, reader_id, act, state, at, actor) select newsletter_id, id, 'allow', 'fine', ${ctx.clock.now()}::timestamptz, 'import' from again order by id`.execute(
    db,
  );
  return true;
}

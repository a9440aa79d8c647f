import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { ImportPlan, RowKind } from '@/core/importing/import';
import type { Agreement } from '@/core/readers/bulk';
import { atOneMoment } from '../clock/clock';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { addToList, askToConfirm } from '../keeping/acts';
import type { By } from '../keeping/erase';
import { silence } from '../sending/silence';
import { againstReaders, barSuppressed } from './look';

/** So many rows in one transaction: few enough that nobody waits for it. Whoever is asked costs a letter each. */
const PORTION = { vouched: 20_000, asked: 1_000 };

/** Somebody signed up, or another import brought them, in this very moment: the portion is begun anew, and sees them. */
class Met extends Error {}
const MOST_MET = 20;

type Row = {
  id: string;
  name: string;
  upto: number;
  result: Partial<Record<RowKind, number>>;
  plan: ImportPlan;
  consent: Agreement;
  list: { id: string; name: string; public_name: string };
};

/**
 * Brings the next portion of an import, with how far it is, in one transaction: whoever comes after a crash goes on where it stood, nobody left out and
 * nobody twice. False when nothing is left. Each row is held again against who is here now: much can have happened since it was looked at.
 */
export async function bringPortion(ctx: Context, id: string): Promise<boolean> {
  for (let tries = 0; ; tries += 1) {
    try {
      return await inTransaction(ctx.db, (trx) => portion(ctx, trx, id));
    } catch (error) {
      if (!(error instanceof Met) || tries >= MOST_MET) throw error;
    }
  }
}

async function portion(moving: Context, db: Db, id: string): Promise<boolean> {
  const ctx = atOneMoment(moving);
  const found = await db.selectFrom('imports').selectAll().where('id', '=', id).forUpdate().executeTakeFirst();
  if (found?.state !== 'bringing' || !found.plan?.consent) return false;
  const newsletter = await db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', found.newsletter_id)
    .executeTakeFirstOrThrow();
  if (newsletter.removed_at) return false;
  const { plan, consent } = found.plan;
  const list = await db
    .selectFrom('lists')
    .select(['id', 'name', 'public_name'])
    .where('id', '=', plan.listId)
    .where('archived_at', 'is', null)
    .executeTakeFirst();
  if (!list) throw new Fault('not-found', 'There is no such list any more.');
  const row: Row = { id, name: found.name, upto: found.upto, result: found.result, plan, consent, list };
  const { rows } = await sql<{ upto: number | null }>`
    select max(row) as upto from (select row from import_rows where import_id = ${id} and row > ${row.upto} order by row limit ${PORTION[consent.how]}) p`.execute(
    db,
  );
  const upto = rows[0]!.upto;
  const now = ctx.clock.now();
  if (upto === null) {
    await db.updateTable('imports').set({ state: 'done', ended_at: now }).where('id', '=', id).execute();
    if (found.file_id) await db.deleteFrom('kept_files').where('id', '=', found.file_id).execute();
    return false;
  }
  const range = { after: row.upto, upto };
  const asked = consent.how === 'asked';
  await againstReaders(db, newsletter.id, id, list.id, range, asked);
  await barSuppressed(ctx, db, newsletter.id, id, range);
  // Who never confirmed elsewhere is asked here, or not brought.
  await make(ctx, db, newsletter, row, range, asked ? ['new', 'waits'] : ['new']);
  await fillIn(ctx, db, newsletter, row, range);
  await end(ctx, db, newsletter, row, range);
  const { rows: counts } = await sql<{ kind: RowKind; n: number }>`
    select kind, count(*)::int as n from import_rows where import_id = ${id} and row > ${range.after} and row <= ${upto} group by 1`.execute(
    db,
  );
  const result = { ...row.result };
  for (const { kind, n } of counts) result[kind] = (result[kind] ?? 0) + n;
  await db
    .updateTable('imports')
    .set({ upto, result: JSON.stringify(result) })
    .where('id', '=', id)
    .execute();
  return true;
}

type Range = { after: number; upto: number };
const inRange = (id: string, { after, upto }: Range) => sql`i.import_id = ${id} and i.row > ${after} and i.row <= ${upto}`;

/** Makes the readers who are not here yet, with everything that is kept of them, and counts them. */
async function make(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  { id, name, consent, list }: Row,
  range: Range,
  kinds: RowKind[],
): Promise<void> {
  const now = ctx.clock.now();
  const vouched = consent.how === 'vouched';
  const today = sql`(${now}::timestamptz at time zone ${newsletter.time_zone})::date`;
  const theirs = sql`import_rows i where ${inRange(id, range)} and i.kind = any(${kinds}::text[])`;
  const { rows } = await sql<{ n: number }>`select count(*)::int as n from ${theirs}`.execute(db);
  const { n } = rows[0]!;
  if (n === 0) return;
  await sql`insert into mail_domains (name) select distinct i.domain from ${theirs} and not exists (select 1 from mail_domains d where d.name = i.domain) order by 1 on conflict do nothing`.execute(
    db,
  );
  await sql`set local inkset.bringing = 'on'`.execute(db);
  const made = await sql`
    insert into readers (id, newsletter_id, address, address_key, domain_id, first_name, name_key, lists_reading, lists_waiting, confirmed, source_name, source_import_id, source_language,
      zone, note, created_on, created_at)
    select i.reader_id, ${newsletter.id}::uuid, i.address, i.address_key, (select d.id from mail_domains d where d.name = i.domain), i.first_name, i.name_key, ${vouched ? 1 : 0},
      ${vouched ? 0 : 1}, ${vouched}, 'import', ${id}::uuid, i.language, i.zone, coalesce(i.note, ''), ${today}, ${now}::timestamptz
    from ${theirs} order by i.row on conflict (newsletter_id, address_key) do nothing`.execute(db);
  if (Number(made.numAffectedRows) !== n) throw new Met();
  await sql`
    insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
    select i.reader_id, ${list.id}::uuid, ${newsletter.id}::uuid, ${vouched ? 'reading' : 'waiting'}, ${now}::timestamptz, ${vouched ? sql`coalesce(least(i.agreed_at, ${now}::timestamptz), ${now}::timestamptz)` : sql`null`}
    from ${theirs} order by i.row`.execute(db);
  await count(db, newsletter, { list, vouched, n, today, one: sql`select i.reader_id from ${theirs} limit 1` });
  await record(ctx, db, newsletter, { id, name, consent, list }, sql`${theirs} order by i.row`);
  await sql`set local inkset.bringing = 'off'`.execute(db);
  await sql`
    insert into reader_tags (reader_id, newsletter_id, tag, at) select i.reader_id, ${newsletter.id}::uuid, t.tag, ${now}::timestamptz
    from import_rows i cross join lateral unnest(i.tags) as t(tag) where ${inRange(id, range)} and i.kind = any(${kinds}::text[]) and i.tags is not null on conflict do nothing`.execute(
    db,
  );
  await answersOf(db, now, sql`${inRange(id, range)} and i.kind = any(${kinds}::text[])`);
  if (vouched) return;
  const { rows: asked } = await sql<{ id: string }>`select i.reader_id as id from ${theirs} order by i.row`.execute(db);
  await askToConfirm(
    ctx,
    db,
    newsletter,
    asked.map((one) => one.id),
    [list],
  );
}

type Made = { list: { id: string }; vouched: boolean; n: number; today: ReturnType<typeof sql>; one: ReturnType<typeof sql> };
/** Counts whom a portion made. They all came in the same way, so one of them tells for all of it. */
async function count(db: Db, newsletter: Newsletter, { list, vouched, n, today, one }: Made): Promise<void> {
  const [reading, waiting] = vouched ? [n, 0] : [0, n];
  await sql`
    insert into people_changes (newsletter_id, kind, key, reading, waiting)
    select ${newsletter.id}::uuid, k.kind, k.key, ${reading}, ${waiting} from (values ('all', 'all'), ('source', 'import'), ('warmth', 'unknown'), ('list', ${list.id}::text)) k(kind, key)`.execute(
    db,
  );
  await sql`
    insert into source_changes (newsletter_id, day, dimension, name, asked, confirmed, reading)
    select r.newsletter_id, w.day, w.dimension, w.name, ${n}, ${reading}, ${reading} from readers r cross join lateral reader_ways(r) w where r.id = (${one})`.execute(
    db,
  );
  if (vouched)
    await sql`insert into day_changes (day, newsletter_id, joined) values (${today}, ${newsletter.id}::uuid, ${n})`.execute(db);
}

/** The entry in the record of consent of whoever a file brought: the writer's words, what the file says, and which file it was. */
async function record(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  { name, consent, list }: Pick<Row, 'id' | 'name' | 'consent' | 'list'>,
  from: ReturnType<typeof sql>,
): Promise<void> {
  const vouched = consent.how === 'vouched';
  await sql`
    insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor, actor_name, wording)
    select ${newsletter.id}::uuid, i.reader_id, ${list.id}::uuid, ${list.name}, 'add', ${vouched ? 'reading' : 'waiting'}, ${ctx.clock.now()}::timestamptz, 'import', ${name},
      ${vouched ? sql`${consent.said} || coalesce(' The file says: agreed on ' || to_char(i.agreed_at at time zone 'UTC', 'YYYY-MM-DD') || '.', '')` : sql`null`}
    from ${from}`.execute(db);
}

/** Answers out of a file; what somebody answered before stays. */
const answersOf = (db: Db, now: Date, which: ReturnType<typeof sql>) =>
  sql`
    insert into reader_answers (reader_id, field_id, value, folded, at)
    select i.reader_id, a.key::uuid, a.value->0, a.value->>1, ${now}::timestamptz
    from import_rows i cross join lateral jsonb_each(i.answers) a where i.answers is not null and ${which} and exists (select 1 from fields f where f.id = a.key::uuid)
    on conflict do nothing`.execute(db);

/** Whoever was here already gets what was missing: the list, a name, answers, tags. What they have stays as it is. */
async function fillIn(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  { id, name, consent, list }: Row,
  range: Range,
): Promise<void> {
  const now = ctx.clock.now();
  const by: By = { actor: 'import', name };
  const { rows } = await sql<{ reader_id: string; kind: RowKind; first_name: string | null; agreed_at: Date | null }>`
    select i.reader_id, i.kind, i.first_name, i.agreed_at from import_rows i join readers r on r.id = i.reader_id
    where ${inRange(id, range)} and i.kind in ('joins', 'known') order by i.reader_id`.execute(db);
  if (rows.length === 0) return;
  const joining = rows.filter((row) => row.kind === 'joins').map((row) => row.reader_id);
  const joined = joining.length ? await addToList(ctx, db, newsletter, joining, { listId: list.id, agreement: consent, by }) : [];
  const ids = rows.filter((row) => row.kind === 'known' || joined.includes(row.reader_id)).map((row) => row.reader_id);
  const which = sql`${inRange(id, range)} and i.reader_id = any(${ids}::uuid[])`;
  const { rows: named } = await sql<{ id: string }>`
    update readers r set first_name = i.first_name, name_key = i.name_key from import_rows i
    where ${which} and r.id = i.reader_id and r.first_name is null and i.first_name is not null returning r.id`.execute(db);
  await answersOf(db, now, which);
  await sql`
    insert into reader_tags (reader_id, newsletter_id, tag, at) select i.reader_id, ${newsletter.id}::uuid, t.tag, ${now}::timestamptz
    from import_rows i cross join lateral unnest(i.tags) as t(tag) where ${which} and i.tags is not null order by 1, 3 on conflict do nothing`.execute(
    db,
  );
  await sql`
    update import_rows i set at = ${now}::timestamptz, named = i.reader_id = any(${named.map((one) => one.id)}::uuid[]) where ${which}`.execute(
    db,
  );
}

const REASONS = { left: 'left', bounced: 'hard bounce', complained: 'complaint' } as const;

/** Who left, bounced or complained elsewhere is not written to from here either, whether they read here or not. */
async function end(ctx: Context, db: Db, newsletter: Newsletter, { id, name }: Row, range: Range): Promise<void> {
  const now = ctx.clock.now();
  const detail = `A file that was brought, “${name}”, says so.`;
  const { rows: here } = await sql<{ id: string; state: keyof typeof REASONS }>`
    select r.id, i.state from import_rows i join readers r on r.id = i.reader_id
    where ${inRange(id, range)} and i.kind = 'ends' and r.address_state <> 'suppressed' order by r.id for update of r`.execute(
    db,
  );
  for (const reader of here)
    await silence(ctx, db, {
      readerId: reader.id,
      newsletterId: newsletter.id,
      reason: REASONS[reader.state],
      detail,
      by: { actor: 'import', name },
    });
  await sql`
    insert into suppressions (newsletter_id, address_key, reason, at, detail, import_id)
    select ${newsletter.id}::uuid, i.address_key, case i.state when 'left' then 'left' when 'bounced' then 'hard bounce' else 'complaint' end, ${now}::timestamptz, ${detail}, ${id}::uuid
    from import_rows i where ${inRange(id, range)} and i.kind = 'ends' order by i.address_key on conflict do nothing`.execute(db);
  await sql`update suppressions set import_id = ${id}::uuid where newsletter_id = ${newsletter.id} and at = ${now} and import_id is null
    and address_key in (select address_key from readers where id = any(${here.map((one) => one.id)}::uuid[]))`.execute(db);
}

import { type RawBuilder, sql } from 'kysely';
import { type Audience, OMISSIONS, type Omission, type Part } from '@/core/sending/audience';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction, soon } from '../db/connection';
import { conditionSql } from '../readers/conditions';
import { aboutHowMany } from '../readers/table';
import { type LaneOf, type Ready, readyAudience } from './audience';

/** Whom a letter would go to now, and whom of those it names it would not, each by the first reason. */
export type Reach = {
  will: number;
  out: Record<Omission, number>;
  /** How often somebody is named a second time: they get it once. */
  doubles: number;
  /** What it names that is not there any more: such a letter is held. */
  missing: string[];
};

/** A part as SQL on a row `r` of `readers`; `waiting` asks who waits on it as well. */
function partSql(part: Part, { moment, known }: Ready, waiting = false): RawBuilder<boolean> {
  if (part.kind === 'readers') return sql<boolean>`r.id = any(${part.ids}::uuid[])`;
  if (part.kind === 'list')
    return sql<boolean>`exists (select 1 from memberships m where m.reader_id = r.id and m.list_id = ${part.id}::uuid and m.state ${waiting ? sql`in ('reading', 'waiting')` : sql`= 'reading'`})`;
  return conditionSql(part.kind === 'those' ? part.condition : part, moment, known);
}
const anyOf = (parts: Part[], ready: Ready, waiting = false): RawBuilder<boolean> =>
  parts.length
    ? sql<boolean>`(${sql.join(
        parts.map((part) => partSql(part, ready, waiting)),
        sql` or `,
      )})`
    : sql<boolean>`false`;

const suppressed = sql<boolean>`(r.standing = 'unreachable' or exists (select 1 from suppressions s where s.newsletter_id = r.newsletter_id and s.address_key = r.address_key))`;
const paused = (ready: Ready) => sql<boolean>`(r.paused_until is not null and r.paused_until > ${ready.moment.now}::timestamptz)`;

/** Whoever gets a letter to an audience were it to start now, as SQL on a row `r` of `readers`: the same people as its start fixes. */
export const getsIt = (ready: Ready): RawBuilder<boolean> =>
  sql<boolean>`(r.standing = 'reading' and ${anyOf(ready.audience.to, ready)} and not ${anyOf(ready.audience.without, ready)} and not ${paused(ready)} and not ${suppressed} and ${ready.lane})`;

/** The whole account of an audience, in one pass over the readers. What is missing of it holds nobody. */
export async function reachOf(ctx: Context, newsletter: Newsletter, audience: Audience, letter?: LaneOf): Promise<Reach> {
  const ready = await readyAudience(ctx, ctx.db, newsletter, audience, letter);
  const { to, without } = ready.audience;
  const times = sql.join(
    to.map((part) => sql`(${partSql(part, ready, true)})::int`),
    sql` + `,
  );
  const { rows } = await roomy(ctx.db, (trx) =>
    sql<{ fate: Omission | 'will'; people: number; doubles: number }>`
    select fate, count(*)::int as people, coalesce(sum(times - 1), 0)::int as doubles from (
      select times, case when excluded then 'excluded' when suppressed then 'suppressed' when standing = 'left' then 'left' when not fits or standing <> 'reading' then 'waiting'
        when paused then 'paused' else 'will' end as fate
      from (select r.standing, ${times} as times, ${anyOf(to, ready)} as fits, (${anyOf(without, ready)} or not ${ready.lane}) as excluded, ${suppressed} as suppressed, ${paused(ready)} as paused
            from readers r where r.newsletter_id = ${newsletter.id}::uuid offset 0) named where times > 0) fates group by 1`.execute(
      trx,
    ),
  );
  const of = (fate: Omission | 'will') => rows.find((row) => row.fate === fate)?.people ?? 0;
  return {
    will: of('will'),
    out: Object.fromEntries(OMISSIONS.map((one) => [one, of(one)])) as Record<Omission, number>,
    doubles: rows.reduce((sum, row) => sum + row.doubles, 0),
    missing: ready.missing,
  };
}

/** A single list's, from its kept totals; null for any other audience. */
async function keptCount(db: Db, newsletter: Newsletter, ready: Ready): Promise<number | null> {
  const [only, ...more] = ready.audience.to;
  if (!ready.whole || only?.kind !== 'list' || more.length > 0 || ready.audience.without.length > 0) return null;
  const { rows } = await sql<{ reading: number; resting: number }>`
    select coalesce((select reading from people_totals where newsletter_id = ${newsletter.id} and kind = 'list' and key = ${only.id}), 0)::int as reading,
      (select count(*)::int from readers r where r.newsletter_id = ${newsletter.id} and r.standing = 'reading' and r.paused_until > ${ready.moment.now}::timestamptz
         and ${partSql(only, ready)}) as resting`.execute(db);
  return Math.max(0, rows[0]!.reading - rows[0]!.resting);
}

/** How many get a letter to an audience, exactly. */
export async function willGet(
  ctx: Pick<Context, 'clock'>,
  db: Db,
  newsletter: Newsletter,
  audience: Audience,
  of?: LaneOf,
): Promise<number> {
  const ready = await readyAudience(ctx, db, newsletter, audience, of);
  return (await keptCount(db, newsletter, ready)) ?? roomy(db, (trx) => countSql(trx, newsletter, ready));
}

/** Lists and tags are hashed then, and each reader is held against them, where they would be looked up one by one among many. */
async function roomy<T>(db: Db, ask: (trx: Db) => Promise<T>): Promise<T> {
  if (!db.isTransaction) return inTransaction(db, (trx) => roomy(trx, ask));
  await sql`set local work_mem = '96MB'`.execute(db);
  return ask(db);
}

async function countSql(db: Db, newsletter: Newsletter, ready: Ready): Promise<number> {
  const { rows } = await sql<{ n: number }>`
    select count(*)::int as n from readers r where r.newsletter_id = ${newsletter.id}::uuid and ${getsIt(ready)}`.execute(db);
  return rows[0]!.n;
}

/** So long an exact count is waited for while somebody chooses. */
const PATIENCE_MS = 100;

/** How many get it: exactly where that is found soon, else about how many, by a hundredth of the table. */
export async function reachSoon(
  ctx: Context,
  newsletter: Newsletter,
  audience: Audience,
  of?: LaneOf,
  patienceMs = PATIENCE_MS,
): Promise<{ will: number; exact: boolean }> {
  const ready = await readyAudience(ctx, ctx.db, newsletter, audience, of);
  const kept = await keptCount(ctx.db, newsletter, ready);
  if (kept !== null) return { will: kept, exact: true };
  const exact = await soon(ctx.db, patienceMs, (trx) => roomy(trx, () => countSql(trx, newsletter, ready)));
  if (exact !== null) return { will: exact, exact: true };
  return { will: await aboutHowMany(ctx.db, newsletter.id, getsIt(ready)), exact: false };
}

import { sql } from 'kysely';
import { type RampPlan, type Share, spreadLater } from '@/core/delivery/ramp';
import { localDay } from '@/core/growth/days';
import { dayAfter } from '@/core/growth/periods';
import type { Context } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { type RampDayView, rampAhead, rampEnd } from './ramp';

/** How often the days of a ramp-up are counted anew. */
const COUNT_EVERY_MS = 600_000;
/** So many days afterwards a copy still comes back, or is reported: until then its day is counted anew. */
const OPEN_DAYS = 8;
/** So many copies are moved in one transaction: whoever leaves meanwhile waits for no more than these. */
const AT_ONCE = 20_000;

/** Domains that are ramped up and were not counted lately, or were in what is the future now: the clock went backwards. */
export function rampsDue(ctx: Context): Promise<{ id: string }[]> {
  const now = ctx.clock.now();
  return ctx.db
    .selectFrom('domains as d')
    .innerJoin('newsletters as n', 'n.id', 'd.newsletter_id')
    .select('d.id')
    .where('d.ramp', 'is not', null)
    .where('n.removed_at', 'is', null)
    .where((eb) =>
      eb.or([
        eb('d.ramp_counted_at', 'is', null),
        eb('d.ramp_counted_at', '<=', new Date(now.getTime() - COUNT_EVERY_MS)),
        eb('d.ramp_counted_at', '>', now),
      ]),
    )
    .orderBy(sql`d.ramp_counted_at nulls first`)
    .limit(20)
    .execute();
}

/**
 * Counts what came of the copies that left a ramped domain on each of the last local days: taken, come back, reported, whenever that was. Where a day's ceiling falls
 * below what was planned for it, what is over it leaves later, of letters under way too. Without a ramp-up it does nothing.
 */
export async function countRamp(ctx: Context, domainId: string, atOnce = AT_ONCE): Promise<void> {
  const now = ctx.clock.now();
  // One that cannot be counted stands back behind the others.
  const stamped = await ctx.db
    .updateTable('domains')
    .set({ ramp_counted_at: now })
    .where('id', '=', domainId)
    .where('ramp', 'is not', null)
    .executeTakeFirst();
  if (!stamped.numUpdatedRows) return;
  const counted = await inTransaction(ctx.db, async (trx) => {
    const { rows } = await sql<{ ramp: RampPlan; zone: string }>`
      select d.ramp, n.time_zone as zone from domains d join newsletters n on n.id = d.newsletter_id where d.id = ${domainId} and d.ramp is not null for update of d`.execute(
      trx,
    );
    const domain = rows[0];
    if (!domain) return null;
    const { ramp, zone } = domain;
    const today = localDay(now, zone);
    // Long over, it is counted no more: it looked through a large list's copies for ever.
    if (dayAfter(await rampEnd(trx, { id: domainId, ramp }, today), OPEN_DAYS) < today) return null;
    const [, since] = [dayAfter(today, -OPEN_DAYS), ramp.startedOn].sort() as [string, string];
    await sql`
      with copies as materialized (
        select d.sent_on, d.id, d.state, (coalesce(d.delivered_at, d.tried_at) at time zone ${zone})::date as day
        from letters l join deliveries d on d.letter_id = l.id and d.sent_on = l.sent_on
        where l.domain_id = ${domainId} and l.sent_on >= ${ramp.startedOn}::date - 1 and (l.finished_at is null or l.finished_at >= (${since}::timestamp at time zone ${zone}))
          and d.state in ('delivered', 'bounced') and coalesce(d.delivered_at, d.tried_at) >= (${since}::timestamp at time zone ${zone})),
      reported as (
        select c.day, count(*)::int as n from copies c join feedback f on f.sent_on = c.sent_on and f.delivery_id = c.id and f.kind = 'complaint' group by 1)
      insert into domain_days (domain_id, day, delivered, bounced, complained)
      select ${domainId}::uuid, c.day, count(*) filter (where state = 'delivered'), count(*) filter (where state = 'bounced'), coalesce(max(r.n), 0)
      from copies c left join reported r on r.day = c.day group by c.day
      on conflict (domain_id, day) do update set delivered = excluded.delivered, bounced = excluded.bounced, complained = excluded.complained`.execute(
      trx,
    );
    return { domainId, zone, now, today, ahead: await rampAhead(trx, { id: domainId, ramp }, today) };
  });
  if (counted?.ahead.length) await keepToCeilings(ctx.db, counted, atOnce);
}

type Ahead = { domainId: string; zone: string; now: Date; today: string; ahead: RampDayView[] };
type Key = { place: number; due: string; sentOn: string; id: string };

/** The copies of a domain's letters under way, and which of them a ceiling can move: that wait, and were not tried. */
function copiesOf({ domainId, zone, now, today }: Ahead) {
  const day = sql`(d.due_at at time zone ${zone})::date`;
  return {
    day,
    copies: sql`
      from letters l join deliveries d on d.letter_id = l.id and d.sent_on = l.sent_on
      where l.domain_id = ${domainId} and l.state in ('sending', 'paused') and d.state in ('queued', 'claimed', 'kept')`,
    movable: sql`d.state = 'queued' and d.tried_at is null and (d.due_at > ${now} or ${day} < ${today}::date)`,
  };
}

/** What leaves on each day from today on as it stands, and what may: what waits for later days is moved to them, what is kept for a winner leaves on its own day. */
async function lookAhead(trx: Db, counted: Ahead) {
  const { domainId, now, today, ahead } = counted;
  const { day, copies, movable } = copiesOf(counted);
  // Nobody starts a letter by what is planned while that is worked out.
  await sql`select 1 from domains where id = ${domainId} for update`.execute(trx);
  const { rows } = await sql<{ day: string; waiting: number; kept: number; leaving: number }>`
    select to_char(greatest(${day}, ${today}::date), 'YYYY-MM-DD') as day, count(*) filter (where ${movable})::int as waiting, count(*) filter (where d.state = 'kept')::int as kept,
      count(*) filter (where d.state <> 'kept' and not (${movable}) and d.due_at <= ${now})::int as leaving ${copies} group by 1`.execute(
    trx,
  );
  const left = await trx
    .selectFrom('domain_days')
    .select(['delivered', 'bounced'])
    .where('domain_id', '=', domainId)
    .where('day', '=', today)
    .executeTakeFirst();
  const gone = (left?.delivered ?? 0) + (left?.bounced ?? 0) + rows.reduce((sum, row) => sum + row.leaving, 0);
  const on = new Map(rows.map((row) => [row.day, row]));
  const besides = (some: string) => (some === today ? gone : 0) + (on.get(some)?.kept ?? 0);
  return {
    waiting: new Map(rows.map((row) => [row.day, row.waiting])),
    rooms: ahead.map((one) => ({ day: one.day, left: Math.max(0, one.ceiling - besides(one.day)) })),
    plan: [...new Set([...ahead.map((one) => one.day), ...on.keys()])].map((some) => ({
      day: some,
      planned: besides(some) + (on.get(some)?.waiting ?? 0),
    })),
  };
}
type Look = Awaited<ReturnType<typeof lookAhead>>;

/** Says what is planned for each day: what waits for it, and today what has left besides. */
const sayPlanned = (trx: Db, domainId: string, plan: Look['plan']) =>
  sql`
    insert into domain_days (domain_id, day, planned)
    select ${domainId}::uuid, t.day, t.planned from jsonb_to_recordset(${JSON.stringify(plan)}::jsonb) as t(day date, planned int)
    where t.planned > 0 or exists (select 1 from domain_days k where k.domain_id = ${domainId}::uuid and k.day = t.day)
    on conflict (domain_id, day) do update set planned = excluded.planned where domain_days.planned <> excluded.planned`.execute(
    trx,
  );

/**
 * What is to leave from now on, in its order, as many a day as may: none sooner than it was to, each at its hour. What was to leave on days that are gone, by a
 * letter that was paused or while nothing left at all, is among it; what was tried comes when it is to be tried again. Moved are the last first, so that no day is
 * ever fuller for it, each to a day that does not depend on where it was: whoever dies on the way leaves nothing that the next counting does not go on with.
 */
async function keepToCeilings(db: Db, counted: Ahead, atOnce: number): Promise<void> {
  const { domainId, zone, ahead } = counted;
  const { day, copies, movable } = copiesOf(counted);
  const over = await inTransaction(db, async (trx) => {
    const look = await lookAhead(trx, counted);
    if (look.rooms.some((room) => (look.waiting.get(room.day) ?? 0) > room.left)) return look;
    await sayPlanned(trx, domainId, look.plan);
    return null;
  });
  if (!over) return;
  const ends = [...endsOf(spreadLater(over.waiting, over.rooms, dayAfter(ahead.at(-1)!.day, 1)), atOnce)];
  const { rows: keys } = await sql<Key>`
    select q.place::int, q.due_at::text as due, q.sent_on::text as "sentOn", q.id::text
    from (select d.due_at, d.sent_on, d.id, row_number() over (order by d.due_at, d.sent_on, d.id) as place ${copies} and ${movable}) q
    where q.place = any(${ends.map((end) => end.place)}::int[]) order by 1`.execute(db);
  const keyAt = new Map(keys.map((key) => [key.place, key]));
  const order = sql`(d.due_at, d.sent_on, d.id)`;
  const of = ({ due, sentOn, id }: Key) => sql`(${due}::timestamptz, ${sentOn}::date, ${id}::bigint)`;
  for (const [n, end] of [...ends.entries()].reverse()) {
    const [from, to] = [keyAt.get(ends[n - 1]?.place ?? 0), keyAt.get(end.place)];
    await inTransaction(db, (trx) =>
      sql`
        update deliveries d set due_at = ((${end.day}::date + (d.due_at at time zone ${zone})::time) at time zone ${zone})
        from (select d.sent_on, d.id ${copies} and ${movable} and ${day} < ${end.day}::date
              and ${from ? sql`${order} > ${of(from)}` : sql`true`} and ${to ? sql`${order} <= ${of(to)}` : sql`true`}
              order by d.sent_on, d.id for update of d) s
        where d.sent_on = s.sent_on and d.id = s.id`.execute(trx),
    );
  }
  await inTransaction(db, async (trx) => {
    await sayPlanned(trx, domainId, (await lookAhead(trx, counted)).plan);
    await sql`
      update letters l set last_due_at = greatest(l.last_due_at, m.last)
      from (select d.letter_id, max(d.due_at) as last ${copies} and ${movable} group by 1) m where l.id = m.letter_id`.execute(
      trx,
    );
  });
}

/** Where pieces of what is spread end, by its place, and on which day each leaves. */
function* endsOf(shares: readonly Share[], atOnce: number): Generator<{ place: number; day: string }> {
  let before = 0;
  for (const { day, count } of shares) {
    for (let place = before + atOnce; place < before + count; place += atOnce) yield { place, day };
    before += count;
    yield { place: before, day };
  }
}

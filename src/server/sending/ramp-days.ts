import { sql } from 'kysely';
import { type RampPlan, spread } from '@/core/delivery/ramp';
import { localDay } from '@/core/growth/days';
import { dayAfter } from '@/core/growth/periods';
import type { Context } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { daysByPlace, type RampDayView, rampAhead } from './ramp';

/** How often the days of a ramp-up are counted anew. */
const COUNT_EVERY_MS = 600_000;
/** So many days afterwards a copy still comes back, or is reported: until then its day is counted anew. */
const OPEN_DAYS = 8;

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
export async function countRamp(ctx: Context, domainId: string): Promise<void> {
  const now = ctx.clock.now();
  // One that cannot be counted stands back behind the others.
  const stamped = await ctx.db
    .updateTable('domains')
    .set({ ramp_counted_at: now })
    .where('id', '=', domainId)
    .where('ramp', 'is not', null)
    .executeTakeFirst();
  if (!stamped.numUpdatedRows) return;
  await inTransaction(ctx.db, async (trx) => {
    const { rows } = await sql<{ ramp: RampPlan; zone: string }>`
      select d.ramp, n.time_zone as zone from domains d join newsletters n on n.id = d.newsletter_id where d.id = ${domainId} and d.ramp is not null for update of d`.execute(
      trx,
    );
    const domain = rows[0];
    if (!domain) return;
    const { ramp, zone } = domain;
    const today = localDay(now, zone);
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
    const ahead = await rampAhead(trx, { id: domainId, ramp }, today);
    if (ahead.length) await keepToCeilings(trx, { domainId, zone, now, today, ahead });
  });
}

type Ahead = { domainId: string; zone: string; now: Date; today: string; ahead: RampDayView[] };

/**
 * What is to leave from now on, in its order, as many a day as may: none sooner than it was to, each at its hour. What was to leave on days that are gone, by a
 * letter that was paused or while nothing left at all, is among it; what was tried comes when it is to be tried again.
 */
async function keepToCeilings(trx: Db, { domainId, zone, now, today, ahead }: Ahead): Promise<void> {
  const copies = sql`
    from letters l join deliveries d on d.letter_id = l.id and d.sent_on = l.sent_on
    where l.domain_id = ${domainId} and l.state in ('sending', 'paused') and d.state in ('queued', 'claimed')`;
  const day = sql`(d.due_at at time zone ${zone})::date`;
  const movable = sql`d.state = 'queued' and d.tried_at is null and (d.due_at > ${now} or ${day} < ${today}::date)`;
  const { rows } = await sql<{ day: string; waiting: number; leaving: number }>`
    select to_char(${day}, 'YYYY-MM-DD') as day, count(*) filter (where ${movable})::int as waiting, count(*) filter (where not (${movable}) and d.due_at <= ${now})::int as leaving ${copies} group by 1`.execute(
    trx,
  );
  const left = await trx
    .selectFrom('domain_days')
    .select(['delivered', 'bounced'])
    .where('domain_id', '=', domainId)
    .where('day', '=', today)
    .executeTakeFirst();
  const gone = (left?.delivered ?? 0) + (left?.bounced ?? 0) + rows.reduce((sum, row) => sum + row.leaving, 0);
  const rooms = ahead.map((one) => ({ day: one.day, left: one.day === today ? Math.max(0, one.ceiling - gone) : one.ceiling }));
  const on = (some: string) =>
    rows.reduce((sum, row) => sum + (row.day === some || (some === today && row.day < today) ? row.waiting : 0), 0);
  if (rooms.every((room) => on(room.day) <= room.left)) return;
  const shares = spread(
    rows.reduce((sum, { waiting }) => sum + waiting, 0),
    rooms,
    dayAfter(ahead.at(-1)!.day, 1),
  );
  await sql`
    update deliveries d set due_at = ((d.due_at at time zone ${zone}) + (s.days - s.was) * interval '1 day') at time zone ${zone}
    from (select q.id, q.sent_on, q.was, ${daysByPlace(shares, today)} as days
          from (select d.id, d.sent_on, ${day} - ${today}::date as was, row_number() over (order by d.due_at, d.sent_on, d.id) as place ${copies} and ${movable}) q) s
    where d.id = s.id and d.sent_on = s.sent_on and s.days > s.was`.execute(trx);
  // What is planned for a day is what waits for it, and today what has left besides.
  await sql`
    insert into domain_days (domain_id, day, planned)
    select ${domainId}::uuid, a.day, (case when a.day = ${today}::date then ${gone} else 0 end) + coalesce(w.n, 0)
    from unnest(${[...new Set([...ahead, ...shares].map((one) => one.day))]}::date[]) as a(day)
    left join (select ${day} as day, count(*)::int as n ${copies} and ${movable} group by 1) w on w.day = a.day
    on conflict (domain_id, day) do update set planned = excluded.planned`.execute(trx);
  await sql`
    update letters l set last_due_at = greatest(l.last_due_at, m.last)
    from (select d.letter_id, max(d.due_at) as last ${copies} and ${movable} group by 1) m where l.id = m.letter_id`.execute(trx);
}

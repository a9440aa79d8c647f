import { type RawBuilder, sql } from 'kysely';
import { type RampPlan, rampCeilings, type Share, spread } from '@/core/delivery/ramp';
import { localDay } from '@/core/growth/days';
import { dayAfter, lengthOf } from '@/core/growth/periods';
import type { Context } from '../context';
import type { Db } from '../db/connection';

export type RampDayView = { day: string; ceiling: number; planned: number };

const between = (from: string, to: string) => lengthOf({ from, to }) - 1;

type Ramped = { id: string; ramp: RampPlan };
/** What was planned for each day of a domain's ramp-up and what came of it, with the ceilings that follow from the days before today. */
async function ramped(db: Db, { id, ramp }: Ramped, today: string) {
  const rows = await db
    .selectFrom('domain_days')
    .selectAll()
    .where('domain_id', '=', id)
    .where('day', '>=', ramp.startedOn)
    .execute();
  const at = new Map(rows.map((row) => [row.day, row]));
  const dayOf = (n: number) => {
    const day = dayAfter(ramp.startedOn, n);
    const { planned = 0, delivered = 0, bounced = 0, complained = 0 } = at.get(day) ?? {};
    return { day, planned, delivered, bounced, complained };
  };
  const past = Array.from({ length: Math.max(0, between(ramp.startedOn, today)) }, (_, n) => dayOf(n));
  const ceilings = rampCeilings(
    ramp,
    past.map(({ complained, bounced, delivered }) => ({ complaints: complained, bounced, delivered })),
  );
  return { dayOf, ceilings };
}

/** A domain's ramp-up from today on: each day's ceiling, computed from what came of the days before, and what is planned already. */
export async function rampAhead(db: Db, domain: Ramped, today: string): Promise<RampDayView[]> {
  const { dayOf, ceilings } = await ramped(db, domain, today);
  return ceilings
    .map((ceiling, n) => ({ ceiling, ...dayOf(n) }))
    .filter(({ day }) => day >= today)
    .map(({ day, ceiling, planned }) => ({ day, ceiling, planned }));
}

/** The last day on which a ramp-up has a ceiling, as it stands. */
export async function rampEnd(db: Db, domain: Ramped, today: string): Promise<string> {
  const { ceilings } = await ramped(db, domain, today);
  return dayAfter(domain.ramp.startedOn, ceilings.length - 1);
}

export type RampView = { plan: RampPlan; ahead: RampDayView[]; dayNumber: number; days: number };

/** A domain's ramp-up as the writer sees it, or null where there is none. */
export async function rampOf(
  ctx: Context,
  newsletter: { time_zone: string },
  domain: { id: string; ramp: RampPlan | null },
): Promise<RampView | null> {
  if (!domain.ramp) return null;
  const today = localDay(ctx.clock.now(), newsletter.time_zone);
  const ahead = await rampAhead(ctx.db, { id: domain.id, ramp: domain.ramp }, today);
  const dayNumber = between(domain.ramp.startedOn, today) + 1;
  return { plan: domain.ramp, ahead, dayNumber, days: dayNumber - 1 + ahead.length };
}

/** A day of a ramp-up: the ceiling that was planned, the one that came of what readers and providers said, and what left; null on days that are ahead. */
export type RampDone = { day: string; plan: number; ceiling: number; left: number | null; bounced: number; complained: number };

/** A domain's ramp-up day by day from its first, as planned and as it went; to a week from today, or its end. */
export async function rampDone(
  ctx: Context,
  newsletter: { time_zone: string },
  { id, ramp }: { id: string; ramp: RampPlan | null },
): Promise<RampDone[]> {
  if (!ramp) return [];
  const today = localDay(ctx.clock.now(), newsletter.time_zone);
  const { dayOf, ceilings } = await ramped(ctx.db, { id, ramp }, today);
  const planned = rampCeilings(ramp, []);
  const days = Math.min(between(ramp.startedOn, today) + 8, Math.max(planned.length, ceilings.length));
  return Array.from({ length: Math.max(0, days) }, (_, n) => {
    const { day, delivered, bounced, complained } = dayOf(n);
    return {
      day,
      plan: planned[n] ?? ramp.volume,
      ceiling: ceilings[n] ?? ramp.volume,
      left: day > today ? null : delivered + bounced,
      bounced,
      complained,
    };
  });
}

/** So many days from today the copy of a row `q` leaves, by its place among all that are spread. */
export function daysByPlace(shares: readonly Share[], today: string): RawBuilder<number> {
  let upTo = 0;
  const bounds = shares.map((share) => {
    upTo += share.count;
    return upTo;
  });
  return sql`(${shares.map((share) => between(today, share.day))}::int[])[1 + (select count(*) from unnest(${bounds}::int[]) as b where b < q.place)]`;
}

type Letter = { letterId: string; domainId: string; ramp: RampPlan; zone: string; sentOn: string; now: Date; recipients: number };

/**
 * Spreads a letter's fixed recipients over the days of its domain's ramp-up, those on whom versions are tried first, then those who opened most lately, since their mailboxes
 * know the writer already; at the hour that each has already. In the transaction that starts the letter. Returns the shares by day.
 */
export async function spreadByRamp(db: Db, letter: Letter): Promise<Share[]> {
  const today = localDay(letter.now, letter.zone);
  // Two letters that start at once must not plan the same room twice.
  await sql`select 1 from domains where id = ${letter.domainId} for update`.execute(db);
  const ahead = await rampAhead(db, { id: letter.domainId, ramp: letter.ramp }, today);
  if (ahead.length === 0) return [];
  const shares = spread(
    letter.recipients,
    ahead.map(({ day, ceiling, planned }) => ({ day, left: ceiling - planned })),
    dayAfter(ahead.at(-1)!.day, 1),
  );
  await sql`
    update deliveries d set due_at = ((d.due_at at time zone ${letter.zone}) + s.days * interval '1 day') at time zone ${letter.zone}
    from (select q.id, ${daysByPlace(shares, today)} as days
          from (select x.id, row_number() over (order by x.state = 'kept', r.last_read_at desc nulls last, x.id) as place from deliveries x join readers r on r.id = x.reader_id
                where x.letter_id = ${letter.letterId} and x.sent_on = ${letter.sentOn}::date) q) s
    where d.id = s.id and d.sent_on = ${letter.sentOn}::date and d.letter_id = ${letter.letterId}`.execute(db);
  await sql`
    insert into domain_days (domain_id, day, planned)
    select ${letter.domainId}::uuid, day, count from unnest(${shares.map((share) => share.day)}::date[], ${shares.map((share) => share.count)}::int[]) as t(day, count)
    on conflict (domain_id, day) do update set planned = domain_days.planned + excluded.planned`.execute(db);
  return shares;
}

export type LaterShare = { letterId: string; at: Date; count: number };

/** What of letters under way leaves on later days, for the runway: of letters whose domain is ramped up or that have a pace, the only ones that leave over days. */
export async function laterShares(ctx: Context, newsletter: { id: string; time_zone: string }): Promise<LaterShare[]> {
  const now = ctx.clock.now();
  const { rows } = await sql<{ letter_id: string; at: Date; count: number }>`
    select d.letter_id, min(d.due_at) as at, count(*)::int as count
    from letters l join domains m on m.id = l.domain_id join deliveries d on d.letter_id = l.id and d.sent_on = l.sent_on
    where l.newsletter_id = ${newsletter.id} and l.state in ('sending', 'paused') and (m.ramp is not null or l.departure->'pace'->>'kind' <> 'at once') and d.state = 'queued' and d.due_at > ${now}
    group by d.letter_id, (d.due_at at time zone ${newsletter.time_zone})::date
    having (min(d.due_at) at time zone ${newsletter.time_zone})::date > (${now}::timestamptz at time zone ${newsletter.time_zone})::date
    order by 2 limit 60`.execute(ctx.db);
  return rows.map((row) => ({ letterId: row.letter_id, at: row.at, count: row.count }));
}

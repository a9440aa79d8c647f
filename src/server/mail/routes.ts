import { type Selectable, sql } from 'kysely';
import {
  afterFailure,
  afterFullLine,
  afterGood,
  afterQuietMinute,
  afterRefusedLine,
  afterSlowDown,
  type Way,
} from '@/core/sending/way';
import type { Context } from '../context';
import type { Schema } from '../db/schema';
import type { OpenRoute } from './lines';

type Row = Selectable<Schema['routes']>;

/** A route as a worker holds it: how to reach it, and what is known of the way. */
export type Route = OpenRoute & { name: string; way: Way; proven: boolean };

const wayOf = (row: Row): Way => ({
  lanes: row.lanes,
  lanesMost: row.lanes_most,
  failedRounds: row.failed_rounds,
  failingSince: row.failing_since,
  pausedUntil: row.paused_until,
  pausedFor: row.paused_for,
  mailsALine: row.mails_a_line,
  perMinute: row.per_minute,
});
export const routeOf = (row: Row): Route => ({
  id: row.id,
  kind: row.kind,
  newsletterId: row.newsletter_id,
  domain: row.domain,
  verified: row.verified,
  hosts: row.hosts,
  lookAt: row.look_at,
  name: row.name,
  way: wayOf(row),
  proven: row.proven_at !== null && row.failing_since === null,
});

export type LaneWish = { routeId: number; lanes: number };

/**
 * Takes lanes on routes for a worker, never more over all workers than the route's window; `beyond` lanes more for mail that somebody waits for.
 * A route that another worker takes from at this moment is passed over. Returns the routes with how many lanes were granted.
 */
export async function takeLanes(
  ctx: Context,
  workerId: string,
  wishes: LaneWish[],
  beyond = 0,
): Promise<(Route & { granted: number })[]> {
  if (wishes.length === 0) return [];
  return ctx.db.transaction().execute(async (trx) => {
    const { rows } = await sql<Row & { held: number; wish: number }>`
      select r.*, (select coalesce(sum(held), 0) from lanes where route_id = r.id)::int as held, w.wish from routes r
      join unnest(${wishes.map((one) => one.routeId)}::int[], ${wishes.map((one) => one.lanes)}::int[]) as w(id, wish) on w.id = r.id
      where (r.paused_until is null or r.paused_until <= ${ctx.clock.now()}) and (${beyond > 0} or r.filled_until is null or r.filled_until <= ${ctx.clock.now()})
      order by r.id for update of r skip locked`.execute(trx);
    const granted = rows
      .map((row) => ({ ...routeOf(row), granted: Math.min(row.wish, Math.max(0, Math.floor(row.lanes) + beyond - row.held)) }))
      .filter((route) => route.granted > 0);
    if (granted.length) {
      await sql`
        insert into lanes (route_id, worker_id, held) select id, ${workerId}::uuid, n
        from unnest(${granted.map((route) => route.id)}::int[], ${granted.map((route) => route.granted)}::int[]) as t(id, n)
        where exists (select 1 from workers where id = ${workerId}::uuid)
        on conflict (route_id, worker_id) do update set held = lanes.held + excluded.held`.execute(trx);
      await sql`update routes set served_at = clock_timestamp() where id = any(${granted.map((route) => route.id)}::int[])`.execute(
        trx,
      );
    }
    return granted;
  });
}

/** Routes that letters wait for and that have lanes to spare, those that were served longest ago first. Another worker may be quicker. */
export async function routesWithLetters(
  ctx: Context,
  most: number,
): Promise<{ routeId: number; room: number; proven: boolean }[]> {
  const now = ctx.clock.now();
  const { rows } = await sql<{ routeId: number; room: number; proven: boolean }>`
    select r.id as "routeId", floor(r.lanes)::int - (select coalesce(sum(held), 0) from lanes where route_id = r.id)::int as room,
           r.proven_at is not null and r.failing_since is null as proven
    from routes r where r.due_at <= ${now} and (r.paused_until is null or r.paused_until <= ${now}) and (r.filled_until is null or r.filled_until <= ${now})
      and floor(r.lanes) > (select coalesce(sum(held), 0) from lanes where route_id = r.id)
    order by r.served_at limit ${most}`.execute(ctx.db);
  return rows;
}

/** Gives lanes back. */
export async function dropLanes(ctx: Context, workerId: string, drops: LaneWish[]): Promise<void> {
  if (drops.length === 0) return;
  const sorted = [...drops].sort((a, b) => a.routeId - b.routeId);
  const of = sql`unnest(${sorted.map((one) => one.routeId)}::int[], ${sorted.map((one) => one.lanes)}::int[]) as t(id, n)`;
  await sql`update lanes l set held = greatest(0, held - n) from ${of} where l.route_id = t.id and l.worker_id = ${workerId}::uuid`.execute(
    ctx.db,
  );
  await sql`delete from lanes where worker_id = ${workerId}::uuid and held <= 0`.execute(ctx.db);
}

/** What a worker met on a route since it last said so. */
export type Met = {
  good: number;
  failures: string[];
  /** A further connection was refused while so many of this worker's were open. */
  refusedAt: number | null;
  /** Hung up after so many mails. */
  fullAt: number | null;
  slow: string | null;
  lastMinute: number;
  quietMinute: boolean;
};
export const metNothing = (): Met => ({
  good: 0,
  failures: [],
  refusedAt: null,
  fullAt: null,
  slow: null,
  lastMinute: 0,
  quietMinute: false,
});

/** The way after what was met on it. */
export function afterMet(way: Way, met: Met, now: Date): Way {
  let next = afterGood(way, met.good);
  for (const reason of met.failures) next = afterFailure(next, reason, now);
  if (met.refusedAt !== null) next = afterRefusedLine(next, met.refusedAt);
  if (met.fullAt !== null) next = afterFullLine(next, met.fullAt);
  if (met.slow !== null) next = afterSlowDown(next, met.lastMinute, met.slow, now);
  else if (met.quietMinute) next = afterQuietMinute(next);
  return next;
}

/** Would what was met change anything that is kept? Most of the time it does not, and nothing is written. */
export const isWorthSaying = (route: Route, met: Met, now: Date): boolean =>
  !route.proven || afterMet(route.way, met, now) !== route.way;

/** Writes what was met on routes, each under its lock, and returns them as they are now. */
export async function saveMet(ctx: Context, all: Map<number, Met>): Promise<Route[]> {
  if (all.size === 0) return [];
  const now = ctx.clock.now();
  return ctx.db.transaction().execute(async (trx) => {
    const { rows } =
      await sql<Row>`select * from routes where id = any(${[...all.keys()]}::int[]) order by id for update`.execute(trx);
    const routes: Route[] = [];
    for (const row of rows) {
      const met = all.get(row.id)!;
      const way = afterMet(wayOf(row), met, now);
      const set = {
        lanes: way.lanes,
        lanes_most: way.lanesMost,
        failed_rounds: way.failedRounds,
        failing_since: way.failingSince,
        paused_until: way.pausedUntil,
        paused_for: way.pausedFor,
        mails_a_line: way.mailsALine,
        per_minute: way.perMinute,
        ...(met.good > 0 ? { proven_at: now } : {}),
      };
      await trx.updateTable('routes').set(set).where('id', '=', row.id).execute();
      routes.push(routeOf({ ...row, ...set }));
    }
    return routes;
  });
}

/** How a route is called before people, for a query with the route as `r`: by its mail host's domain, and how many domains it takes mail for. */
export const routeName = sql<string>`case when r.kind = 'relay' then r.name else (
  select case when count(*) > 99 then r.name || ' (over 99 domains)' when count(*) > 1 then r.name || ' (' || count(*) || ' domains)' else coalesce(min(few.name), r.name) end
  from (select name from mail_domains d where d.route_id = r.id limit 100) few) end`;

/** What is said of a route on which nothing moves now, for a query with the route as `r`: until when, and why. */
export const restingUntil = sql<Date | null>`greatest(r.paused_until, r.filled_until)`;
export const restingFor = sql<
  string | null
>`case when r.paused_until is null or r.filled_until > r.paused_until then ${'Your SMTP service takes no more letters for now; the rest follows.'} else r.paused_for end`;

/** Lets a relay have no more letters for a while; single mails still go. */
export async function fillRoute(ctx: Context, routeId: number, until: Date): Promise<void> {
  await ctx.db.updateTable('routes').set({ filled_until: until }).where('id', '=', routeId).execute();
}

/** Lets a route rest, with the reason: nothing failed, it takes no more for now. */
export async function restRoute(ctx: Context, routeId: number, until: Date, reason: string): Promise<void> {
  await ctx.db.updateTable('routes').set({ paused_until: until, paused_for: reason }).where('id', '=', routeId).execute();
}

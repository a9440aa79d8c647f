import { sql } from 'kysely';
import { type Reason, reasonOfWay } from '@/core/delivery/reason';
import { LETTER_LIFE_MS, MAIL_LIFE_MS } from '@/core/sending/outcome';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { type Looked, Lookups } from '../mail/lookups';
import { routesDue, waitAgain } from './copies';
import { countLetters } from './counts';
import { countReasons } from './reasons';

/**
 * Finds the routes of domains that mail waits for, and puts what waits on its way. Where a domain takes no mail, or has not existed for two days, its
 * readers count as unreachable and their copies are given up; once it answers they are reachable again. `found` is called each time that routes were.
 */
export const findRoutes = (ctx: Context, found: () => void = () => {}): Promise<void> =>
  new Lookups(ctx, (looked) => applyLooked(ctx, looked)).run(found);

function applyLooked(ctx: Context, looked: Looked[]): Promise<void> {
  const routed = looked.filter((one) => one.routeId !== null);
  return ctx.db.transaction().execute(async (trx) => {
    const ids = sql`unnest(${routed.map((one) => one.id)}::int[], ${routed.map((one) => one.routeId)}::int[]) as n(domain_id, route_id)`;
    const { rows } = await sql<{ letter_id: string; newsletter_id: string; route_id: number; sent_on: string; due: Date }>`
      with moved as (
        update deliveries d set route_id = n.route_id from ${ids}
        where d.domain_id = n.domain_id and d.route_id is null and d.state = 'queued' returning d.letter_id, d.newsletter_id, d.route_id, d.sent_on, d.due_at)
      select letter_id, newsletter_id, route_id, sent_on, min(due_at) as due from moved group by 1, 2, 3, 4`.execute(trx);
    await waitAgain(trx, rows);
    await sql`update mails m set route_id = n.route_id from ${ids} where m.domain_id = n.domain_id and m.route_id is null and m.state = 'queued'`.execute(
      trx,
    );
    // What waited on a route that is not the domain's any more moves over.
    for (const one of routed) {
      if (one.before === null || one.before === one.routeId) continue;
      const { rows: over } = await sql<{
        letter_id: string;
        newsletter_id: string;
        route_id: number;
        sent_on: string;
        due: Date;
      }>`
        update deliveries d set route_id = ${one.routeId} from route_jobs j
        where j.route_id = ${one.before} and d.letter_id = j.letter_id and d.sent_on = j.sent_on and d.route_id = j.route_id and d.domain_id = ${one.id} and d.state = 'queued'
        returning d.letter_id, d.newsletter_id, d.route_id, d.sent_on, d.due_at as due`.execute(trx);
      await waitAgain(trx, over);
      await sql`update mails set route_id = ${one.routeId} where domain_id = ${one.id} and route_id = ${one.before} and state = 'queued'`.execute(
        trx,
      );
    }
    for (const one of looked) {
      if (one.back)
        await sql`update readers set address_state = 'fine' where domain_id = ${one.id} and address_state = 'unreachable'`.execute(
          trx,
        );
      if (one.gone) await giveUp(ctx, trx, one.id, one.said ?? '', one.state === 'no mail' ? 'bounced' : 'given up');
      else if (one.stale) {
        const ago = (ms: number) => new Date(ctx.clock.now().getTime() - ms);
        await giveUpCopies(trx, ctx.clock.now(), one.id, one.said ?? '', 'given up', ago(LETTER_LIFE_MS));
        await sql`update mails set state = 'given up', response = ${one.said} where domain_id = ${one.id} and route_id is null and state = 'queued' and created_at < ${ago(MAIL_LIFE_MS)}`.execute(
          trx,
        );
      }
    }
  });
}

async function giveUp(ctx: Context, db: Db, domainId: number, said: string, state: 'bounced' | 'given up'): Promise<void> {
  await sql`update readers set address_state = 'unreachable' where domain_id = ${domainId} and address_state in ('fine', 'bouncing')`.execute(
    db,
  );
  await giveUpCopies(db, ctx.clock.now(), domainId, said, state, null);
  await sql`update mails set state = ${state}, response = ${said} where domain_id = ${domainId} and state = 'queued'`.execute(db);
  ctx.log.warn({ domain: domainId, said }, 'a domain takes no mail; its readers count as unreachable');
}

/** Gives up a domain's copies that have no way, all of them or those that were due before a time. */
async function giveUpCopies(
  db: Db,
  at: Date,
  domainId: number,
  said: string,
  state: 'bounced' | 'given up',
  dueBefore: Date | null,
): Promise<void> {
  const reason: Reason = state === 'bounced' ? 'dead' : 'unreachable';
  const { rows } = await sql<{ letter_id: string; newsletter_id: string; n: number }>`
    with gone as (
      update deliveries set state = ${state}, response = ${said}, reason = ${reason}
      where domain_id = ${domainId} and route_id is null and state = 'queued' and due_at < coalesce(${dueBefore}::timestamptz, 'infinity') returning letter_id, newsletter_id)
    select letter_id, newsletter_id, count(*)::int as n from gone group by 1, 2`.execute(db);
  await countLetters(
    db,
    rows.map((row) => ({
      newsletterId: row.newsletter_id,
      letterId: row.letter_id,
      domainId,
      [state === 'bounced' ? 'bounced' : 'given_up']: row.n,
    })),
  );
  await countReasons(
    db,
    at,
    rows.map((row) => ({ newsletterId: row.newsletter_id, letterId: row.letter_id, domainId, reason, ended: row.n })),
  );
  await sql`update mail_domains set wanted = (select count(*) from deliveries where domain_id = ${domainId} and route_id is null and state = 'queued') where id = ${domainId}`.execute(
    db,
  );
}

/** So many rounds must have failed before a way's letters are given up for their age: a clock that jumps is no outage. */
const ROUNDS_BEFORE = 5;

/** Gives letters up that have waited two days for a way that has failed all that time. Nobody's mailbox is to blame. */
export async function giveUpStale(ctx: Context): Promise<void> {
  const old = new Date(ctx.clock.now().getTime() - LETTER_LIFE_MS);
  const { rows: ways } = await sql<{ id: number; said: string | null }>`
    select id, paused_for as said from routes where failing_since < ${old} and failed_rounds >= ${ROUNDS_BEFORE} and due_at < ${old} limit 100`.execute(
    ctx.db,
  );
  for (const way of ways)
    await ctx.db.transaction().execute(async (trx) => {
      const reason = reasonOfWay(way.said);
      const { rows } = await sql<{ letter_id: string; newsletter_id: string; domain_id: number; n: number }>`
        with gone as (
          update deliveries d set state = 'given up', response = ${way.said}, reason = ${reason} from route_jobs j
          where j.route_id = ${way.id} and d.letter_id = j.letter_id and d.sent_on = j.sent_on and d.route_id = j.route_id and d.state = 'queued' and d.due_at < ${old}
          returning d.letter_id, d.newsletter_id, d.domain_id)
        select letter_id, newsletter_id, domain_id, count(*)::int as n from gone group by 1, 2, 3`.execute(trx);
      await countLetters(
        trx,
        rows.map((row) => ({
          newsletterId: row.newsletter_id,
          letterId: row.letter_id,
          domainId: row.domain_id,
          given_up: row.n,
        })),
      );
      await countReasons(
        trx,
        ctx.clock.now(),
        rows.map((row) => ({
          newsletterId: row.newsletter_id,
          letterId: row.letter_id,
          domainId: row.domain_id,
          reason,
          ended: row.n,
        })),
      );
      await sql`
        with next as (select j.letter_id, (select min(d.due_at) from deliveries d where d.letter_id = j.letter_id and d.sent_on = j.sent_on and d.route_id = j.route_id and d.state = 'queued') as due
          from route_jobs j where j.route_id = ${way.id}),
        gone as (delete from route_jobs j using next n where j.route_id = ${way.id} and j.letter_id = n.letter_id and n.due is null)
        update route_jobs j set next_due = n.due from next n where j.route_id = ${way.id} and j.letter_id = n.letter_id and n.due is not null`.execute(
        trx,
      );
      await routesDue(trx, [way.id]);
    });
}

/** Takes a newsletter's relay away: its mail goes straight to the mailbox providers again, also what waits. */
export async function dropRelay(ctx: Context, newsletter: { id: string }): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    await sql`delete from relays where newsletter_id = ${newsletter.id}`.execute(trx);
    const { rows } = await sql<{ id: number }>`select id from routes where newsletter_id = ${newsletter.id} for update`.execute(
      trx,
    );
    if (!rows[0]) return;
    await sql`
      with back as (
        update deliveries d set route_id = null, due_at = least(d.due_at, ${ctx.clock.now()}::timestamptz) from route_jobs j
        where j.route_id = ${rows[0].id} and d.letter_id = j.letter_id and d.sent_on = j.sent_on and d.route_id = j.route_id and d.state = 'queued' returning d.domain_id)
      update mail_domains d set wanted = b.n, look_at = '-infinity' from (select domain_id, count(*)::int as n from back group by 1 order by 1) b where d.id = b.domain_id`.execute(
      trx,
    );
    await sql`update mails set route_id = null where route_id = ${rows[0].id} and state = 'queued'`.execute(trx);
    await sql`delete from routes where id = ${rows[0].id}`.execute(trx);
  });
}

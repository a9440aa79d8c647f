import { sql } from 'kysely';
import { afterDelivery, type Evidence, isPattern, PATTERN, withSign } from '@/core/delivery/evidence';
import type { Outcome } from '@/core/sending/outcome';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { restRoute } from '../mail/routes';
import { silence, silenceAll } from './silence';

/** What a recipient's server said of somebody's mailbox. `weight` counts where it is a sign and no proof. */
export type Said = { readerId: string; newsletterId: string; routeId: number | null; outcome: Outcome; weight: number };

const REST_MS = 30 * 60_000;

/** How many mails each route took in the last hour, as far as this worker handed them over. */
export class Taken {
  readonly #hours = new Map<number, { minute: number; mails: number }[]>();
  add(routeId: number, mails: number, now: Date): void {
    const minute = Math.floor(now.getTime() / 60_000);
    const hour = (this.#hours.get(routeId) ?? []).filter((one) => Math.abs(minute - one.minute) < 60);
    const last = hour.at(-1);
    if (last?.minute === minute) last.mails += mails;
    else hour.push({ minute, mails });
    this.#hours.set(routeId, hour);
  }
  of(routeId: number): number {
    return (this.#hours.get(routeId) ?? []).reduce((sum, one) => sum + one.mails, 0);
  }
}

/**
 * Tells readers' mailboxes what was said of them, in the transaction that writes it: a dead mailbox is suppressed, a sign adds to the
 * evidence. Many mailboxes of one route refused in the same words within an hour speak of the way: then none is suppressed, those that
 * were for these words are given back, and the route rests. Returns the readers whose mailbox is not to blame.
 */
export async function tellMailboxes(ctx: Context, db: Db, all: Said[], taken: Taken): Promise<Set<string>> {
  const now = ctx.clock.now();
  const innocent = new Set<string>();
  // One after the other: the one that shows a pattern gives those before it back.
  const dead = (one: Said) => ({
    readerId: one.readerId,
    newsletterId: one.newsletterId,
    reason: 'hard bounce' as const,
    detail: 'response' in one.outcome ? one.outcome.response : '',
  });
  for (const one of all) {
    if (one.outcome.kind !== 'dead' || one.routeId === null) continue;
    if (await isOfTheWay(ctx, db, one, one.outcome, taken)) innocent.add(one.readerId);
    else await silence(ctx, db, dead(one));
  }
  const told = all.filter((one) => one.outcome.kind === 'dead' && one.routeId === null).map(dead);
  if (told.length) await silenceAll(ctx, db, told);
  const signs = all
    .filter(({ weight, outcome }) => weight > 0 && outcome.kind !== 'dead')
    .sort((a, b) => (a.readerId < b.readerId ? -1 : 1));
  for (const one of signs) {
    const reader = await db
      .selectFrom('readers')
      .select(['soft_evidence', 'soft_at', 'address_state'])
      .where('id', '=', one.readerId)
      .where('newsletter_id', '=', one.newsletterId)
      .forUpdate()
      .executeTakeFirst();
    if (!reader) continue;
    const { score, at, bouncing } = withSign({ score: reader.soft_evidence, at: reader.soft_at }, one.weight, now);
    await db
      .updateTable('readers')
      .set({
        soft_evidence: score,
        soft_at: at,
        ...(bouncing && reader.address_state === 'fine' ? { address_state: 'bouncing' } : {}),
      })
      .where('id', '=', one.readerId)
      .execute();
    if (bouncing && reader.address_state === 'fine')
      await silence(ctx, db, {
        readerId: one.readerId,
        newsletterId: one.newsletterId,
        reason: null,
        detail: one.outcome.response,
      });
  }
  return innocent;
}

/** After a delivery what spoke against these mailboxes counts half, and one that was bouncing is well again. */
export async function fade(
  ctx: Context,
  db: Db,
  readers: { id: string; soft_evidence: number; soft_at: Date | null }[],
): Promise<void> {
  for (const row of [...readers].sort((a, b) => (a.id < b.id ? -1 : 1))) {
    const left: Evidence = afterDelivery({ score: row.soft_evidence, at: row.soft_at }, ctx.clock.now());
    await sql`update readers set soft_evidence = ${left.score}, soft_at = ${left.at},
      address_state = case when address_state = 'bouncing' then 'fine' else address_state end where id = ${row.id}`.execute(db);
  }
}

/** Notes a refusal and says whether it is one of too many alike. */
async function isOfTheWay(
  ctx: Context,
  db: Db,
  one: Said,
  { words, response }: { words: string; response: string },
  taken: Taken,
): Promise<boolean> {
  const now = ctx.clock.now();
  await sql`
    insert into refusals (route_id, words, address_key, newsletter_id, reader_id, at)
    select ${one.routeId}::int, ${words}, address_key, newsletter_id, id, ${now}::timestamptz from readers where id = ${one.readerId} and newsletter_id = ${one.newsletterId}
    on conflict (route_id, words, newsletter_id, address_key) do update set at = excluded.at`.execute(db);
  const since = new Date(now.getTime() - PATTERN.withinMs);
  const row = await db
    .selectFrom('refusals')
    .select((eb) => eb.fn.count<string>('address_key').distinct().as('n'))
    .where('route_id', '=', one.routeId!)
    .where('words', '=', words)
    .where('at', '>', since)
    .executeTakeFirstOrThrow();
  if (!isPattern(Number(row.n), taken.of(one.routeId!))) return false;
  ctx.log.warn(
    { route: one.routeId, mailboxes: Number(row.n), words },
    'a route refuses many mailboxes alike: the way, not the mailboxes',
  );
  await sql`
    with back as (
      delete from suppressions s using refusals f
      where f.route_id = ${one.routeId} and f.words = ${words} and f.at > ${since} and s.newsletter_id = f.newsletter_id and s.address_key = f.address_key
        and s.reason = 'hard bounce' and s.at > ${since} returning f.reader_id)
    update readers set address_state = 'fine' where id in (select reader_id from back order by 1) and address_state = 'suppressed'`.execute(
    db,
  );
  await restRoute(
    { ...ctx, db },
    one.routeId!,
    new Date(now.getTime() + REST_MS),
    `Refuses many mailboxes in the same words: ${response}`,
  );
  return true;
}

/** Bouncing mailboxes whose last sign is a month old get a second chance, with half of what spoke against them. */
export async function forgiveOld(ctx: Context): Promise<void> {
  const now = ctx.clock.now();
  await sql`
    update readers set address_state = 'fine', soft_evidence = soft_evidence / 2, soft_at = ${now}
    where address_state = 'bouncing' and soft_at < ${new Date(now.getTime() - 30 * 86_400_000)}`.execute(ctx.db);
  await ctx.db
    .deleteFrom('refusals')
    .where('at', '<', new Date(now.getTime() - 86_400_000))
    .execute();
}

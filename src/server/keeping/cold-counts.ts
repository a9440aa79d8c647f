import { type RawBuilder, sql } from 'kysely';
import { COLD_DAYS, type ColdCounts, coldFor, SHARE_OF, type Share, without } from '@/core/readers/cold';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { readyCondition } from '../readers/table';

const DAY_MS = 86_400_000;
/** Where fewer read than this, they are counted whenever somebody looks. */
const MANY = 50_000;
/** What was counted is shown for no longer. */
const KEPT_MS = DAY_MS;

/** Counts, at a look at each reader, what the last letters of each were to those who read, and to those of them who have been cold for so many days. */
async function countCold(
  ctx: Context,
  newsletter: Pick<Newsletter, 'id' | 'time_zone'>,
  days: readonly number[],
): Promise<ColdCounts> {
  const fits = await Promise.all(days.map((some) => readyCondition(ctx, ctx.db, newsletter, coldFor(some))));
  const share = (cold: RawBuilder<unknown>) => sql`json_build_object('people', count(*) filter (where ${cold}),
    'letters', coalesce(sum(got) filter (where ${cold}), 0), 'read', coalesce(sum(read) filter (where ${cold}), 0))`;
  const { rows } = await sql<{ whole: Share; cold: Share[] }>`
    select ${share(sql`true`)} as whole, json_build_array(${sql.join(days.map((some) => share(sql.ref(`cold_${some}`))))}) as cold from (
      select ${sql.join(fits.map((one, n) => sql`${one.fits} as ${sql.ref(`cold_${days[n]}`)}`))}, least(r.letters_got, ${SHARE_OF}) as got, bit_count((r.recent_read & ${(1 << SHARE_OF) - 1})::bit(64)) as read
      from readers r where r.newsletter_id = ${newsletter.id}::uuid and r.standing = 'reading') p`.execute(ctx.db);
  const { whole, cold } = rows[0]!;
  return { at: ctx.clock.now().toISOString(), all: whole, cold: Object.fromEntries(days.map((some, n) => [some, cold[n]!])) };
}

/** Counts anew who is cold, for each choice of days, where they are too many to be counted whenever somebody looks. */
export async function keepCold(
  ctx: Context,
  newsletter: Pick<Newsletter, 'id' | 'time_zone'>,
  many = MANY,
): Promise<ColdCounts | null> {
  const total = await ctx.db
    .selectFrom('people_totals')
    .select('reading')
    .where('newsletter_id', '=', newsletter.id)
    .where('kind', '=', 'all')
    .executeTakeFirst();
  const counts = (total?.reading ?? 0) < many ? null : await countCold(ctx, newsletter, COLD_DAYS);
  await ctx.db
    .updateTable('warmings')
    .set({ cold: counts && JSON.stringify(counts) })
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  return counts;
}

/** What was counted is not so any more: people were let go, or came back. */
export const forgetCold = (db: Db, newsletterId: string) =>
  db.updateTable('warmings').set({ cold: null }).where('newsletter_id', '=', newsletterId).execute();

export type ColdShare = { all: Share; cold: Share; rest: Share /** Null: just now. */; countedAt: Date | null };

/**
 * What the last letters of each were to those who read, with and without those who have been cold for so many days (one of `COLD_DAYS`): counted just
 * now, or where they are many when their warmth was last worked out, at most a day ago.
 */
export async function coldShare(ctx: Context, newsletter: Newsletter, days: number, many = MANY): Promise<ColdShare> {
  const kept = await ctx.db.selectFrom('warmings').select('cold').where('newsletter_id', '=', newsletter.id).executeTakeFirst();
  const age = kept?.cold ? ctx.clock.now().getTime() - Date.parse(kept.cold.at) : Number.POSITIVE_INFINITY;
  const fresh = age >= 0 && age < KEPT_MS ? kept!.cold! : await keepCold(ctx, newsletter, many);
  const { all, cold, at } = fresh ?? { ...(await countCold(ctx, newsletter, [days])), at: null };
  return { all, cold: cold[days]!, rest: without(all, cold[days]!), countedAt: at === null ? null : new Date(at) };
}

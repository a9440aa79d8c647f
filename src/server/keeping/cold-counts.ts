import { type RawBuilder, sql } from 'kysely';
import { COLD_DAYS, type ColdCounts, coldFor, SHARE_OF, type Share, silentAfter, without } from '@/core/readers/cold';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { howMany, readyCondition } from '../readers/table';

/** Where fewer read than this, they are counted whenever somebody looks. */
const MANY = 50_000;
/** What was counted is shown for no longer. */
const KEPT_MS = 86_400_000;
type Of = Pick<Newsletter, 'id' | 'time_zone'>;

/** Counts, at a look at each reader, what the last letters of each were to those who read, and to those of them who have been cold for so many days. */
async function countCold(ctx: Context, newsletter: Of, days: readonly number[]): Promise<Pick<ColdCounts, 'all' | 'cold'>> {
  const fits = await Promise.all(days.map((some) => readyCondition(ctx, ctx.db, newsletter, coldFor(some))));
  const share = (cold: RawBuilder<unknown>) => sql`json_build_object('people', count(*) filter (where ${cold}),
    'letters', coalesce(sum(got) filter (where ${cold}), 0), 'read', coalesce(sum(read) filter (where ${cold}), 0))`;
  const { rows } = await sql<{ whole: Share; cold: Share[] }>`
    select ${share(sql`true`)} as whole, json_build_array(${sql.join(days.map((some) => share(sql.ref(`cold_${some}`))))}) as cold from (
      select ${sql.join(fits.map((one, n) => sql`${one.fits} as ${sql.ref(`cold_${days[n]}`)}`))}, least(r.letters_got, ${SHARE_OF}) as got, bit_count((r.recent_read & ${(1 << SHARE_OF) - 1})::bit(64)) as read
      from readers r where r.newsletter_id = ${newsletter.id}::uuid and r.standing = 'reading') p`.execute(ctx.db);
  const { whole, cold } = rows[0]!;
  return { all: whole, cold: Object.fromEntries(days.map((some, n) => [some, cold[n]!])) };
}

/** How many of those who got a question are as cold as before. */
export const countSilent = (ctx: Context, newsletter: Of, letterId: string, days: number): Promise<number> =>
  howMany(ctx, newsletter, { find: '', condition: silentAfter(letterId, days) });

/**
 * Counts anew who is cold, for each choice of days, and who said nothing to a question that is out, where they are too many to be counted whenever somebody
 * looks. For whoever has worked out their warmth.
 */
export async function keepCold(ctx: Context, newsletterId: string, many = MANY): Promise<void> {
  const newsletter = await ctx.db
    .selectFrom('newsletters')
    .select(['id', 'time_zone'])
    .where('id', '=', newsletterId)
    .executeTakeFirst();
  if (!newsletter) return;
  const [total, out] = await Promise.all([
    ctx.db
      .selectFrom('people_totals')
      .select('reading')
      .where('newsletter_id', '=', newsletter.id)
      .where('kind', '=', 'all')
      .executeTakeFirst(),
    ctx.db
      .selectFrom('cleanups')
      .select(['letter_id', 'days'])
      .where('newsletter_id', '=', newsletter.id)
      .where('ended_at', 'is', null)
      .executeTakeFirst(),
  ]);
  const count = async (): Promise<ColdCounts> => ({
    at: ctx.clock.now().toISOString(),
    ...(await countCold(ctx, newsletter, COLD_DAYS)),
    question: out?.letter_id
      ? { letterId: out.letter_id, silent: await countSilent(ctx, newsletter, out.letter_id, out.days) }
      : null,
  });
  const counts = (total?.reading ?? 0) < many ? null : await count();
  await ctx.db
    .updateTable('warmings')
    .set({ cold: counts && JSON.stringify(counts) })
    .where('newsletter_id', '=', newsletter.id)
    .execute();
}

/** What was counted is not so any more, since people were let go or came back: it is counted anew soon. */
export const forgetCold = (db: Db, newsletterId: string) =>
  db
    .updateTable('warmings')
    .set({ cold: null, at: new Date(0) })
    .where('newsletter_id', '=', newsletterId)
    .execute();

/** What was counted when warmth was last worked out, less than a day ago; else null. */
export async function coldKept(ctx: Context, newsletterId: string): Promise<ColdCounts | null> {
  const row = await ctx.db.selectFrom('warmings').select('cold').where('newsletter_id', '=', newsletterId).executeTakeFirst();
  const age = row?.cold ? ctx.clock.now().getTime() - Date.parse(row.cold.at) : -1;
  return age >= 0 && age < KEPT_MS ? row!.cold! : null;
}

/** `countedAt` is null for just now. */
export type ColdShare = { all: Share; cold: Share; rest: Share; countedAt: Date | null };

/**
 * What the last letters of each were to those who read, with and without those who have been cold for so many days (one of `COLD_DAYS`): counted just
 * now, or where they are many when their warmth was last worked out.
 */
export async function coldShare(ctx: Context, newsletter: Newsletter, days: number): Promise<ColdShare> {
  const kept = await coldKept(ctx, newsletter.id);
  const { all, cold } = kept ?? (await countCold(ctx, newsletter, [days]));
  return { all, cold: cold[days]!, rest: without(all, cold[days]!), countedAt: kept && new Date(kept.at) };
}

import { sql } from 'kysely';
import { lastDays, localDay } from '@/core/growth/days';
import { type Warning, type WarningKind, warningsOf } from '@/core/growth/watch';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { deliveryOf } from '../delivery/standing';
import { newId } from '../ids';
import { mailOwners } from '../newsletters/alerts';
import { livingNewsletters } from '../newsletters/newsletters';

/** What is usual is learnt from half a year. */
const HABIT_DAYS = 182;
/** People have a day to confirm before it is said that they did not. */
const TO_CONFIRM_DAYS = 2;
const FORTNIGHT = 14;
/** What ended and comes back within these days is the same trouble, of which its owner was told. */
const SAME_MS = 14 * 86_400_000;
/** How often each newsletter is looked at. */
const WATCH_EVERY_MS = 3_600_000;

export type OpenWarning = Omit<Warning, 'kind'> & { id: string; kind: WarningKind; beganAt: Date };

/** Newsletters that were not looked at for an hour, or were in what is the future now: the clock went backwards. */
export function watchesDue(ctx: Context): Promise<{ id: string }[]> {
  const now = ctx.clock.now();
  return livingNewsletters(ctx.db)
    .where((eb) =>
      eb.or([
        eb('watched_at', 'is', null),
        eb('watched_at', '<=', new Date(now.getTime() - WATCH_EVERY_MS)),
        eb('watched_at', '>', now),
      ]),
    )
    .orderBy('watched_at', (order) => order.asc().nullsFirst())
    .limit(20)
    .execute();
}

/**
 * Looks whether anything is out of the usual, and tells the owners of it by mail, once for as long as it lasts. What is found stands on the screens until it is over.
 * Two that look at once tell once.
 */
export async function watch(ctx: Context, newsletterId: string): Promise<void> {
  const newsletter = await ctx.db.selectFrom('newsletters').selectAll().where('id', '=', newsletterId).executeTakeFirst();
  if (!newsletter) return;
  const now = ctx.clock.now();
  // One that cannot be looked at stands back behind the others, and comes again in an hour.
  await ctx.db.updateTable('newsletters').set({ watched_at: now }).where('id', '=', newsletterId).execute();
  const found = warningsOf(await watchedOf(ctx, newsletter));
  await inTransaction(ctx.db, async (trx) => {
    await trx.selectFrom('newsletters').select('id').where('id', '=', newsletterId).forUpdate().execute();
    const open = await trx
      .selectFrom('warnings')
      .select(['id', 'kind', 'about'])
      .where('newsletter_id', '=', newsletterId)
      .where('ended_at', 'is', null)
      .execute();
    const over = open.filter((one) => !found.some(({ kind, about }) => kind === one.kind && about === one.about));
    if (over.length)
      await trx
        .updateTable('warnings')
        .set({ ended_at: now })
        .where(
          'id',
          'in',
          over.map(({ id }) => id),
        )
        .execute();
    for (const warning of found) if (await isNews(trx, newsletterId, warning, now)) await tell(ctx, trx, newsletter, warning);
  });
}

/** Keeps what is found; was it not known yet? */
async function isNews(db: Db, newsletterId: string, { kind, about, heading, words, path }: Warning, now: Date): Promise<boolean> {
  const again = await sql`
    update warnings set ended_at = null, heading = ${heading}, words = ${words}::text[], path = ${path}
    where id = (select id from warnings where newsletter_id = ${newsletterId}::uuid and kind = ${kind} and about = ${about}
      and (ended_at is null or ended_at > ${new Date(now.getTime() - SAME_MS)}) order by began_at desc limit 1)`.execute(db);
  if (again.numAffectedRows) return false;
  const { numInsertedOrUpdatedRows } = await db
    .insertInto('warnings')
    .values({ id: newId(), newsletter_id: newsletterId, kind, about, heading, words, path, began_at: now })
    .onConflict((conflict) => conflict.doNothing())
    .executeTakeFirstOrThrow();
  return Boolean(numInsertedOrUpdatedRows);
}

async function tell(ctx: Context, db: Db, newsletter: Newsletter, { heading, words, path }: Warning): Promise<void> {
  if (newsletter.tell_unusual)
    await mailOwners(ctx, db, newsletter.id, newsletter, heading, words, path, { told: 'usual', label: 'See why' });
}

/** What is out of the usual and not over, the latest first. */
export async function warningsNow(ctx: Context, newsletter: Newsletter, kinds?: readonly WarningKind[]): Promise<OpenWarning[]> {
  const rows = await ctx.db
    .selectFrom('warnings')
    .select(['id', 'kind', 'about', 'heading', 'words', 'path', 'began_at as beganAt'])
    .where('newsletter_id', '=', newsletter.id)
    .where('ended_at', 'is', null)
    .$if(kinds !== undefined, (query) => query.where('kind', 'in', [...kinds!]))
    .orderBy('began_at', 'desc')
    .orderBy('id')
    .execute();
  return rows;
}

/** What is looked at: half a year of weeks, from counts kept as things happen. */
async function watchedOf(ctx: Context, newsletter: Newsletter): Promise<Parameters<typeof warningsOf>[0]> {
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const days = lastDays(now, zone, HABIT_DAYS + FORTNIGHT + TO_CONFIRM_DAYS);
  const [delivery, people, joined] = await Promise.all([
    deliveryOf(ctx, newsletter, HABIT_DAYS),
    sql<{ day: string; asked: number; confirmed: number }>`
      select to_char(day, 'YYYY-MM-DD') as day, sum(asked)::int as asked, sum(confirmed)::int as confirmed from source_parts
      where newsletter_id = ${newsletter.id}::uuid and dimension = 'form' and day >= ${days[0]!}::date group by 1`.execute(
      ctx.db,
    ),
    ctx.db
      .selectFrom('daily_counts')
      .select(['day', 'joined'])
      .where('newsletter_id', '=', newsletter.id)
      .where('day', '>=', days[0]!)
      .execute(),
  ]);
  const began = localDay(newsletter.created_at, zone);
  // Of whole days alone, and of none before it began.
  const upTo = (last: number) => days.slice(0, days.length - last).filter((day) => day >= began);
  const asked = new Map(people.rows.map((row) => [row.day, { part: row.confirmed, whole: row.asked }]));
  const came = new Map(joined.map((row) => [row.day, row.joined]));
  const total = (some: readonly number[]) => some.reduce((sum, n) => sum + n, 0);
  const confirming = fortnights(upTo(TO_CONFIRM_DAYS)).map((some) => ({
    part: total(some.map((day) => asked.get(day)?.part ?? 0)),
    whole: total(some.map((day) => asked.get(day)?.whole ?? 0)),
  }));
  const joining = fortnights(upTo(1)).map((some) => total(some.map((day) => came.get(day) ?? 0)));
  return {
    lately: delivery.lately,
    providers: delivery.providers,
    standings: delivery.standings,
    confirmed: { past: confirming.slice(0, -1), latest: confirming.at(-1) ?? { part: 0, whole: 0 } },
    joined: { past: joining.slice(0, -1), latest: joining.at(-1) ?? 0 },
  };
}

/** Whole fortnights that end with the last of these days, the first first. */
function fortnights(days: readonly string[]): string[][] {
  const all: string[][] = [];
  for (let end = days.length; end >= FORTNIGHT; end -= FORTNIGHT) all.unshift(days.slice(end - FORTNIGHT, end));
  return all;
}

import type { Context } from '../context';

/** How many read a newsletter, for showing on forms: rounded down to tens, undefined below the floor. */
export async function readersShown(ctx: Pick<Context, 'db'>, newsletterId: string, from: number): Promise<number | undefined> {
  if (from === 0) return undefined;
  const row = await ctx.db
    .selectFrom('people_totals')
    .select('reading')
    .where('newsletter_id', '=', newsletterId)
    .where('kind', '=', 'all')
    .executeTakeFirst();
  const readers = row?.reading ?? 0;
  const shown = readers < 100 ? readers : Math.floor(readers / 10) * 10;
  return shown >= from ? shown : undefined;
}

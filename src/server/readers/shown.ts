import { sql } from 'kysely';
import type { Context } from '../context';

const known = new Map<string, { readers: number; until: number }>();
const KEEP_MS = 600_000;

/** How many read a newsletter, for showing on forms: counted every ten minutes at the most, rounded down to tens, undefined below the floor. */
export async function readersShown(ctx: Pick<Context, 'db'>, newsletterId: string, from: number): Promise<number | undefined> {
  if (from === 0) return undefined;
  let entry = known.get(newsletterId);
  if (!entry || entry.until < Date.now()) {
    const row = await ctx.db
      .selectFrom('memberships as m')
      .innerJoin('readers as r', 'r.id', 'm.reader_id')
      .select(sql<number>`count(distinct m.reader_id)::int`.as('readers'))
      .where('r.trial_id', 'is', null)
      .where('m.newsletter_id', '=', newsletterId)
      .where('state', '=', 'reading')
      .executeTakeFirst();
    entry = { readers: row?.readers ?? 0, until: Date.now() + KEEP_MS };
    if (known.size > 10_000) known.clear();
    known.set(newsletterId, entry);
  }
  const shown = entry.readers < 100 ? entry.readers : Math.floor(entry.readers / 10) * 10;
  return shown >= from ? shown : undefined;
}

import { sql } from 'kysely';
import type { Audience } from '@/core/sending/audience';
import type { Context, Newsletter } from '../context';
import { audienceSql, readyAudience } from './audience';

/** Whom a letter would go to now, and whom of those it names it would not. */
export type Reach = {
  /** The lists it is for, by their internal names; empty where it is for something else too. */
  lists: string[];
  will: number;
  /** Read, but their address does not take mail. */
  unreachable: number;
  /** Have asked and not confirmed; null where the letter is for more than one list, since then nobody counts them. */
  waiting: number | null;
};

/** Counted as the letter's start will count (`standing = 'reading'`, each once): of a single list from its kept totals, else by asking. */
export async function reachOf(ctx: Context, newsletter: Newsletter, audience: Audience): Promise<Reach> {
  const ids = audience.to.flatMap((part) => (part.kind === 'list' ? [part.id] : []));
  const onlyLists = ids.length === audience.to.length && audience.without.length === 0;
  const named = ids.length
    ? await ctx.db
        .selectFrom('lists')
        .select('name')
        .where('newsletter_id', '=', newsletter.id)
        .where('id', 'in', ids)
        .orderBy('position')
        .execute()
    : [];
  const lists = onlyLists ? named.map((list) => list.name) : [];
  if (onlyLists && ids.length === 1) {
    const row = await ctx.db
      .selectFrom('people_totals')
      .select(['reading as will', 'unreachable', 'waiting'])
      .where('newsletter_id', '=', newsletter.id)
      .where('kind', '=', 'list')
      .where('key', '=', ids[0]!)
      .executeTakeFirst();
    return { lists, ...(row ?? { will: 0, unreachable: 0, waiting: 0 }) };
  }
  const ready = await readyAudience(ctx, ctx.db, newsletter, audience);
  const { rows } = await sql<{ will: number; unreachable: number }>`
    select count(*) filter (where r.standing = 'reading')::int as will, count(*) filter (where r.standing = 'unreachable')::int as unreachable
    from (${audienceSql(newsletter.id, ready)}) audience (id) join readers r on r.id = audience.id
    where r.newsletter_id = ${newsletter.id}`.execute(ctx.db);
  return { lists, ...rows[0]!, waiting: null };
}

import { sql } from 'kysely';
import { warmthOf } from '@/core/readers/warmth';
import type { Context } from '../context';

const AT_ONCE = 5_000;

/**
 * Works out anew how warm those readers of a newsletter are of whom something happened since that was last done, some thousand at a time; may end anywhere and
 * be called again. Answers how many it looked at.
 */
export async function warmReaders(ctx: Context, newsletterId: string, atOnce = AT_ONCE): Promise<number> {
  const now = ctx.clock.now();
  // First, so that one that fails is not asked for again at once, before all others.
  await sql`insert into warmings (newsletter_id, at) select id, ${now} from newsletters where id = ${newsletterId}
    on conflict (newsletter_id) do update set at = excluded.at`.execute(ctx.db);
  let [looked, after] = [0, null as { id: string; came: string } | null];
  for (;;) {
    const { rows } = await sql<{
      id: string;
      came: string;
      got: number;
      read: string;
      clicked: string;
      hidden: string;
      sent: Date | null;
      warmth: number;
    }>`
      select id, created_at::text as came, letters_got as got, recent_read as read, recent_clicked as clicked, recent_hidden as hidden, last_sent_at as sent, warmth from readers
      where newsletter_id = ${newsletterId} and ${after ? sql`(created_at, id) < (${after.came}::timestamptz, ${after.id}::uuid)` : sql`true`} and letters_got > 0
        and (warmth_at is null or warmth_at > ${now} or last_sent_at >= warmth_at or last_read_at >= warmth_at or last_clicked_at >= warmth_at or (warmth >= 0 and last_sent_at < ${new Date(now.getTime() - 180 * 86_400_000)}))
      order by created_at desc, id desc limit ${atOnce}`.execute(ctx.db);
    if (rows.length === 0) break;
    const warm = rows.map(
      (row) =>
        warmthOf(
          {
            got: row.got,
            read: BigInt(row.read),
            clicked: BigInt(row.clicked),
            hidden: BigInt(row.hidden),
            lastSentAt: row.sent,
          },
          now,
        ) ?? -1,
    );
    // Locked in the order of all who change readers.
    await ctx.db.transaction().execute(async (trx) => {
      await sql`select 1 from readers where id = any(${rows.map((row) => row.id)}::uuid[]) order by id for update`.execute(trx);
      await sql`
        with old as materialized (select id, warmth, standing from readers where id = any(${rows.map((row) => row.id)}::uuid[])),
        made as (
          update readers r set warmth = n.warmth, warmth_at = ${now} from unnest(${rows.map((row) => row.id)}::uuid[], ${warm}::int[]) as n(id, warmth)
          where r.id = n.id returning r.id, r.warmth, r.standing),
        moved as (
          select degree(o.warmth) as key, o.standing, -1 as n from old o join made m using (id) where degree(o.warmth) <> degree(m.warmth)
          union all select degree(m.warmth), m.standing, 1 from old o join made m using (id) where degree(o.warmth) <> degree(m.warmth))
        select count(people_change(${newsletterId}::uuid, 'warmth', key, standing, n)) from (select key, standing, sum(n)::int as n from moved group by 1, 2) s`.execute(
        trx,
      );
    });
    looked += rows.length;
    after = rows.at(-1)!;
  }
  return looked;
}

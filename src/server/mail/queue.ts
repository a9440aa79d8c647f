import { sql } from 'kysely';
import type { Context } from '../context';
import { restingFor, restingUntil, routeName } from './routes';

/** Upper ends of the ages in minutes; the last column is everything older. */
export const AGES = [5, 10, 20, 40, 80, 160, 320] as const;
const MOST_ROUTES = 40;
const MOST_COUNTED = 5_000;

export type QueueRow = {
  route: string;
  /** Mails that are due, by how long they have been; of each letter at most the oldest five thousand are counted. */
  waiting: number[];
  lanes: number;
  resting: { until: Date; reason: string | null } | null;
};
export type AsideMail = { id: string; kind: string; to: string; reason: string | null; at: Date };
export type QueueView = {
  rows: QueueRow[];
  /** Domains whose mail hosts cannot be found, with how much waits for them. */
  lost: { domain: string; waiting: number; said: string | null }[];
  /** Mails that were set aside since something of ours failed with them. */
  aside: AsideMail[];
};

/**
 * What waits, route by route and by age: one glance shows whether a provider, a letter or we ourselves hold it up. For one newsletter, or for the
 * whole installation.
 */
export async function queueOf(ctx: Pick<Context, 'db' | 'clock'>, newsletterId: string | null = null): Promise<QueueView> {
  const now = ctx.clock.now();
  const bucket = (due: ReturnType<typeof sql.ref>) =>
    sql`width_bucket(extract(epoch from ${now}::timestamptz - ${due})::float8 / 60, ${[...AGES]}::float8[])`;
  const mine = (column: string) => (newsletterId ? sql`${sql.ref(column)} = ${newsletterId}::uuid` : sql`true`);
  const { rows } = await sql<{
    id: number;
    name: string;
    lanes: number;
    paused_until: Date | null;
    paused_for: string | null;
    bucket: number;
    n: number;
  }>`
    with waiting as (
      select j.route_id, d.bucket, d.n from (select * from route_jobs j where j.next_due <= ${now} and ${mine('j.newsletter_id')} order by j.next_due limit 200) j
      cross join lateral (select ${bucket(sql.ref('q.due_at'))} as bucket, count(*)::int as n from
        (select due_at from deliveries where letter_id = j.letter_id and sent_on = j.sent_on and route_id = j.route_id and state = 'queued' and due_at <= ${now}
         order by due_at limit ${MOST_COUNTED}) q group by 1) d
      union all
      select m.route_id, ${bucket(sql.ref('m.due_at'))}, count(*)::int from mails m where m.state = 'queued' and m.route_id is not null and m.due_at <= ${now} and ${mine('m.newsletter_id')} group by 1, 2)
    select r.id, ${routeName} as name, floor(r.lanes)::int as lanes, ${restingUntil} as paused_until, ${restingFor} as paused_for, w.bucket, sum(w.n)::int as n
    from waiting w join routes r on r.id = w.route_id group by r.id, w.bucket order by r.id`.execute(ctx.db);
  const byRoute = new Map<number, QueueRow>();
  for (const row of rows) {
    const entry = byRoute.get(row.id) ?? {
      route: row.name,
      waiting: Array.from({ length: AGES.length + 1 }, () => 0),
      lanes: row.lanes,
      resting: row.paused_until && row.paused_until > now ? { until: row.paused_until, reason: row.paused_for } : null,
    };
    entry.waiting[Math.min(AGES.length, Math.max(0, row.bucket))]! += row.n;
    byRoute.set(row.id, entry);
  }
  const oldest = (row: QueueRow) => row.waiting.findLastIndex((n) => n > 0);
  const [lost, aside] = await Promise.all([
    sql<QueueView['lost'][number]>`
      select name as domain, wanted as waiting, said from mail_domains where wanted > 0 and state in ('gone', 'unanswered') order by wanted desc limit 20`.execute(
      ctx.db,
    ),
    sql<AsideMail>`
      select id, kind, to_address as to, response as reason, created_at as at from mails where state = 'aside' and ${mine('newsletter_id')} order by created_at desc limit 20`.execute(
      ctx.db,
    ),
  ]);
  return {
    rows: [...byRoute.values()].sort((a, b) => oldest(b) - oldest(a) || sum(b.waiting) - sum(a.waiting)).slice(0, MOST_ROUTES),
    lost: lost.rows,
    aside: aside.rows,
  };
}

const sum = (all: number[]) => all.reduce((total, n) => total + n, 0);

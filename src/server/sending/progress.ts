import { sql } from 'kysely';
import { type Progress, timeLeft, type WayProgress } from '@/core/sending/result';
import type { Context, Newsletter } from '../context';
import { routeName } from '../mail/routes';

/* How a letter that is on its way gets on. */

/** A letter's progress is noted so often, and remembered so long. */
const EVERY_MS = 10_000;
const REMEMBERED_MS = 3_600_000;

/** Notes how many copies of each letter under way are done with, once in ten seconds; what is over, or would be in the future since the clock was set back, is forgotten. */
export async function noteProgress(ctx: Context): Promise<void> {
  const now = ctx.clock.now();
  const { rows } = await sql<{ id: string }>`
    select id from letters l where state = 'sending' and not exists (
      select 1 from letter_progress p where p.letter_id = l.id and p.at > ${new Date(now.getTime() - EVERY_MS)} and p.at <= ${now}::timestamptz)`.execute(
    ctx.db,
  );
  for (const { id } of rows)
    await sql`
      insert into letter_progress (letter_id, at, done)
      select ${id}::uuid, ${now}::timestamptz, coalesce((select delivered + bounced + refused + given_up + cancelled from letter_counts where letter_id = ${id}::uuid), 0)
      on conflict do nothing`.execute(ctx.db);
  if (rows.length === 0) return;
  await sql`delete from letter_progress where at < ${new Date(now.getTime() - REMEMBERED_MS)} or at > ${new Date(now.getTime() + EVERY_MS)}`.execute(
    ctx.db,
  );
}

/** Ways that are shown by themselves. */
const MOST_WAYS = 12;

/** How a letter under way gets on: by its ways, what was put off, and how long it still takes. */
export async function progressOf(ctx: Context, newsletter: Newsletter, id: string): Promise<Progress | null> {
  const letter = await ctx.db
    .selectFrom('letters')
    .select(['id', 'sent_on', 'last_due_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!letter?.sent_on) return null;
  const now = ctx.clock.now();
  const [{ rows: ways }, { rows: deferred }, samples] = await Promise.all([
    sql<Omit<WayProgress, 'deferred'> & { domains: number[] }>`
      select coalesce(w.way, 'all others') as way, array_agg(w.domain_id) as domains, sum(w.recipients)::int as recipients, sum(w.delivered)::int as delivered,
        sum(w.failed)::int as failed, sum(greatest(0, w.recipients - w.delivered - w.failed - w.cancelled))::int as waiting
      from (select c.domain_id, c.recipients, c.delivered, c.bounced + c.refused + c.given_up as failed, c.cancelled,
              case when c.domain_id <> 0 then coalesce((select ${routeName} from routes r where r.id = m.route_id), m.name) end as way
            from letter_domain_counts c left join mail_domains m on m.id = c.domain_id where c.letter_id = ${id}) w
      group by w.way order by (w.way is null), sum(w.recipients) desc`.execute(ctx.db),
    sql<{ domain_id: number; n: number }>`
      select domain_id, count(*)::int as n from deliveries where letter_id = ${id} and sent_on = ${letter.sent_on}::date and state = 'queued' and tried_at is not null
      group by 1`.execute(ctx.db),
    ctx.db.selectFrom('letter_progress').select(['at', 'done']).where('letter_id', '=', id).orderBy('at').execute(),
  ]);
  const waiting = ways.reduce((sum, way) => sum + way.waiting, 0);
  const put = new Map(deferred.map((row) => [row.domain_id, row.n]));
  const all = deferred.reduce((sum, row) => sum + row.n, 0);
  const shown = ways.map(({ domains, ...way }) => ({
    ...way,
    deferred: domains.reduce((sum, one) => sum + (put.get(one) ?? 0), 0),
  }));
  // What is put off at domains that are counted together stands with them.
  const named = shown.reduce((sum, way) => sum + way.deferred, 0);
  const others = shown.find((way) => way.way === 'all others');
  if (others) others.deferred += all - named;
  const few = shown.slice(0, MOST_WAYS);
  const rest = shown.slice(MOST_WAYS);
  return {
    ways: rest.length
      ? [
          ...few,
          rest.reduce(
            (sum, way) => ({
              way: sum.way,
              recipients: sum.recipients + way.recipients,
              delivered: sum.delivered + way.delivered,
              failed: sum.failed + way.failed,
              waiting: sum.waiting + way.waiting,
              deferred: sum.deferred + way.deferred,
            }),
            { way: `${rest.length} more`, recipients: 0, delivered: 0, failed: 0, waiting: 0, deferred: 0 },
          ),
        ]
      : few,
    deferred: all,
    left: timeLeft(samples, waiting, letter.last_due_at, now),
    lastDue: letter.last_due_at && letter.last_due_at > now ? letter.last_due_at : null,
  };
}

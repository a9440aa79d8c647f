import { sql } from 'kysely';
import type { Context } from '../context';
import { endOldTrials } from '../forms/trials';
import { forgetOldLimits } from '../limits';
import { finishLetters } from '../sending/letters';
import type { JobName } from './jobs';

/** Puts a job on the queue. The key makes a second one replace the first while that waits; one locked by a dead worker does not stand in its way. */
export type Enqueue = (name: JobName, payload: object, options: { jobKey: string }) => Promise<unknown>;

/** A worker that has not been seen for this many seconds has gone, and its claims are free. By the database's own time. */
const SILENT_SECONDS = 10;

/**
 * Looks at the tables for what is due by the context's clock and enqueues it. Called every second and whenever the clock jumps;
 * calling it more often, or from several workers, does no harm.
 */
export async function tick(ctx: Context, workerId: string, enqueue: Enqueue, silentSeconds = SILENT_SECONDS): Promise<void> {
  await beat(ctx, workerId);
  await releaseClaims(ctx, silentSeconds);
  const now = ctx.clock.now();
  const due = async (name: JobName, ids: { id: string }[]) => {
    for (const { id } of ids) await enqueue(name, { id }, { jobKey: `${name}:${id}` });
  };
  await due(
    'start-letter',
    await ctx.db.selectFrom('letters').select('id').where('state', '=', 'due').where('due_at', '<=', now).limit(100).execute(),
  );
  const routes = await ctx.db
    .selectFrom('deliveries')
    .select('route')
    .distinct()
    .where('state', '=', 'queued')
    .where('due_at', '<=', now)
    .execute();
  for (const { route } of routes) await enqueue('deliver', { route }, { jobKey: `deliver:${route}` });
  const mail = await ctx.db
    .selectFrom('outbox')
    .select('id')
    .where('state', '=', 'queued')
    .where('due_at', '<=', now)
    .limit(1)
    .execute();
  if (mail.length) await enqueue('outbox', {}, { jobKey: 'outbox' });
  const wishes = await ctx.db
    .selectFrom('confirmations')
    .select('sent_at')
    .where('used_at', 'is', null)
    .where('reminded_at', 'is', null)
    .where('sent_at', '<=', new Date(now.getTime() - 3 * 86_400_000))
    .limit(1)
    .execute();
  if (wishes.length) await enqueue('remind', {}, { jobKey: 'remind' });
  await due(
    'poll-feed',
    await ctx.db
      .selectFrom('auto_sends')
      .select('id')
      .where('switched_on_at', 'is not', null)
      .where('next_poll_at', '<=', now)
      .limit(500)
      .execute(),
  );
  await due(
    'check-domain',
    await ctx.db.selectFrom('domains').select('id').where('next_check_at', '<=', now).limit(100).execute(),
  );
  await due(
    'owner-summary',
    await ctx.db.selectFrom('newsletters').select('id').where('alerts_due_at', '<=', now).limit(500).execute(),
  );
  await finishLetters(ctx);
}

/** Says that this worker lives. */
async function beat(ctx: Context, workerId: string): Promise<void> {
  await ctx.db
    .insertInto('workers')
    .values({ id: workerId })
    .onConflict((c) => c.column('id').doUpdateSet({ seen_at: sql`now()` }))
    .execute();
}

/**
 * Gives back what a worker had claimed that has fallen silent. Not in the first seconds after the database itself came back: then
 * everybody has been silent, and a living worker still holds results to write.
 */
async function releaseClaims(ctx: Context, silentSeconds: number): Promise<void> {
  const silent = sql<Date>`now() - make_interval(secs => ${silentSeconds})`;
  const result = await ctx.db
    .updateTable('deliveries')
    .set({ state: 'queued', claimed_by: null })
    .where('state', '=', 'claimed')
    .where(sql<boolean>`pg_postmaster_start_time() < ${silent}`)
    .where(({ not, exists, selectFrom }) =>
      not(
        exists(
          selectFrom('workers as w')
            .select('w.id')
            .whereRef('w.id', '=', 'deliveries.claimed_by')
            .where('w.seen_at', '>', silent),
        ),
      ),
    )
    .executeTakeFirst();
  if (result.numUpdatedRows) ctx.log.warn({ letters: Number(result.numUpdatedRows) }, 'a worker fell silent; its letters go on');
}

/** What is done once an hour: old windows and workers forgotten, the next months' partitions made. */
export async function housekeeping(ctx: Context): Promise<void> {
  await forgetOldLimits(ctx);
  await endOldTrials(ctx);
  await ctx.db.deleteFrom('workers').where('seen_at', '<', sql<Date>`now() - interval '1 day'`).execute();
  const now = ctx.clock.now().getTime();
  for (const days of [0, 31])
    await sql`select ensure_month(${new Date(now + days * 86_400_000).toISOString().slice(0, 10)}::date)`.execute(ctx.db);
}

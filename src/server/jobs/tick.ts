import { sql } from 'kysely';
import type { Context } from '../context';
import { forgetOldLimits } from '../limits';
import { finishLetters } from '../sending/letters';
import type { JobName } from './jobs';

/** Puts a job on the queue. The key makes a second one replace the first; the queue name keeps two from running side by side. */
export type Enqueue = (name: JobName, payload: object, options: { jobKey: string; queueName: string }) => Promise<unknown>;

/** This worker process: its own name, and the name under which the queue locks jobs for it. */
export type Self = { id: string; pool: string | null };

/** A worker that has not been seen for this many seconds has gone, and its claims are free. By the database's own time. */
const SILENT_SECONDS = 10;

/**
 * Looks at the tables for what is due by the context's clock and enqueues it. Called every second and whenever the clock jumps;
 * calling it more often, or from several workers, does no harm.
 */
export async function tick(ctx: Context, self: Self, enqueue: Enqueue, silentSeconds = SILENT_SECONDS): Promise<void> {
  await beat(ctx, self);
  await releaseClaims(ctx, silentSeconds);
  const now = ctx.clock.now();
  const due = async (name: JobName, ids: { id: string }[]) => {
    for (const { id } of ids) await enqueue(name, { id }, { jobKey: `${name}:${id}`, queueName: `${name}:${id}` });
  };
  await due(
    'start-letter',
    await ctx.db.selectFrom('letters').select('id').where('state', '=', 'due').where('due_at', '<=', now).limit(100).execute(),
  );
  const providers = await ctx.db
    .selectFrom('deliveries')
    .select('provider')
    .distinct()
    .where('state', '=', 'queued')
    .where('due_at', '<=', now)
    .execute();
  for (const { provider } of providers)
    await enqueue('deliver', { provider }, { jobKey: `deliver:${provider}`, queueName: `deliver:${provider}` });
  const mail = await ctx.db
    .selectFrom('outbox')
    .select('id')
    .where('state', '=', 'queued')
    .where('due_at', '<=', now)
    .limit(1)
    .execute();
  if (mail.length) await enqueue('outbox', {}, { jobKey: 'outbox', queueName: 'outbox' });
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
  await finishLetters(ctx);
}

/** Says that this worker lives. */
async function beat(ctx: Context, { id, pool }: Self): Promise<void> {
  await ctx.db
    .insertInto('workers')
    .values({ id, pool })
    .onConflict((c) => c.column('id').doUpdateSet({ seen_at: sql`now()`, pool }))
    .execute();
}

/**
 * Gives back what a worker had claimed that has fallen silent, and unlocks its jobs, which the queue would keep for hours. Not in the first seconds after the database itself came back: then
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
  const gone = await ctx.db
    .deleteFrom('workers')
    .where('seen_at', '<', silent)
    .where(sql<boolean>`pg_postmaster_start_time() < ${silent}`)
    .returning('pool')
    .execute();
  const pools = gone.flatMap((worker) => worker.pool ?? []);
  if (pools.length) await sql`select graphile_worker.force_unlock_workers(${pools}::text[])`.execute(ctx.db);
  if (result.numUpdatedRows) ctx.log.warn({ letters: Number(result.numUpdatedRows) }, 'a worker fell silent; its letters go on');
}

/** What is done once an hour: old windows forgotten, the next months' partitions made. */
export async function housekeeping(ctx: Context): Promise<void> {
  await forgetOldLimits(ctx);
  const now = ctx.clock.now().getTime();
  for (const days of [0, 31])
    await sql`select ensure_month(${new Date(now + days * 86_400_000).toISOString().slice(0, 10)}::date)`.execute(ctx.db);
}

/*
 * worker: does what is due. It needs PostgreSQL; it reports to the log; any number of it may run.
 * Every second, and when the clock jumps, it looks into the tables for due work and queues it (jobs/tick.ts); graphile-worker
 * runs the jobs (jobs/jobs.ts). When the database goes away it waits and goes on by itself. When it is killed, what it had
 * claimed is given back after ten seconds, to be sent under the same Message-ID.
 */
import { Logger as GraphileLogger, run } from 'graphile-worker';
import { isAway } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { jobs } from '@/server/jobs/jobs';
import { housekeeping, tick } from '@/server/jobs/tick';
import { openRuntime } from '@/server/runtime';
import { onStop, start } from './lifecycle';

start(async () => {
  const ctx = await openRuntime('worker', undefined, 24);
  const workerId = newId();
  let stopping = false;
  const runner = await run({
    pgPool: ctx.pool,
    concurrency: 8,
    pollInterval: 500,
    noHandleSignals: true,
    taskList: jobs(ctx, workerId, () => stopping),
    logger: new GraphileLogger(() => (level, message) => {
      if (level === 'error') ctx.log.error(message);
      else if (level === 'warning') ctx.log.warn(message);
    }),
  });

  let ticking = false;
  let again = false;
  const look = async () => {
    if (ticking) {
      again = true;
      return;
    }
    ticking = true;
    try {
      await tick(ctx, workerId, (name, payload, options) => runner.addJob(name, payload, { ...options, maxAttempts: 3 }));
    } catch (error) {
      if (isAway(error)) ctx.log.warn('the database is away; work goes on when it is back');
      else ctx.log.error({ err: error }, 'looking for due work failed');
    }
    ticking = false;
    if (again && !stopping) {
      again = false;
      void look();
    }
  };
  const keep = () =>
    housekeeping(ctx).catch((error) => ctx.log.warn({ reason: error.message }, 'housekeeping failed; it comes round again'));
  await keep();
  const timers = [setInterval(look, 1_000), setInterval(keep, 3_600_000)];
  const unfollow = ctx.clock.onMoved(() => {
    void keep().then(look);
  });
  void look();
  ctx.log.info({ worker: workerId }, 'worker runs');

  onStop(ctx.log, async () => {
    stopping = true;
    for (const timer of timers) clearInterval(timer);
    unfollow();
    await runner.stop();
    await ctx.close();
  });
});

/*
 * worker: does what is due. It needs PostgreSQL; it reports to the log; any number of it may run.
 * Its post office (mail/post-office.ts) hands mail over: letters and single mails alike. Every second, and when the clock jumps, it looks into the
 * tables for other due work and queues it (jobs/tick.ts); graphile-worker runs the jobs (jobs/jobs.ts). Feeds are read beside all that
 * (autosend/feed-reader.ts). When the database goes away it waits and goes
 * on by itself. When it is killed, what it had claimed is given back after ten seconds, to be sent under the same Message-ID. Its sign of life has a
 * timer and a connection of its own, so that no amount of work makes it seem dead.
 */
import { Logger as GraphileLogger, run } from 'graphile-worker';
import { FeedReader } from '@/server/autosend/feed-reader';
import { askHubs } from '@/server/autosend/hubs';
import { mendLanes } from '@/server/autosend/rules';
import { connect, isAway } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { jobs } from '@/server/jobs/jobs';
import { postOffice, standBack } from '@/server/jobs/post-office';
import { beat, foldCounts, housekeeping, mendWaits, releaseClaims, tick } from '@/server/jobs/tick';
import { openRuntime } from '@/server/runtime';
import { onStop, start } from './lifecycle';

start(async () => {
  const ctx = await openRuntime('worker', undefined, 24, { prepares: true });
  standBack(ctx);
  const pulse = connect(ctx.config.databaseUrl, () => {}, 1);
  const workerId = newId();
  let stopping = false;
  const office = postOffice(ctx, workerId);
  const feeds = new FeedReader(ctx);
  const away = (what: string) => (error: unknown) => {
    if (isAway(error)) ctx.log.warn('the database is away; work goes on when it is back');
    else ctx.log.error({ err: error }, what);
  };
  const live = () =>
    beat({ db: pulse.db }, workerId, office.held())
      .then(() => releaseClaims({ ...ctx, db: pulse.db }))
      .catch(away('the sign of life failed'));
  await live();
  const runner = await run({
    pgPool: ctx.pool,
    concurrency: 4,
    pollInterval: 500,
    noHandleSignals: true,
    taskList: jobs(ctx),
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
    void feeds.look().catch(away('looking for feeds failed'));
    void askHubs(ctx).catch(away('hubs could not be asked'));
    await tick(ctx, (name, payload, options) => runner.addJob(name, payload, { ...options, maxAttempts: 3 })).catch(
      away('looking for due work failed'),
    );
    ticking = false;
    if (again && !stopping) {
      again = false;
      void look();
    }
  };
  const keep = () =>
    housekeeping(ctx).catch((error) => ctx.log.warn({ reason: error.message }, 'housekeeping failed; it comes round again'));
  await keep();
  const fold = () => foldCounts(ctx).catch(away('counts could not be folded'));
  const timers = [setInterval(look, 1_000), setInterval(keep, 3_600_000), setInterval(live, 2_000), setInterval(fold, 5_000)];
  const unfollow = ctx.clock.onMoved(() => {
    void keep()
      .then(() => mendWaits(ctx))
      .then(() => mendLanes(ctx))
      .catch(away('waits could not be mended'))
      .then(look)
      .then(() => office.look());
  });
  void look();
  office.start();
  ctx.log.info({ worker: workerId }, 'worker runs');

  onStop(ctx.log, async () => {
    stopping = true;
    for (const timer of timers) clearInterval(timer);
    unfollow();
    await office.stop();
    await feeds.stop();
    await runner.stop();
    await pulse.db.destroy();
    await ctx.close();
  });
});

import { sql } from 'kysely';
import { LONGEST_WAIT_MS } from '@/core/sending/outcome';
import { LONGEST_PAUSE_MS } from '@/core/sending/way';
import { rulesDue } from '../autosend/runs';
import type { Context } from '../context';
import { putAwayEvents } from '../delivery/old-events';
import { reportsDue } from '../delivery/read-reports';
import { forgetOldReports } from '../delivery/reports';
import { forgetHeld } from '../forms/held';
import { endOldTrials } from '../forms/trials';
import { watchesDue } from '../growth/watch';
import { weeksDue } from '../growth/week';
import { forgetOldActs } from '../keeping/bulk';
import { tellAsked } from '../keeping/cold';
import { forgetOldMoves } from '../keeping/own';
import { forgetOldLimits } from '../limits';
import { routesDue } from '../sending/copies';
import { finishLetters } from '../sending/letters';
import { forgiveOld } from '../sending/mailboxes';
import { noteProgress } from '../sending/progress';
import { rampsDue } from '../sending/ramp-days';
import { figuresDue } from '../sending/results';
import { giveUpStale } from '../sending/routing';
import { restsDue, testsDue } from '../sending/versions';
import { quietenClosing } from '../site/removing';
import { forgetOldExports } from '../transfer/exports';
import { forgetOldImports } from '../transfer/imports';
import { forgetOldFiles } from '../transfer/kept';
import { forgetOldRestores } from '../transfer/whole-in';
import type { JobName } from './jobs';

/** The warmth of a newsletter's readers, and the sizes of its segments, are worked out anew once an hour. */
const WARM_EVERY_MS = 3_600_000;

/** Puts a job on the queue. The key makes a second one replace the first while that waits; one locked by a dead worker does not stand in its way. */
export type Enqueue = (name: JobName, payload: object, options: { jobKey: string }) => Promise<unknown>;

/**
 * Looks at the tables for what is due by the context's clock and enqueues it. Called every second and whenever the clock jumps;
 * calling it more often, or from several workers, does no harm. Mail is not its affair: the post office looks for that itself.
 */
export async function tick(ctx: Context, enqueue: Enqueue): Promise<void> {
  const now = ctx.clock.now();
  const due = async (name: JobName, ids: { id: string }[]) => {
    for (const { id } of ids) await enqueue(name, { id }, { jobKey: `${name}:${id}` });
  };
  await due(
    'start-letter',
    await ctx.db
      .selectFrom('letters as l')
      .innerJoin('newsletters as n', 'n.id', 'l.newsletter_id')
      .select('l.id')
      .where('l.state', 'in', ['scheduled', 'held', 'starting'])
      .where('l.due_at', '<=', now)
      .where('n.closing_at', 'is', null)
      .orderBy('l.due_at')
      .limit(100)
      .execute(),
  );
  const wishes = await ctx.db
    .selectFrom('confirmations as c')
    .innerJoin('newsletters as n', 'n.id', 'c.newsletter_id')
    .select('c.sent_at')
    .where('c.used_at', 'is', null)
    .where('c.reminded_at', 'is', null)
    .where('n.closing_at', 'is', null)
    .where('c.sent_at', '<=', new Date(now.getTime() - 3 * 86_400_000))
    .limit(1)
    .execute();
  if (wishes.length) await enqueue('remind', {}, { jobKey: 'remind' });
  await due('run-rule', await rulesDue(ctx));
  await due(
    'check-domain',
    await ctx.db.selectFrom('domains').select('id').where('next_check_at', '<=', now).limit(100).execute(),
  );
  await due(
    'owner-summary',
    await ctx.db.selectFrom('newsletters').select('id').where('alerts_due_at', '<=', now).limit(500).execute(),
  );
  await due(
    'erase-newsletter',
    await ctx.db
      .selectFrom('newsletters')
      .select('id')
      .where((eb) => eb.or([eb('removed_at', 'is not', null), eb('closing_at', '<=', now)]))
      .limit(10)
      .execute(),
  );
  await due(
    'warm-readers',
    await ctx.db
      .selectFrom('newsletters as n')
      .leftJoin('warmings as w', 'w.newsletter_id', 'n.id')
      .select('n.id')
      .where('n.removed_at', 'is', null)
      .where('n.coming', '=', false)
      // One that was done in what is the future now is done anew: the clock went backwards.
      .where((eb) =>
        eb.or([eb('w.at', 'is', null), eb('w.at', '<=', new Date(now.getTime() - WARM_EVERY_MS)), eb('w.at', '>', now)]),
      )
      .orderBy(sql`w.at nulls first`)
      .limit(20)
      .execute(),
  );
  await due(
    'bulk-act',
    await ctx.db
      .selectFrom('bulk_acts')
      .innerJoin('newsletters as n', 'n.id', 'newsletter_id')
      .select('bulk_acts.id')
      .where('state', 'in', ['waiting', 'working', 'undoing'])
      .where('n.removed_at', 'is', null)
      .where('n.closing_at', 'is', null)
      .orderBy('began_at')
      .limit(100)
      .execute(),
  );
  await due(
    'import',
    await ctx.db
      .selectFrom('imports')
      .innerJoin('newsletters as n', 'n.id', 'newsletter_id')
      .select('imports.id')
      .where('state', 'in', ['looking', 'bringing', 'undoing'])
      .where('n.removed_at', 'is', null)
      .where('n.closing_at', 'is', null)
      .orderBy('began_at')
      .limit(100)
      .execute(),
  );
  await due(
    'export',
    await ctx.db
      .selectFrom('exports')
      .innerJoin('newsletters as n', 'n.id', 'newsletter_id')
      .select('exports.id')
      .where('state', 'in', ['waiting', 'working'])
      .where('n.removed_at', 'is', null)
      .orderBy('began_at')
      .limit(100)
      .execute(),
  );
  await due(
    'restore',
    await ctx.db.selectFrom('restores').select('id').where('state', '=', 'bringing').orderBy('began_at').limit(20).execute(),
  );
  await quietenClosing(ctx);
  await giveUpStale(ctx);
  await finishLetters(ctx);
  await due('decide-test', await testsDue(ctx));
  await due('release-rest', await restsDue(ctx));
  await due('letter-figures', await figuresDue(ctx));
  await due('watch', await watchesDue(ctx));
  await due('count-ramp', await rampsDue(ctx));
  await due('week-summary', await weeksDue(ctx));
  await due('read-report', await reportsDue(ctx));
  await noteProgress(ctx);
}

/** Folds appended counts into sums, one worker at a time, and keeps routes' due times right, whatever two transactions did to them at once. */
export async function foldCounts(ctx: Context): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    const { rows } = await sql<{ mine: boolean }>`select pg_try_advisory_xact_lock(hashtext('fold')) as mine`.execute(trx);
    if (!rows[0]?.mine) return;
    await sql`select fold_letter(), fold_people(), fold_source(), fold_day(), fold_reason(), fold_list()`.execute(trx);
    await sql`
      update routes r set due_at = j.due from (select route_id, min(next_due) as due from route_jobs where not resting group by 1) j
      where r.id = j.route_id and (r.due_at is null or r.due_at > j.due)`.execute(trx);
  });
}

/** Says that a worker lives, and which lanes it holds, should the database have forgotten them. */
export async function beat(ctx: Pick<Context, 'db'>, workerId: string, held: Map<number, number> = new Map()): Promise<void> {
  const { rows } = await sql<{ fresh: boolean }>`
    insert into workers (id) values (${workerId}::uuid) on conflict (id) do update set seen_at = now() returning xmax = 0 as fresh`.execute(
    ctx.db,
  );
  if (!rows[0]?.fresh || held.size === 0) return;
  await sql`
    insert into lanes (route_id, worker_id, held) select id, ${workerId}::uuid, n from unnest(${[...held.keys()]}::int[], ${[...held.values()]}::int[]) as t(id, n)
    where exists (select 1 from routes r where r.id = t.id) on conflict do nothing`.execute(ctx.db);
}

/** A worker that has not been seen for this many seconds has gone, and its claims and lanes are free. By the database's own time. */
const SILENT_SECONDS = 10;

/**
 * Gives back what a worker had claimed that has fallen silent. Not in the first seconds after the database itself came back: then
 * everybody has been silent, and a living worker still holds results to write.
 */
export async function releaseClaims(ctx: Context, silentSeconds = SILENT_SECONDS): Promise<void> {
  const silent = sql<Date>`now() - make_interval(secs => ${silentSeconds})`;
  await ctx.db.transaction().execute(async (trx) => {
    const { rows: gone } = await sql<{ id: string }>`
      delete from workers where seen_at <= ${silent} and pg_postmaster_start_time() < ${silent} returning id`.execute(trx);
    const orphans = sql`claimed_by is not null and not exists (select 1 from workers w where w.id = claimed_by) and pg_postmaster_start_time() < ${silent}`;
    // Each letter of theirs stands in its routes' queues again.
    const { rows } = await sql<{ letters: number }>`
      with back as (update deliveries set state = 'queued', claimed_by = null where state = 'claimed' and ${orphans} returning letter_id, newsletter_id, route_id, sent_on, due_at),
      jobs as (insert into route_jobs (route_id, letter_id, newsletter_id, sent_on, next_due, resting)
        select route_id, letter_id, newsletter_id, sent_on, min(due_at), exists (select 1 from letters l where l.id = letter_id and l.state = 'paused') from back where route_id is not null group by 1, 2, 3, 4 order by 1, 2
        on conflict (route_id, letter_id) do update set next_due = least(route_jobs.next_due, excluded.next_due))
      select count(*)::int as letters from back`.execute(trx);
    const mails = await sql`update mails set state = 'queued', claimed_by = null where state = 'claimed' and ${orphans}`.execute(
      trx,
    );
    if (gone.length || rows[0]?.letters || mails.numAffectedRows)
      ctx.log.warn(
        { workers: gone.length, letters: rows[0]?.letters, mails: Number(mails.numAffectedRows ?? 0) },
        'a worker fell silent; its mail goes on',
      );
  });
}

/** After the clock went backwards: what was to wait for minutes or hours by the old time does not wait for days by the new. */
export async function mendWaits(ctx: Context): Promise<void> {
  const now = ctx.clock.now();
  const later = (ms: number) => new Date(now.getTime() + ms + 60_000);
  await sql`update routes set paused_until = null where paused_until > ${later(LONGEST_PAUSE_MS + 3_600_000)}`.execute(ctx.db);
  await sql`update routes set filled_until = null where filled_until > ${later(3_600_000)}`.execute(ctx.db);
  await sql`update mails set due_at = ${now} where state = 'queued' and due_at > ${later(LONGEST_WAIT_MS)}`.execute(ctx.db);
  await sql`update feeds set next_poll_at = ${now} where next_poll_at > ${later(86_400_000)}`.execute(ctx.db);
  await sql`update mail_domains set look_at = ${now} where (wanted > 0 or state <> 'fine') and look_at > ${later(86_400_000)}`.execute(
    ctx.db,
  );
  await sql`
    update deliveries d set due_at = ${now} from route_jobs j
    where d.letter_id = j.letter_id and d.sent_on = j.sent_on and d.route_id = j.route_id and d.state = 'queued' and d.tried_at is not null and d.due_at > ${later(LONGEST_WAIT_MS)}`.execute(
    ctx.db,
  );
  const { rows } = await sql<{ route_id: number }>`
    update route_jobs j set next_due = d.due from (
      select j.route_id, j.letter_id, (select min(due_at) from deliveries d where d.letter_id = j.letter_id and d.sent_on = j.sent_on and d.route_id = j.route_id and d.state = 'queued') as due
      from route_jobs j where j.next_due > ${now}) d
    where d.route_id = j.route_id and d.letter_id = j.letter_id and d.due is not null and d.due < j.next_due returning j.route_id`.execute(
    ctx.db,
  );
  await routesDue(
    ctx.db,
    rows.map((row) => row.route_id),
  );
}

/** What is done once an hour: old windows and trials forgotten, the next months' partitions made, totals held against the rows once a night. */
export async function housekeeping(ctx: Context): Promise<void> {
  const now = ctx.clock.now();
  for (const month of [-1, 0, 1]) {
    const first = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + month, 1));
    await sql`select ensure_month(${first.toISOString().slice(0, 10)}::date)`.execute(ctx.db);
  }
  await forgetOldLimits(ctx);
  await endOldTrials(ctx);
  await forgiveOld(ctx);
  await forgetHeld(ctx);
  await forgetOldActs(ctx);
  await tellAsked(ctx);
  await forgetOldMoves(ctx);
  await forgetOldReports(ctx);
  // A disk that is full stops nothing else.
  await putAwayEvents(ctx).catch((error) => ctx.log.error({ err: error }, 'old events could not be put away'));
  await forgetOldImports(ctx);
  await forgetOldExports(ctx);
  await forgetOldFiles(ctx);
  await forgetOldRestores(ctx);
  await sql`delete from relay_hours where hour < ${new Date(now.getTime() - 3 * 86_400_000)}`.execute(ctx.db);
  const due = await ctx.db
    .selectFrom('newsletters')
    .select(['id', 'name'])
    .where('coming', '=', false)
    .where((eb) => eb.or([eb('recounted_at', 'is', null), eb('recounted_at', '<', new Date(now.getTime() - 86_400_000))]))
    .limit(50)
    .execute();
  for (const newsletter of due) await recount(ctx, newsletter);
}

/** For so long after it began a letter's counts are held against its copies: nearly everything happens in its first days. */
const RECOUNT_LETTERS_MS = 8 * 86_400_000;

/** Holds a newsletter's totals and its latest letters' counts against a count of the rows and mends what differs, which is said in the log. Returns how many figures differed. */
export async function recount(ctx: Context, newsletter: { id: string; name: string }): Promise<number> {
  const since = new Date(ctx.clock.now().getTime() - RECOUNT_LETTERS_MS).toISOString().slice(0, 10);
  const { rows } = await sql<{ people: number; sources: number; letters: number; reasons: number; lists: number }>`
    select recount_people(${newsletter.id}::uuid) as people, recount_sources(${newsletter.id}::uuid) as sources, recount_lists(${newsletter.id}::uuid) as lists,
      recount_letters(${newsletter.id}::uuid, ${since}::date) as letters,
      recount_reasons(${newsletter.id}::uuid, (select (${ctx.clock.now()}::timestamptz at time zone time_zone)::date from newsletters where id = ${newsletter.id}::uuid)) as reasons`.execute(
    ctx.db,
  );
  await ctx.db.updateTable('newsletters').set({ recounted_at: ctx.clock.now() }).where('id', '=', newsletter.id).execute();
  const differing = Object.values(rows[0] ?? {}).reduce((sum, n) => sum + n, 0);
  if (differing)
    ctx.log.error({ newsletter: newsletter.id, figures: differing }, 'totals differed from the rows and were mended');
  return differing;
}

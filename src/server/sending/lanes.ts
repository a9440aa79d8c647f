import { sql } from 'kysely';
import { LANES, type Lane } from '@/core/autosend/lanes';
import { laneRhythm, type RuleSettings } from '@/core/autosend/rule';
import type { Context } from '../context';
import type { Db } from '../db/connection';

/* How far each rhythm of a rule has come (core/autosend/lanes): a part of starting its letters. What its runs hold is `autosend/runs`. */

/** Lets the lanes run that go by posts and not by hours, where enough of them are ready, or where somebody has come who may need some. */
export async function armLanes(ctx: Context, trx: Db, rule: { id: string; settings: RuleSettings }): Promise<void> {
  for (const lane of LANES) {
    const rhythm = laneRhythm(rule.settings, lane);
    if (!rhythm || 'hour' in rhythm) continue;
    await sql`
      update rule_lanes l set next_at = ${ctx.clock.now()} where l.auto_send_id = ${rule.id}::uuid and l.lane = ${lane}
        and ((select count(*) from rule_posts p join feed_items i on i.id = p.item_id where p.auto_send_id = l.auto_send_id and p.state = 'ready' and p.place > l.upto and i.gone_at is null) >= ${rhythm.kind === 'gathered' ? rhythm.posts : 1}
          or exists (select 1 from reader_rhythms x where x.auto_send_id = l.auto_send_id and x.lane = l.lane and x.since is not null and x.joins is null))`.execute(
      trx,
    );
  }
}

/** Once a letter's recipients are fixed, in the same transaction: its lane has come so far, and whoever joined it is one of the lane's people like any other. */
export async function settleLane(
  ctx: Context,
  trx: Db,
  letter: { id: string; run_id: string | null; joining: boolean },
): Promise<void> {
  if (!letter.run_id) return;
  const run = await trx.selectFrom('rule_runs').selectAll().where('id', '=', letter.run_id).executeTakeFirst();
  if (!run) return;
  if (letter.joining) {
    // They have had all up to there, and the lane may not have come so far yet: they are looked at once more.
    await trx
      .updateTable('reader_rhythms')
      .set({ joins: null, since: run.upto })
      .where('joins', '=', letter.id)
      .where('lane', '=', run.lane)
      .execute();
    return;
  }
  await trx
    .updateTable('reader_rhythms')
    .set({ joins: null, since: null })
    .where('joins', '=', letter.id)
    .where('lane', '=', run.lane)
    .execute();
  await trx.updateTable('rule_runs').set({ state: 'done', approve_by: null }).where('id', '=', run.id).execute();
  await lanePassed(ctx, trx, run);
}

/** A lane has come so far; should more be ready, it runs again. */
export async function lanePassed(ctx: Context, trx: Db, run: { auto_send_id: string; lane: Lane; upto: number }): Promise<void> {
  await trx
    .updateTable('rule_lanes')
    .set((eb) => ({ upto: sql<number>`greatest(${eb.ref('upto')}, ${run.upto})` }))
    .where('auto_send_id', '=', run.auto_send_id)
    .where('lane', '=', run.lane)
    .execute();
  const rule = await trx
    .selectFrom('auto_sends')
    .select(['id', 'settings'])
    .where('id', '=', run.auto_send_id)
    .executeTakeFirstOrThrow();
  await armLanes(ctx, trx, rule);
}

/** A run whose letter does not leave: its posts are not mailed at this rhythm. In the caller's transaction. */
export async function dropRun(ctx: Context, trx: Db, runId: string, words = 'Its letter was thrown away.'): Promise<void> {
  const run = await trx
    .updateTable('rule_runs')
    .set({ state: 'dropped', approve_by: null, words })
    .where('id', '=', runId)
    .where('state', 'in', ['draft', 'going'])
    .returningAll()
    .executeTakeFirst();
  if (run) await lanePassed(ctx, trx, run);
}

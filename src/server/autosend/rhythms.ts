import { type RawBuilder, sql } from 'kysely';
import type { Lane } from '@/core/autosend/lanes';
import { laneRhythm, offeredLanes, type RuleSettings } from '@/core/autosend/rule';
import { type Audience, listsIn } from '@/core/sending/audience';
import type { Context, Newsletter } from '../context';
import { type Db, soon } from '../db/connection';
import { readyAudience } from '../sending/audience';
import { getsIt } from '../sending/reach';

/* The rhythm at which a reader wants a rule's posts. */

/** A rule whose rhythm somebody may choose, and what they chose. */
export type Rhythms = {
  id: string;
  name: string;
  settings: RuleSettings;
  chosen: Lane;
  offered: ReturnType<typeof offeredLanes>;
};

/** The rules of a newsletter that let this reader choose, as far as its letters reach them by a list. */
export async function rhythmsOf(db: Db, newsletterId: string, readerId: string): Promise<Rhythms[]> {
  const rows = await db
    .selectFrom('auto_sends as a')
    .leftJoin('reader_rhythms as r', (join) => join.onRef('r.auto_send_id', '=', 'a.id').on('r.reader_id', '=', readerId))
    .select(['a.id', 'a.name', 'a.settings', 'a.audience', 'r.lane'])
    .where('a.newsletter_id', '=', newsletterId)
    .where('a.switched_on_at', 'is not', null)
    .where(sql<boolean>`a.settings->'choices' <> 'null'::jsonb`)
    .orderBy('a.created_at')
    .execute();
  const lists = new Set(
    (
      await db
        .selectFrom('memberships')
        .select('list_id')
        .where('reader_id', '=', readerId)
        .where('state', 'in', ['reading', 'waiting'])
        .execute()
    ).map((row) => row.list_id),
  );
  return rows
    .filter((row) => listsIn(row.audience).length === 0 || listsIn(row.audience).some((id) => lists.has(id)))
    .map(({ id, name, settings, lane }) => {
      const offered = offeredLanes(settings);
      const chosen = lane ?? 'usual';
      return { id, name, settings, offered, chosen: offered.some((one) => one.lane === chosen) ? chosen : 'usual' };
    });
}

/**
 * Keeps the rhythm that somebody chose for a rule, in the caller's transaction. Since which place they are looked at is that of the lane they leave, as far as it is known
 * at this moment: what they had besides is seen by the letters they got, so that nothing comes twice and nothing is lost.
 */
export async function chooseRhythm(
  ctx: Context,
  trx: Db,
  readerId: string,
  rule: Pick<Rhythms, 'id' | 'settings'>,
  lane: Lane,
): Promise<void> {
  const now = ctx.clock.now();
  await sql`
    insert into reader_rhythms (auto_send_id, reader_id, newsletter_id, lane, since, chosen_at)
    select ${rule.id}::uuid, r.id, r.newsletter_id, ${lane}, (select upto from rule_lanes l where l.auto_send_id = ${rule.id}::uuid and l.lane = 'usual'), ${now}
    from readers r where r.id = ${readerId}::uuid and (${lane} <> 'usual' or exists (select 1 from reader_rhythms x where x.auto_send_id = ${rule.id}::uuid and x.reader_id = r.id))
    on conflict (auto_send_id, reader_id) do update set lane = excluded.lane, chosen_at = excluded.chosen_at, joins = null,
      since = coalesce(reader_rhythms.since, (select upto from rule_lanes l where l.auto_send_id = reader_rhythms.auto_send_id and l.lane = reader_rhythms.lane))
    where reader_rhythms.lane <> excluded.lane`.execute(trx);
  // What they had not had yet comes at once, where each post does.
  if (laneRhythm(rule.settings, lane)?.kind === 'each')
    await trx
      .updateTable('rule_lanes')
      .set({ next_at: now })
      .where('auto_send_id', '=', rule.id)
      .where('lane', '=', lane)
      .execute();
}

/** So long an exact count is waited for. */
const PATIENCE_MS = 100;

/** How many of a rule's people chose each rhythm: of those who would get a letter of it now, or, where that takes long, of all who chose. */
export async function countRhythms(
  ctx: Context,
  newsletter: Newsletter,
  rule: { id: string; audience: Audience },
): Promise<{ counts: Partial<Record<Lane, number>>; exact: boolean }> {
  const ready = await readyAudience(ctx, ctx.db, newsletter, rule.audience);
  const ask = (db: Db, whom: RawBuilder<unknown>) =>
    sql<{ lane: Lane; n: number }>`select x.lane, count(*)::int as n from reader_rhythms x ${whom} group by 1`.execute(db);
  const exact = await soon(ctx.db, PATIENCE_MS, (trx) =>
    ask(trx, sql`join readers r on r.id = x.reader_id where x.auto_send_id = ${rule.id} and ${getsIt(ready)}`),
  );
  const { rows } = exact ?? (await ask(ctx.db, sql`where x.auto_send_id = ${rule.id}`));
  return { counts: Object.fromEntries(rows.map((row) => [row.lane, row.n])), exact: exact !== null };
}

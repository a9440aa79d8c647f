import { sql } from 'kysely';
import type { Outcome } from '@/core/sending/outcome';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { bumpLetter } from './tallies';

/** A delivery that one worker has taken to hand over. */
export type Claim = {
  id: string;
  sent_on: string;
  letter_id: string;
  newsletter_id: string;
  reader_id: string;
  address: string;
  attempts: number;
};

/** What became of one claimed delivery; `again` is when a "later" is tried again, null when it is given up. */
export type Result = { item: Claim; outcome: Outcome; again: Date | null };

const stateOf = (result: Result) => {
  if (result.outcome.kind === 'delivered') return 'delivered';
  if (result.outcome.kind === 'dead') return 'bounced';
  return result.again ? 'queued' : 'refused';
};

/** Writes a batch's results, counts and dead addresses in one transaction. Rows no longer claimed by this worker stay as they are. */
export async function recordOutcomes(ctx: Context, results: Result[], workerId: string): Promise<void> {
  if (results.length === 0) return;
  const now = ctx.clock.now();
  await ctx.db.transaction().execute(async (trx) => {
    const { rows } = await sql<{ id: string; letter_id: string; state: string }>`
      update deliveries d
      set state = r.state, attempts = d.attempts + 1, claimed_by = null, response = r.response,
          due_at = coalesce(r.again, d.due_at),
          delivered_at = case when r.state = 'delivered' then ${now}::timestamptz end
      from unnest(${results.map((r) => r.item.sent_on)}::date[], ${results.map((r) => r.item.id)}::bigint[],
                  ${results.map(stateOf)}::text[], ${results.map((r) => r.outcome.response)}::text[],
                  ${results.map((r) => r.again)}::timestamptz[]) as r(sent_on, id, state, response, again)
      where d.sent_on = r.sent_on and d.id = r.id and d.state = 'claimed' and d.claimed_by = ${workerId}
      returning d.id, d.letter_id, d.state`.execute(trx);
    const written = new Map(rows.map((row) => [row.id, row]));
    for (const letterId of new Set(rows.map((row) => row.letter_id))) {
      const count = (state: string) => rows.filter((row) => row.letter_id === letterId && row.state === state).length;
      await bumpLetter(trx, letterId, { delivered: count('delivered'), bounced: count('bounced'), refused: count('refused') });
    }
    await countDomainDay(trx, now, rows);
    for (const { item, outcome } of results) {
      if (!written.has(item.id)) continue;
      if (outcome.kind === 'dead') await buryAddress(ctx, trx, item, outcome.response);
      else if (written.get(item.id)?.state === 'refused' && outcome.kind === 'later') await markBouncing(trx, item.reader_id);
    }
  });
}

/** What became of a domain's letters on the newsletter's local day: the memory of its ramp-up. */
async function countDomainDay(db: Db, now: Date, rows: { letter_id: string; state: string }[]): Promise<void> {
  const ended = rows.filter((row) => row.state === 'delivered' || row.state === 'bounced');
  if (ended.length === 0) return;
  await sql`
    insert into domain_days (domain_id, day, delivered, bounced)
    select l.domain_id, (${now}::timestamptz at time zone n.time_zone)::date, count(*) filter (where r.state = 'delivered'), count(*) filter (where r.state = 'bounced')
    from unnest(${ended.map((row) => row.letter_id)}::uuid[], ${ended.map((row) => row.state)}::text[]) as r(letter_id, state)
    join letters l on l.id = r.letter_id join newsletters n on n.id = l.newsletter_id
    where l.domain_id is not null group by 1, 2 order by 1, 2
    on conflict (domain_id, day) do update set delivered = domain_days.delivered + excluded.delivered, bounced = domain_days.bounced + excluded.bounced`.execute(
    db,
  );
}

type Item = { id: string; sent_on: string; letter_id: string; newsletter_id: string; reader_id: string };

/** A dead address: suppressed for its newsletter, with the reason on the reader's record. */
export async function buryAddress(ctx: Context, db: Db, item: Item, response: string): Promise<void> {
  const now = ctx.clock.now();
  const reader = await db
    .updateTable('readers')
    .set({ address_state: 'suppressed' })
    .where('id', '=', item.reader_id)
    .where('newsletter_id', '=', item.newsletter_id)
    .returning('address_key')
    .executeTakeFirst();
  if (!reader) return;
  await db
    .insertInto('suppressions')
    .values({
      newsletter_id: item.newsletter_id,
      address_key: reader.address_key,
      reason: 'hard bounce',
      at: now,
      detail: response,
    })
    .onConflict((c) => c.doNothing())
    .execute();
  await db
    .insertInto('consents')
    .columns(['newsletter_id', 'reader_id', 'list_id', 'act', 'state', 'at'])
    .expression((eb) =>
      eb
        .selectFrom('memberships')
        .select([
          'newsletter_id',
          'reader_id',
          'list_id',
          sql<'bounce'>`'bounce'`.as('act'),
          'state',
          sql<Date>`${now}::timestamptz`.as('at'),
        ])
        .where('reader_id', '=', item.reader_id),
    )
    .execute();
  await db
    .insertInto('events')
    .values({
      day: item.sent_on,
      at: now,
      newsletter_id: item.newsletter_id,
      letter_id: item.letter_id,
      delivery_id: item.id,
      reader_id: item.reader_id,
      kind: 'bounce',
    })
    .execute();
}

async function markBouncing(db: Db, readerId: string): Promise<void> {
  await db
    .updateTable('readers')
    .set({ address_state: 'bouncing' })
    .where('id', '=', readerId)
    .where('address_state', '=', 'fine')
    .execute();
}

import { sql } from 'kysely';
import type { ConsentAct, ConsentActor, SuppressionReason } from '@/core/readers/state';
import { isIn } from '@/core/sending/audience';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { factsOf } from '../readers/conditions';
import { readyAudience } from './audience';
import { countLetters } from './counts';

export type Silence = {
  readerId: string;
  newsletterId: string;
  /** Why the address is suppressed; null where it is only bouncing, which passes. */
  reason: SuppressionReason | null;
  detail: string;
  /** Who wished it; what mail told us, where nobody is named. */
  by?: { actor: ConsentActor; name: string | null };
};

/** Erasing keeps a record of its own. */
const ACTS: Record<SuppressionReason, ConsentAct | null> = {
  'hard bounce': 'bounce',
  complaint: 'complaint',
  erased: null,
  'by hand': 'suppress',
  left: 'suppress',
};

/**
 * Nothing goes to a reader any more: suppressed with its reason on the record, and whatever is queued for them cancelled, in the caller's transaction.
 * Doing it twice changes nothing more.
 */
export async function silence(ctx: Context, db: Db, { readerId, newsletterId, reason, detail, by }: Silence): Promise<void> {
  const now = ctx.clock.now();
  if (reason) {
    const reader = await db
      .updateTable('readers')
      .set({ address_state: 'suppressed' })
      .where('id', '=', readerId)
      .where('newsletter_id', '=', newsletterId)
      .returning('address_key')
      .executeTakeFirst();
    if (!reader) return;
    await db
      .insertInto('suppressions')
      .values({ newsletter_id: newsletterId, address_key: reader.address_key, reason, at: now, detail })
      .onConflict((c) => c.doNothing())
      .execute();
    const act = ACTS[reason];
    if (act)
      await sql`
        insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor, actor_name)
        select m.newsletter_id, m.reader_id, l.id, l.name, ${act}, m.state, ${now}::timestamptz, ${by?.actor ?? 'mail'}, ${by?.name ?? null}
        from memberships m join lists l on l.id = m.list_id where m.reader_id = ${readerId} order by l.id`.execute(db);
  }
  await cancelCopies(db, readerId, () => false);
  await db
    .updateTable('mails')
    .set({ state: 'cancelled', claimed_by: null, response: detail })
    .where('reader_id', '=', readerId)
    .where('state', '=', 'queued')
    .execute();
}

/** Cancels a reader's waiting copies of letters that they are no longer to get, in the caller's transaction: of a letter whose audience they have left. */
export async function cancelWhatTheyLeft(ctx: Context, db: Db, readerId: string): Promise<void> {
  const waiting = await db
    .selectFrom('deliveries as d')
    .innerJoin('letters as l', 'l.id', 'd.letter_id')
    .innerJoin('newsletters as n', 'n.id', 'l.newsletter_id')
    .select(['l.id', 'l.audience', 'n.id as newsletterId', 'n.time_zone'])
    .where('d.reader_id', '=', readerId)
    .where('d.state', 'in', ['kept', 'queued', 'claimed'])
    .execute();
  if (waiting.length === 0) return;
  const stay = new Set<string>();
  for (const letter of waiting) {
    const ready = await readyAudience(ctx, db, { id: letter.newsletterId, time_zone: letter.time_zone }, letter.audience);
    const facts = (await factsOf(db, [readerId], ready.known)).get(readerId);
    if (facts && isIn(ready.audience, facts, ready.moment)) stay.add(letter.id);
  }
  await cancelCopies(db, readerId, (letterId) => stay.has(letterId));
}

async function cancelCopies(db: Db, readerId: string, stays: (letterId: string) => boolean): Promise<void> {
  const rows = await db
    .selectFrom('deliveries')
    .select(['sent_on', 'id', 'letter_id', 'newsletter_id', 'domain_id'])
    .where('reader_id', '=', readerId)
    .where('state', 'in', ['kept', 'queued', 'claimed'])
    .orderBy('sent_on')
    .orderBy('id')
    .forUpdate()
    .execute();
  const gone = rows.filter((row) => !stays(row.letter_id));
  for (const row of gone)
    await db
      .updateTable('deliveries')
      .set({ state: 'cancelled', claimed_by: null })
      .where('sent_on', '=', row.sent_on)
      .where('id', '=', row.id)
      .execute();
  await countLetters(
    db,
    gone.map((row) => ({ newsletterId: row.newsletter_id, letterId: row.letter_id, domainId: row.domain_id, cancelled: 1 })),
  );
}

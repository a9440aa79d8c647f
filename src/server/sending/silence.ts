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
export const silence = (ctx: Context, db: Db, one: Silence): Promise<void> => silenceAll(ctx, db, [one]);

/** The same for many, each once. Rows are locked in one order. */
export async function silenceAll(ctx: Context, db: Db, all: Silence[]): Promise<void> {
  const now = ctx.clock.now();
  const each = [...new Map(all.map((one) => [one.readerId, one])).values()].sort((a, b) => (a.readerId < b.readerId ? -1 : 1));
  const suppressed = each.filter((one) => one.reason !== null);
  if (suppressed.length) {
    const ids = suppressed.map((one) => one.readerId);
    await sql`select 1 from readers where id = any(${ids}::uuid[]) order by id for update`.execute(db);
    const { rows } = await sql<{ id: string }>`
      with said as (select * from unnest(${ids}::uuid[], ${suppressed.map((one) => one.newsletterId)}::uuid[], ${suppressed.map((one) => one.reason)}::text[], ${suppressed.map((one) => one.detail)}::text[]) as t(id, newsletter_id, reason, detail)),
      ended as (update readers r set address_state = 'suppressed' from said s where r.id = s.id and r.newsletter_id = s.newsletter_id returning r.id, r.newsletter_id, r.address_key, s.reason, s.detail),
      kept as (insert into suppressions (newsletter_id, address_key, reason, at, detail) select newsletter_id, address_key, reason, ${now}::timestamptz, detail from ended order by 1, 2 on conflict do nothing)
      select id from ended`.execute(db);
    const known = new Set(rows.map(({ id }) => id));
    const acts = suppressed.filter(({ readerId, reason }) => known.has(readerId) && ACTS[reason!] !== null);
    if (acts.length)
      await sql`
        insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor, actor_name)
        select m.newsletter_id, m.reader_id, l.id, l.name, t.act, m.state, ${now}::timestamptz, t.actor, t.name
        from unnest(${acts.map((one) => one.readerId)}::uuid[], ${acts.map((one) => ACTS[one.reason!])}::text[], ${acts.map(({ by }) => by?.actor ?? 'mail')}::text[], ${acts.map(({ by }) => by?.name ?? null)}::text[]) as t(id, act, actor, name)
        join memberships m on m.reader_id = t.id join lists l on l.id = m.list_id order by m.reader_id, l.id`.execute(db);
    each.splice(0, each.length, ...each.filter(({ readerId, reason }) => reason === null || known.has(readerId)));
  }
  if (each.length === 0) return;
  await cancelCopies(
    db,
    each.map((one) => one.readerId),
    () => false,
  );
  await sql`
    update mails m set state = 'cancelled', claimed_by = null, response = t.detail from unnest(${each.map((one) => one.readerId)}::uuid[], ${each.map((one) => one.detail)}::text[]) as t(id, detail)
    where m.reader_id = t.id and m.state = 'queued'`.execute(db);
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
  await cancelCopies(db, [readerId], (letterId) => stay.has(letterId));
}

async function cancelCopies(db: Db, readerIds: string[], stays: (letterId: string) => boolean): Promise<void> {
  const rows = await db
    .selectFrom('deliveries')
    .select(['sent_on', 'id', 'letter_id', 'newsletter_id', 'domain_id'])
    .where('reader_id', '=', sql<string>`any(${readerIds}::uuid[])`)
    .where('state', 'in', ['kept', 'queued', 'claimed'])
    .orderBy('sent_on')
    .orderBy('id')
    .forUpdate()
    .execute();
  const gone = rows.filter((row) => !stays(row.letter_id));
  if (gone.length === 0) return;
  await sql`
    update deliveries d set state = 'cancelled', claimed_by = null from unnest(${gone.map((row) => row.sent_on)}::date[], ${gone.map((row) => row.id)}::bigint[]) as t(sent_on, id)
    where d.sent_on = any(${[...new Set(gone.map((row) => row.sent_on))]}::date[]) and d.sent_on = t.sent_on and d.id = t.id`.execute(
    db,
  );
  await countLetters(
    db,
    gone.map((row) => ({ newsletterId: row.newsletter_id, letterId: row.letter_id, domainId: row.domain_id, cancelled: 1 })),
  );
}

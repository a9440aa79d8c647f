import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { partOf, pieces } from '@/core/writing/slots';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { readyAudience } from './audience';
import { countLetters } from './counts';
import { partsOf } from './parts';
import { insertRecipients, nextCopy } from './recipients';

/*
 * Who joined since a letter began: they are none of its recipients, unless its writer lets them in while it is on its way. Whoever got it, or waits for it, gets it
 * once all the same.
 */

/** Lets in everybody of a letter's audience who has begun to read since it began. Throws "conflict" for a letter that is not on its way. Returns how many. */
export async function letIn(ctx: Context, newsletter: Newsletter, id: string): Promise<{ people: number }> {
  return inTransaction(ctx.db, async (trx) => {
    const letter = await trx
      .selectFrom('letters')
      .selectAll()
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .forUpdate()
      .executeTakeFirst();
    if (!letter) throw new Fault('not-found', 'There is no such letter.');
    if ((letter.state !== 'sending' && letter.state !== 'paused') || !letter.sent_on || !letter.started_at)
      throw new Fault('conflict', 'This letter is not on its way any more, so nobody can be let in.');
    const segments = segmentsOf(letter.html ?? '');
    const ready = await readyAudience(ctx, trx, newsletter, letter.audience, letter);
    const parts = await readyAudience(ctx, trx, newsletter, partsOf(segments));
    if (ready.missing.length || parts.missing.length)
      throw new Fault('conflict', 'Whom it is for names something that was deleted meanwhile. Nobody was let in.');
    const now = ctx.clock.now();
    const domain = await trx.selectFrom('domains').select('ramp').where('id', '=', letter.domain_id).executeTakeFirst();
    // A ramp-up's days are full as they were planned: whoever comes later comes last.
    const due = domain?.ramp && letter.last_due_at && letter.last_due_at > now ? letter.last_due_at : now;
    const first = await nextCopy(trx);
    const people = await insertRecipients(trx, {
      letterId: id,
      newsletterId: newsletter.id,
      sentOn: letter.sent_on,
      now,
      ready,
      parts,
      segments,
      fields: [...new Set(letter.chips.map((chip) => chip.field))],
      tried: null,
      pace: sql`${due}::timestamptz`,
      since: letter.started_at,
    });
    const last = await nextCopy(trx);
    const { rows } = await sql<{ domain_id: number; n: number }>`
      select domain_id, count(*)::int as n from deliveries where sent_on = ${letter.sent_on}::date and letter_id = ${id} and id between ${first}::bigint and ${last}::bigint group by 1`.execute(
      trx,
    );
    await countLetters(
      trx,
      rows.map((row) => ({ newsletterId: newsletter.id, letterId: id, domainId: row.domain_id, recipients: row.n })),
    );
    await trx.updateTable('letters').set({ last_copy: last }).where('id', '=', id).execute();
    return { people };
  });
}

/** The segments that parts of a rendered letter are for. */
const segmentsOf = (html: string): string[] => [
  ...new Set(pieces(html).flatMap((piece) => (piece.kind === 'slot' ? (partOf(piece.name)?.segmentId ?? []) : []))),
];

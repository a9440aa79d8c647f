import { Fault } from '@/core/faults';
import { transition } from '@/core/readers/state';
import { type DeliveryRef, readDeliveryToken } from '@/core/sending/token';
import type { Context } from '../context';
import { bumpLetter } from '../delivery/tallies';
import { countDays } from '../growth/counts';
import { noteForOwners } from '../newsletters/alerts';
import type { Visitor } from './wish';

export type Leaving = {
  newsletter: { name: string; slug: string; colour: string };
  listName: string;
  state: 'reading' | 'left' | 'waiting';
};

const refOf = (ctx: Context, token: string): DeliveryRef => {
  const ref = readDeliveryToken(token, ctx.config.secret);
  if (!ref) throw new Fault('not-found', 'A part of this link is missing. Use the one at the end of any letter.');
  return ref;
};

const standing = (ctx: Pick<Context, 'db'>, ref: DeliveryRef) =>
  ctx.db
    .selectFrom('deliveries as d')
    .innerJoin('letters as l', 'l.id', 'd.letter_id')
    .innerJoin('lists', 'lists.id', 'l.list_id')
    .innerJoin('newsletters as n', 'n.id', 'd.newsletter_id')
    .leftJoin('memberships as m', (join) => join.onRef('m.reader_id', '=', 'd.reader_id').onRef('m.list_id', '=', 'l.list_id'))
    .select([
      'd.reader_id',
      'd.letter_id',
      'd.left_at',
      'lists.id as list_id',
      'lists.public_name',
      'lists.name as list_name',
      'd.address',
      'm.state',
    ])
    .select(['n.id as newsletter_id', 'n.name', 'n.slug', 'n.colour', 'n.time_zone'])
    .where('d.sent_on', '=', ref.sentOn)
    .where('d.id', '=', String(ref.id));

const GONE = 'This letter is no longer known to us. Use the leave link of a newer one.';

/** What the leave page says: which list, and where the reader stands on it. Changes nothing (RFC 8058: a GET must not). */
export async function leavingOf(ctx: Context, token: string): Promise<Leaving> {
  const row = await standing(ctx, refOf(ctx, token)).executeTakeFirst();
  if (!row) throw new Fault('not-found', GONE);
  return {
    newsletter: { name: row.name, slug: row.slug, colour: row.colour },
    listName: row.public_name,
    state: row.state ?? 'left',
  };
}

/** Takes the reader off the letter's list, at once and without a question (RFC 8058 section 3.1). Works twice. */
export async function leave(ctx: Context, token: string, visitor: Visitor): Promise<Leaving> {
  const ref = refOf(ctx, token);
  const now = ctx.clock.now();
  return ctx.db.transaction().execute(async (trx) => {
    const row = await standing({ db: trx }, ref).executeTakeFirst();
    if (!row) throw new Fault('not-found', GONE);
    const newsletter = { id: row.newsletter_id, name: row.name, slug: row.slug, colour: row.colour, time_zone: row.time_zone };
    const step = transition(row.state, 'leave', true);
    const moved = step.changed
      ? await trx
          .updateTable('memberships')
          .set({ state: 'left', since: now })
          .where('reader_id', '=', row.reader_id)
          .where('list_id', '=', row.list_id)
          .where('state', '<>', 'left')
          .executeTakeFirst()
      : null;
    if (moved?.numUpdatedRows) {
      await trx
        .insertInto('consents')
        .values({
          newsletter_id: newsletter.id,
          reader_id: row.reader_id,
          list_id: row.list_id,
          act: 'leave',
          state: 'left',
          at: now,
          network: visitor.network,
          agent: visitor.agent.slice(0, 300),
        })
        .execute();
      await trx
        .updateTable('deliveries')
        .set({ left_at: now })
        .where('sent_on', '=', ref.sentOn)
        .where('id', '=', String(ref.id))
        .execute();
      await trx
        .insertInto('events')
        .values({
          day: ref.sentOn,
          at: now,
          newsletter_id: newsletter.id,
          letter_id: row.letter_id,
          delivery_id: String(ref.id),
          reader_id: row.reader_id,
          kind: 'leave',
        })
        .execute();
      await bumpLetter(trx, row.letter_id, { left_count: 1 });
      await noteForOwners(ctx, trx, newsletter, 'left', { id: row.reader_id, address: row.address, listName: row.list_name });
      await countDays(ctx, trx, [{ newsletter, field: 'left_count' }]);
    }
    return { newsletter, listName: row.public_name, state: 'left' };
  });
}

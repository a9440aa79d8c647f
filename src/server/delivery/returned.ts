import { bounceOutcome, readDeliveryStatus } from '@/core/delivery/dsn';
import { readDeliveryToken } from '@/core/sending/token';
import type { Context } from '../context';
import { leave } from '../readers/leave';
import { keepVerdicts } from '../sending/test-letter';
import { buryAddress } from './outcomes';
import { bumpLetter } from './tallies';

/** A message that came to one of our return addresses, taken apart by the mailroom. */
export type Returned = {
  to: string;
  deliveryStatus: string | null /** The header of our letter as the other side received it. */;
  originalHeader?: string | null;
};
export type Taken = 'bounce' | 'leave' | 'verdicts' | 'nothing';

/**
 * Acts on a returned message. `b-TOKEN@` takes delivery status notifications (RFC 3464): a final failure marks the delivery, and
 * a dead address is suppressed. `leave-TOKEN@` is the mail form of leaving (RFC 2369); `t-TOKEN@` takes what a test mailbox thought of a letter (RFC 8601). Auto replies and notices without a
 * failure change nothing. A forged or unknown address is "nothing". Taking the same notice twice changes nothing more.
 */
export async function takeReturned(ctx: Context, message: Returned): Promise<Taken> {
  const local = message.to.slice(0, message.to.lastIndexOf('@')).toLowerCase();
  const test = /^t-([0-9a-f]{32})$/.exec(local);
  if (test) return (await keepVerdicts(ctx, test[1]!, message.originalHeader ?? '')) ? 'verdicts' : 'nothing';
  const match = /^(b|leave)-([0-9a-f]{36})$/.exec(local);
  const ref = match ? readDeliveryToken(match[2]!, ctx.config.secret) : null;
  if (!match || !ref) return 'nothing';
  if (match[1] === 'leave') {
    await leave(ctx, match[2]!, { network: 'mail', agent: 'mail to the leave address' });
    return 'leave';
  }
  const outcome = readDeliveryStatus(message.deliveryStatus ?? '')
    .map(bounceOutcome)
    .find((found) => found !== null);
  if (!outcome) return 'nothing';
  return ctx.db.transaction().execute(async (trx) => {
    const dead = outcome.kind === 'dead';
    const item = await trx
      .selectFrom('deliveries')
      .select(['id', 'sent_on', 'letter_id', 'newsletter_id', 'reader_id', 'state'])
      .where('sent_on', '=', ref.sentOn)
      .where('id', '=', String(ref.id))
      .forUpdate()
      .executeTakeFirst();
    // A notice may overtake the writing of "delivered": then the delivery is still claimed, and stays as we mark it now.
    if (!item || item.state === 'bounced' || item.state === 'refused') return 'nothing';
    await trx
      .updateTable('deliveries')
      .set({ state: dead ? 'bounced' : 'refused', claimed_by: null, response: outcome.response })
      .where('sent_on', '=', ref.sentOn)
      .where('id', '=', String(ref.id))
      .execute();
    await bumpLetter(trx, item.letter_id, { delivered: item.state === 'delivered' ? -1 : 0, [dead ? 'bounced' : 'refused']: 1 });
    if (dead) await buryAddress(ctx, trx, item, outcome.response);
    return 'bounce';
  });
}

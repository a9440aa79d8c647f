import { sql } from 'kysely';
import { bounceOutcome, namesRecipient, readDeliveryStatus } from '@/core/delivery/dsn';
import type { Outcome } from '@/core/sending/outcome';
import { readDeliveryToken, readMailToken } from '@/core/sending/token';
import type { Context } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { countLetters } from '../sending/counts';
import { leave } from '../sending/leave';
import { Taken, tellMailboxes } from '../sending/mailboxes';
import { keepVerdicts } from '../sending/test-letter';

/** A message that came to one of our return addresses, taken apart by the mailroom. */
export type Returned = {
  to: string;
  /** The machine part of a notice (RFC 3464, RFC 6533). */
  deliveryStatus: string | null;
  /** The header of our letter as the other side received it. */
  originalHeader?: string | null;
  /** Did a person write it? Not where it says that a program did (RFC 3834), or came from nobody, or is a report. */
  byPerson?: boolean;
};
export type Kept = 'bounce' | 'leave' | 'verdicts' | 'nothing';

/** Is this local part an address of ours? Asked when it is named, so that nothing vanishes behind a 250. */
export function isReturnAddress(ctx: Pick<Context, 'config'>, local: string): boolean {
  const { keys } = ctx.config;
  const [, kind, token] = /^(b|m|t)-([0-9a-z]+)$/i.exec(local) ?? /^(leave)-([0-9a-z]+)$/i.exec(local) ?? [];
  if (!kind || !token) return false;
  if (kind.toLowerCase() === 'b') return readDeliveryToken(token, 'bounce', keys) !== null;
  if (kind.toLowerCase() === 'm') return readMailToken(token, keys) !== null;
  return kind.toLowerCase() === 't' ? /^[0-9a-f]{32}$/i.test(token) : true;
}

/**
 * Acts on a returned message. `b-TOKEN@` takes delivery status notifications of a letter (RFC 3464), `m-TOKEN@` those of a single mail: a final
 * failure that names the very recipient marks it, and a dead address is suppressed. `leave-TOKEN@` is the mail form of leaving (RFC 2369), for mail that
 * a person wrote; `t-TOKEN@` takes what a test mailbox thought of a letter (RFC 8601). Auto replies and notices without a failure change nothing. A
 * forged or unknown address is "nothing". Taking the same notice twice changes nothing more.
 */
export async function takeReturned(ctx: Context, message: Returned): Promise<Kept> {
  const local = message.to.slice(0, message.to.lastIndexOf('@')).toLowerCase();
  const test = /^t-([0-9a-f]{32})$/.exec(local);
  if (test) return (await keepVerdicts(ctx, test[1]!, message.originalHeader ?? '')) ? 'verdicts' : 'nothing';
  const leaving = /^leave-([a-z2-7]+)$/.exec(local);
  if (leaving) {
    if (!message.byPerson) return 'nothing';
    try {
      await leave(ctx, leaving[1]!, { network: 'mail', agent: 'mail to the leave address' }, { purpose: 'leave-mail' });
      return 'leave';
    } catch (error) {
      if ((error as { code?: string }).code === 'not-found') return 'nothing';
      throw error;
    }
  }
  const failed = readDeliveryStatus(message.deliveryStatus ?? '').filter((report) => bounceOutcome(report) !== null);
  if (failed.length === 0) return 'nothing';
  /** What was said of this address, if the notice names it. */
  const saidOf = (address: string): Outcome | null => {
    const own = failed.find((report) => namesRecipient(report, address));
    return own ? bounceOutcome(own) : null;
  };
  const token = /^[bm]-([a-z2-7]+)$/.exec(local)?.[1] ?? '';
  const ref = local.startsWith('b-') ? readDeliveryToken(token, 'bounce', ctx.config.keys) : null;
  const mailId = local.startsWith('m-') ? readMailToken(token, ctx.config.keys) : null;
  if (ref) return inTransaction(ctx.db, (trx) => markLetter(ctx, trx, { sentOn: ref.sentOn, id: String(ref.id) }, saidOf));
  if (mailId) return inTransaction(ctx.db, (trx) => markMail(ctx, trx, mailId, saidOf));
  return 'nothing';
}

async function markLetter(
  ctx: Context,
  db: Db,
  ref: { sentOn: string; id: string },
  saidOf: (address: string) => Outcome | null,
): Promise<Kept> {
  const item = await db
    .selectFrom('deliveries')
    .select(['id', 'sent_on', 'letter_id', 'newsletter_id', 'reader_id', 'domain_id', 'route_id', 'address', 'state'])
    .where('sent_on', '=', ref.sentOn)
    .where('id', '=', ref.id)
    .forUpdate()
    .executeTakeFirst();
  // A notice may overtake the writing of "delivered": then the delivery is still claimed, and stays as we mark it now.
  if (!item || !['delivered', 'claimed', 'queued'].includes(item.state)) return 'nothing';
  const outcome = saidOf(item.address);
  if (!outcome) return 'nothing';
  const dead = outcome.kind === 'dead';
  const state = dead ? 'bounced' : 'refused';
  await sql`update deliveries set state = ${state}, claimed_by = null, response = ${outcome.response} where sent_on = ${item.sent_on}::date and id = ${item.id}`.execute(
    db,
  );
  await countLetters(db, [
    {
      newsletterId: item.newsletter_id,
      letterId: item.letter_id,
      domainId: item.domain_id,
      delivered: item.state === 'delivered' ? -1 : 0,
      [state]: 1,
    },
  ]);
  const reader = { readerId: item.reader_id, newsletterId: item.newsletter_id };
  // Who notifies is not the host that refused, so there is no pattern of a route to look for.
  await tellMailboxes(
    ctx,
    db,
    [{ ...reader, routeId: null, outcome, weight: outcome.kind === 'refused' ? outcome.evidence : 0 }],
    new Taken(),
  );
  await db
    .insertInto('events')
    .values({
      day: item.sent_on,
      at: ctx.clock.now(),
      newsletter_id: item.newsletter_id,
      letter_id: item.letter_id,
      delivery_id: item.id,
      reader_id: item.reader_id,
      kind: 'bounce',
    })
    .execute();
  return 'bounce';
}

async function markMail(ctx: Context, db: Db, id: string, saidOf: (address: string) => Outcome | null): Promise<Kept> {
  const mail = await db
    .selectFrom('mails')
    .select(['id', 'to_address', 'state', 'reader_id', 'newsletter_id'])
    .where('id', '=', id)
    .forUpdate()
    .executeTakeFirst();
  if (!mail || !['delivered', 'claimed', 'queued'].includes(mail.state)) return 'nothing';
  const outcome = saidOf(mail.to_address);
  if (!outcome) return 'nothing';
  await db
    .updateTable('mails')
    .set({ state: outcome.kind === 'dead' ? 'bounced' : 'refused', claimed_by: null, response: outcome.response })
    .where('id', '=', id)
    .execute();
  if (mail.reader_id && mail.newsletter_id)
    await tellMailboxes(
      ctx,
      db,
      [
        {
          readerId: mail.reader_id,
          newsletterId: mail.newsletter_id,
          routeId: null,
          outcome,
          weight: outcome.kind === 'refused' ? outcome.evidence : 0,
        },
      ],
      new Taken(),
    );
  return 'bounce';
}

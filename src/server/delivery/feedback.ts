import { type Feedback, readFeedback, readHead, traitsOf } from '@/core/delivery/feedback';
import { leaveToken, readDeliveryToken, readMailToken, readMessageName } from '@/core/sending/token';
import type { Context } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { countUses } from '../limits';
import { countLetters } from '../sending/counts';
import { leave } from '../sending/leave';
import { silence } from '../sending/silence';

/** A copy of a letter, or a single mail, that a report is about. */
type Subject = {
  newsletterId: string | null;
  letterId: string | null;
  sentOn: string | null;
  deliveryId: string | null;
  domainId: number | null;
  readerId: string | null;
  knownBy: 'return path' | 'message' | 'letter' | 'nothing';
};
const MOST_A_DAY = 3;
const NOBODY: Subject = {
  newsletterId: null,
  letterId: null,
  sentOn: null,
  deliveryId: null,
  domainId: null,
  readerId: null,
  knownBy: 'nothing',
};

/**
 * Acts on a report about a letter (RFC 5965, 6430, 6591), whoever sent it: what a letter's own return path says is known to its reader's provider alone. A complaint
 * suppresses its reader at once and is counted, once for each copy; an opt-out leaves as the mail form of leaving does; "not spam" and reports of failed authentication
 * are kept for the screens. `original` is the head of the letter as it came with the report, `local` the address it was sent to. A report that knows no more
 * than a name of the message is believed only where that of the letter fits; one that knows the letter alone is kept, and nobody is suppressed for it. False for what is
 * kept already.
 */
export async function takeFeedback(ctx: Context, text: string, original: string, local = ''): Promise<boolean> {
  // A single mail has no copy by which a second report of it is known.
  if (local.startsWith('m-') && (await countUses(ctx, [{ key: `feedback:${local}`, seconds: 86_400 }]))[0]! > MOST_A_DAY)
    return false;
  const feedback = readFeedback(text);
  const traits = traitsOf(feedback, readHead(original));
  const subject = await subjectOf(ctx, {
    ...traits,
    returnLocals: [...traits.returnLocals, ...(/^[bm]-/.test(local) ? [local] : [])],
  });
  // Before it is kept: whoever dies in between is told again by the provider, and leaving twice is leaving once.
  if (feedback.kind === 'opt-out' && subject.readerId && !(await isKept(ctx, subject))) await optOut(ctx, subject, feedback);
  return inTransaction(ctx.db, async (trx) => {
    const { numInsertedOrUpdatedRows } = await trx
      .insertInto('feedback')
      .values({
        newsletter_id: subject.newsletterId,
        letter_id: subject.letterId,
        sent_on: subject.sentOn,
        delivery_id: subject.deliveryId,
        reader_id: subject.readerId,
        kind: feedback.kind,
        type: feedback.type,
        reporter: feedback.reporter,
        known_by: subject.knownBy,
        failure: feedback.failure,
        source: feedback.source,
        at: ctx.clock.now(),
      })
      .onConflict((c) => c.doNothing())
      .executeTakeFirst();
    if (!numInsertedOrUpdatedRows) return false;
    if (feedback.kind === 'complaint') await complain(ctx, trx, subject, feedback);
    return true;
  });
}

/** Is an opt-out from this copy kept already? Whoever came back since by their own act does not leave by it again. */
const isKept = async (ctx: Context, { sentOn, deliveryId }: Subject): Promise<boolean> =>
  deliveryId !== null &&
  (await ctx.db
    .selectFrom('feedback')
    .select('id')
    .where('sent_on', '=', sentOn)
    .where('delivery_id', '=', deliveryId)
    .where('kind', '=', 'opt-out')
    .executeTakeFirst()) !== undefined;

async function complain(ctx: Context, trx: Db, subject: Subject, { reporter }: Feedback): Promise<void> {
  if (!subject.readerId || !subject.newsletterId) return;
  await silence(ctx, trx, {
    readerId: subject.readerId,
    newsletterId: subject.newsletterId,
    reason: 'complaint',
    detail: `Reported as unwanted${reporter ? ` through ${reporter}` : ''}`,
  });
  if (!subject.letterId || !subject.sentOn || !subject.deliveryId) return;
  await countLetters(trx, [
    { newsletterId: subject.newsletterId, letterId: subject.letterId, domainId: subject.domainId ?? 0, complained: 1 },
  ]);
  await trx
    .insertInto('events')
    .values({
      day: subject.sentOn,
      at: ctx.clock.now(),
      newsletter_id: subject.newsletterId,
      letter_id: subject.letterId,
      delivery_id: subject.deliveryId,
      reader_id: subject.readerId,
      kind: 'complaint',
    })
    .execute();
}

async function optOut(ctx: Context, subject: Subject, { reporter }: Feedback): Promise<void> {
  const delivery = subject.sentOn && subject.deliveryId ? { sentOn: subject.sentOn, id: BigInt(subject.deliveryId) } : null;
  const token = leaveToken({ readerId: subject.readerId!, delivery }, 'leave-mail', ctx.config.keys);
  try {
    await leave(ctx, token, { network: 'mail', agent: reporter || 'a report of their provider' }, { purpose: 'leave-mail' });
  } catch (error) {
    // Erased meanwhile: then there is nobody who could leave.
    if ((error as { code?: string }).code !== 'not-found') throw error;
  }
}

async function subjectOf(ctx: Context, { returnLocals, messageLocal, letter }: ReturnType<typeof traitsOf>): Promise<Subject> {
  const { keys } = ctx.config;
  for (const local of returnLocals) {
    const token = local.slice(2);
    const ref = local.startsWith('b-') ? readDeliveryToken(token, 'bounce', keys) : null;
    const found = ref ? await copyOf(ctx, ref) : null;
    if (found) return { ...found, knownBy: 'return path' };
    const mail = local.startsWith('m-') ? readMailToken(token, keys) : null;
    const single = mail
      ? await ctx.db
          .selectFrom('mails')
          .select(['newsletter_id as newsletterId', 'reader_id as readerId'])
          .where('id', '=', mail)
          .executeTakeFirst()
      : undefined;
    if (single) return { ...NOBODY, ...single, knownBy: 'return path' };
  }
  const named = readMessageName(messageLocal, keys);
  const copy = named ? await copyOf(ctx, named) : null;
  // Names of messages stand in every answer to them; that of the letter in the letter alone.
  if (copy && copy.letterId === letter) return { ...copy, knownBy: 'message' };
  if (!letter) return NOBODY;
  const row = await ctx.db.selectFrom('letters').select(['id', 'newsletter_id']).where('id', '=', letter).executeTakeFirst();
  return row ? { ...NOBODY, newsletterId: row.newsletter_id, letterId: row.id, knownBy: 'letter' } : NOBODY;
}

async function copyOf(ctx: Context, ref: { id: bigint; sentOn: string }): Promise<Omit<Subject, 'knownBy'> | null> {
  const row = await ctx.db
    .selectFrom('deliveries')
    .select([
      'newsletter_id as newsletterId',
      'letter_id as letterId',
      'sent_on as sentOn',
      'id as deliveryId',
      'domain_id as domainId',
      'reader_id as readerId',
    ])
    .where('sent_on', '=', ref.sentOn)
    .where('id', '=', String(ref.id))
    .executeTakeFirst();
  return row ?? null;
}

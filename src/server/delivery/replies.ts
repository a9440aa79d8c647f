import type { Message } from '@/core/delivery/came-back';
import type { Context } from '../context';
import { inTransaction } from '../db/connection';
import { countUses } from '../limits';
import { post } from '../mail/post';

/** So many answers to one copy are passed on a day: a program that answers, and does not say that it is one, shall not fill a mailbox. */
const MOST_A_DAY = 3;
const MOST_WORDS = 10_000;

/**
 * Passes a person's words on to the writer: some mail programs answer to the return path instead of the reply address. They go to the reply address of the letter,
 * or where the newsletter's own mail is answered. False where there is nobody to pass them on to, or today has brought enough.
 */
export async function passOn(
  ctx: Context,
  of: { copy: { sentOn: string; id: string } | null; mail: string | null },
  message: Message,
): Promise<boolean> {
  const about = of.copy
    ? await ctx.db
        .selectFrom('deliveries as d')
        .innerJoin('letters as l', 'l.id', 'd.letter_id')
        .innerJoin('newsletters as n', 'n.id', 'd.newsletter_id')
        .select(['n.name', 'l.subject', 'l.reply_to', 'l.from_address'])
        .where('d.sent_on', '=', of.copy.sentOn)
        .where('d.id', '=', of.copy.id)
        .executeTakeFirst()
    : await ctx.db
        .selectFrom('mails as m')
        .innerJoin('newsletters as n', 'n.id', 'm.newsletter_id')
        .select(['n.name', 'm.subject', 'm.reply_to', 'm.from_address'])
        .where('m.id', '=', of.mail!)
        .executeTakeFirst();
  const to = about?.reply_to ?? about?.from_address;
  if (!about || !to) return false;
  const key = `reply:${of.copy ? `${of.copy.sentOn} ${of.copy.id}` : of.mail}`;
  if ((await countUses(ctx, [{ key, seconds: 86_400 }]))[0]! > MOST_A_DAY) return false;
  const words = message.text.trim().slice(0, MOST_WORDS) || '(no words)';
  // Whom an answer of the writer's goes to; where that cannot be an address, the words still arrive.
  const address = /<?([^\s<>@]+@[^\s<>@]+)>?$/.exec(message.from.trim())?.[1] ?? message.envelopeFrom;
  await inTransaction(ctx.db, (trx) =>
    post(ctx, trx, {
      newsletterId: null,
      kind: 'reply',
      from: { name: 'Inkset', address: `hello@${ctx.config.mailDomain}`, replyTo: address || null },
      to,
      subject: message.subject.trim() || `An answer to “${about.subject}”`,
      notice: {
        name: about.name,
        colour: '#17645c',
        heading: `An answer to “${about.subject}”`,
        paragraphs: [
          `${message.from || message.envelopeFrom} wrote to the address that takes what cannot be delivered. It is passed on as it came; answer to this mail to write back.`,
        ],
        exact: words,
        footer: [`You get this because letters of ${about.name} are answered here.`],
      },
    }),
  );
  return true;
}

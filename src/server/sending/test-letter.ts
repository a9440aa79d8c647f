import { randomBytes } from 'node:crypto';
import { type MailVerdict, verdictsOf } from '@/core/delivery/verdicts';
import { Fault } from '@/core/faults';
import { returnPathDomain } from '@/core/senders/records';
import { signatureFields } from '@/core/sending/dkim';
import { compileMime, fillMime, headerBlock } from '@/core/sending/mime';
import { renderHtml, SLOT } from '@/core/writing/render';
import { renderText } from '@/core/writing/text';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';
import { limit } from '../limits';
import { relayLine } from '../mail/relay';
import { NoRoute, openLine } from '../mail/routes';
import { LineDown } from '../mail/smtp';
import { signingKeys } from '../senders/keys';
import { frameOf } from './letters';

export type TestLetterView = {
  id: string;
  from: string;
  to: string;
  sentAt: Date;
  response: string;
  verdicts: MailVerdict[] | null;
  answeredAt: Date | null;
};

/**
 * Sends a test letter the way every letter goes (rendered, signed, over the relay or straight to the mail host): a copy to the writer
 * and one to the test mailbox, which sends back what it thought of it. From a domain that is not proven yet this is all that may leave.
 * Returns a sentence about where it went. Throws when there is no confirmed sender at the domain, or when nothing took it.
 */
export async function sendTestLetter(
  ctx: Context,
  newsletter: Newsletter,
  person: { email: string },
  domainId: string,
): Promise<{ said: string }> {
  const domain = await ctx.db
    .selectFrom('domains')
    .select(['id', 'name', 'state'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', domainId)
    .executeTakeFirst();
  if (!domain) throw new Fault('not-found', 'This domain is gone.');
  const sender = await ctx.db
    .selectFrom('senders')
    .select(['name', 'address', 'reply_to'])
    .where('newsletter_id', '=', newsletter.id)
    .where('domain', '=', domain.name)
    .where('confirmed_at', 'is not', null)
    .orderBy('created_at')
    .executeTakeFirst();
  if (!sender)
    throw new Fault('conflict', `No sender at ${domain.name} is confirmed yet. Add one and click the link that is mailed to it.`);
  await limit(ctx, `test-letter:${newsletter.id}`, 20, 3600, 'That were twenty test letters in an hour. Please wait a while.');
  const token = randomBytes(16).toString('hex');
  const proven = domain.state === 'authenticated';
  const body = proven
    ? `<p>This letter went the way every letter of ${newsletter.name} goes. If you read it in your inbox, so will your readers.</p>`
    : `<p>This letter came from ${domain.name}, which is not proven yet. Letters to readers wait until its records are right; only you can get one before that.</p>`;
  const document = {
    blocks: [
      { kind: 'heading' as const, text: 'A test letter' },
      { kind: 'text' as const, html: body },
    ],
  };
  const frame = { ...frameOf(ctx, newsletter), previewLine: 'Sent by you, to you.' };
  const template = compileMime(
    { html: await renderHtml(document, frame), text: renderText(document, frame), subject: `A test letter from ${domain.name}` },
    {
      fromName: sender.name,
      fromAddress: sender.address,
      replyTo: `t-${token}@in.${ctx.config.mailDomain}`,
      date: ctx.clock.now(),
      boundary: `ink-${token}`,
    },
  );
  const keys = await signingKeys(ctx, domain.id);
  const handOver = async (to: string): Promise<string> => {
    const { headers, body: bytes } = fillMime(
      template,
      { to, messageId: `<t.${token}@${domain.name}>` },
      { [SLOT.leave]: ctx.config.webOrigin, [SLOT.pixel]: 'data:,' },
    );
    const message = Buffer.concat([Buffer.from((await signatureFields(headers, bytes, keys)) + headerBlock(headers)), bytes]);
    try {
      const line = (await relayLine(ctx, newsletter.id)) ?? (await openLine(ctx, to.slice(to.lastIndexOf('@') + 1)));
      const outcome = await line.send({ from: `t-${token}@${returnPathDomain(domain.name)}`, to }, message);
      line.close();
      return outcome.kind === 'delivered' ? '' : outcome.response;
    } catch (error) {
      if (error instanceof LineDown || error instanceof NoRoute) return error.message;
      throw error;
    }
  };
  const own = await handOver(person.email);
  const probe = ctx.config.testMailbox ? await handOver(ctx.config.testMailbox) : 'no test mailbox is set up here';
  await ctx.db
    .insertInto('test_letters')
    .values({
      id: newId(),
      newsletter_id: newsletter.id,
      domain_id: domain.id,
      token,
      from_address: sender.address,
      to_address: person.email,
      sent_at: ctx.clock.now(),
      response: own || probe,
    })
    .execute();
  if (own && probe) throw new Fault('unreachable', `The test letter was not taken: ${own}`);
  return {
    said: `Sent to ${person.email}${probe ? '' : ' and to the test mailbox, which answers in a moment'}.${proven ? '' : ` Only you get it: ${domain.name} is not proven yet.`}`,
  };
}

/** Keeps what the test mailbox thought of a letter, from the head of the letter as it received it. Returns whether the token is known. */
export async function keepVerdicts(ctx: Context, token: string, header: string): Promise<boolean> {
  const letter = await ctx.db
    .selectFrom('test_letters')
    .select(['id', 'from_address', 'verdicts'])
    .where('token', '=', token)
    .executeTakeFirst();
  if (!letter || letter.verdicts) return false;
  const field = (name: string) =>
    new RegExp(`^${name}:([^\\n]*(?:\\n[ \\t][^\\n]*)*)`, 'im').exec(header.replace(/\r\n/g, '\n'))?.[1]?.trim() ?? '';
  const verdicts = verdictsOf({
    authenticationResults: field('Authentication-Results'),
    received: field('Received'),
    fromDomain: letter.from_address.slice(letter.from_address.lastIndexOf('@') + 1),
  });
  await ctx.db
    .updateTable('test_letters')
    .set({ verdicts: JSON.stringify(verdicts), answered_at: ctx.clock.now() })
    .where('id', '=', letter.id)
    .execute();
  return true;
}

/** The last test letter of a domain, or null. */
export async function lastTestLetter(ctx: Context, newsletter: Newsletter, domainId: string): Promise<TestLetterView | null> {
  const row = await ctx.db
    .selectFrom('test_letters')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .where('domain_id', '=', domainId)
    .orderBy('sent_at', 'desc')
    .executeTakeFirst();
  return row
    ? {
        id: row.id,
        from: row.from_address,
        to: row.to_address,
        sentAt: row.sent_at,
        response: row.response,
        verdicts: row.verdicts,
        answeredAt: row.answered_at,
      }
    : null;
}

import { randomBytes } from 'node:crypto';
import { type MailVerdict, verdictsOf } from '@/core/delivery/verdicts';
import { Fault } from '@/core/faults';
import { type Document, run } from '@/core/writing/document';
import { renderHtml } from '@/core/writing/render';
import { renderText } from '@/core/writing/text';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';
import { limit } from '../limits';
import { post, type SingleMail } from '../mail/post';
import { frameOf } from './laid-out';

export type TestLetterView = {
  id: string;
  from: string;
  to: string;
  sentAt: Date;
  /** What there is to say where a copy was not simply taken. */
  response: string;
  delivered: boolean;
  verdicts: MailVerdict[] | null;
  answeredAt: Date | null;
};

/**
 * Sends a test letter the way every letter goes (rendered, signed, over the relay or straight to the mail host): a copy to the writer
 * and one to the test mailbox, which sends back what it thought of it. From a domain that is not proven yet this is all that may leave.
 * It leaves by the post office like everything else; what became of it stands in `lastTestLetter`. Returns a sentence about where it goes. Throws when there is no confirmed sender at the domain.
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
    ? `This letter went the way every letter of ${newsletter.name} goes. If you read it in your inbox, so will your readers.`
    : `This letter came from ${domain.name}, which is not proven yet. Letters to readers wait until its records are right; only you can get one before that.`;
  const document: Document = {
    version: 1,
    nodes: [
      { kind: 'heading', level: 1, inline: run('A test letter') },
      { kind: 'paragraph', inline: run(body) },
    ],
  };
  const frame = { ...frameOf(ctx, newsletter), previewLine: 'Sent by you, to you.' };
  const rendered = { html: await renderHtml(document, frame), text: renderText(document, frame) };
  const mail = (to: string): SingleMail => ({
    newsletterId: newsletter.id,
    kind: 'test letter',
    from: { name: sender.name, address: sender.address, replyTo: `t-${token}@in.${ctx.config.mailDomain}` },
    to,
    subject: `A test letter from ${domain.name}`,
    rendered,
    returnLocal: `t-${token}`,
  });
  await ctx.db.transaction().execute(async (trx) => {
    const own = await post(ctx, trx, mail(person.email));
    const probe = ctx.config.testMailbox ? await post(ctx, trx, mail(ctx.config.testMailbox)) : null;
    await trx
      .insertInto('test_letters')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        domain_id: domain.id,
        token,
        from_address: sender.address,
        to_address: person.email,
        sent_at: ctx.clock.now(),
        own_mail_id: own,
        probe_mail_id: probe,
      })
      .execute();
  });
  const probed = ctx.config.testMailbox ? ' and to the test mailbox, which answers in a moment' : '';
  return {
    said: `On its way to ${person.email}${probed}.${proven ? '' : ` Only you get it: ${domain.name} is not proven yet.`}`,
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

const WENT: Record<string, string> = {
  queued: 'waits',
  claimed: 'is being handed over',
  delivered: 'was taken',
  aside: 'could not be made',
};

/** The last test letter of a domain with what became of it, or null. */
export async function lastTestLetter(ctx: Context, newsletter: Newsletter, domainId: string): Promise<TestLetterView | null> {
  const row = await ctx.db
    .selectFrom('test_letters as t')
    .leftJoin('mails as own', 'own.id', 't.own_mail_id')
    .leftJoin('mails as probe', 'probe.id', 't.probe_mail_id')
    .selectAll('t')
    .select([
      'own.state as own_state',
      'own.response as own_response',
      'probe.state as probe_state',
      'probe.response as probe_response',
    ])
    .where('t.newsletter_id', '=', newsletter.id)
    .where('t.domain_id', '=', domainId)
    .orderBy('t.sent_at', 'desc')
    .executeTakeFirst();
  if (!row) return null;
  const said = (to: string, state: string | null, response: string | null) =>
    state === null || state === 'delivered'
      ? ''
      : `The copy to ${to} ${WENT[state] ?? 'was not taken'}${response ? `: ${response}` : ''}`;
  return {
    id: row.id,
    from: row.from_address,
    to: row.to_address,
    sentAt: row.sent_at,
    response: [
      said(row.to_address, row.own_state, row.own_response),
      said('the test mailbox', row.probe_state, row.probe_response),
    ]
      .filter(Boolean)
      .join('. '),
    delivered: row.own_state === 'delivered',
    verdicts: row.verdicts,
    answeredAt: row.answered_at,
  };
}

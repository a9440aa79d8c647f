import Joi from 'joi';
import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
import { freeMailWarning } from '@/core/senders/free-mail';
import { renderNotice } from '@/core/writing/notice';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { newId } from '../ids';
import { limit } from '../limits';
import { post } from '../mail/outbox';
import { hashToken, mailedToken } from '../secrets';

/** How long a proof link works. */
const PROOF_HOURS = 24;

const email = Joi.string()
  .trim()
  .required()
  .label('Address')
  .custom(
    (value, helpers) => parseAddress(value)?.full ?? helpers.message({ custom: 'This does not look like an email address.' }),
  );

const schema = Joi.object<{ name: string; address: string; replyTo?: string }>({
  name: Joi.string().trim().max(80).required().label('Name'),
  address: email,
  replyTo: email.optional().empty('').label('Reply address'),
});

export type SenderView = {
  id: string;
  name: string;
  address: string;
  domain: string;
  replyTo: string | null;
  state: 'pending' | 'confirmed';
  proofSentAt: Date | null;
  warning: string | null;
};

/** Adds a from-address and mails the link that proves it. */
export async function addSender(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const value = check(schema, raw);
  const address = parseAddress(value.address)!;
  return ctx.db.transaction().execute(async (trx) => {
    const id = newId();
    const added = await trx
      .insertInto('senders')
      .values({
        id,
        newsletter_id: newsletter.id,
        name: value.name,
        address: address.full,
        domain: address.domain,
        reply_to: value.replyTo ?? null,
        created_at: ctx.clock.now(),
      })
      .onConflict((c) => c.columns(['newsletter_id', 'address']).doNothing())
      .returning('id')
      .executeTakeFirst();
    if (!added)
      throw new Fault('conflict', `${address.full} is a sender of yours already.`, {
        address: 'This address is in the list already.',
      });
    await mailProof(ctx, trx, newsletter, { id, name: value.name, address: address.full });
    return { id };
  });
}

/** Mails the proof link again; the earlier link stops working. At most 5 an hour. */
export async function resendProof(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const sender = await ctx.db
    .selectFrom('senders')
    .select(['id', 'name', 'address', 'confirmed_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!sender) throw new Fault('not-found', 'This sender is gone.');
  if (sender.confirmed_at) throw new Fault('conflict', `${sender.address} is confirmed already.`);
  await limit(
    ctx,
    `sender-proof:${id}`,
    5,
    3600,
    'This has been sent five times in an hour. Look in the spam folder, or try again later.',
  );
  await ctx.db.transaction().execute((trx) => mailProof(ctx, trx, newsletter, sender));
}

async function mailProof(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  sender: { id: string; name: string; address: string },
): Promise<void> {
  const { token, hash } = mailedToken();
  const now = ctx.clock.now();
  await db
    .updateTable('senders')
    .set({ proof_hash: hash, proof_sent_at: now, proof_expires_at: new Date(now.getTime() + PROOF_HOURS * 3_600_000) })
    .where('id', '=', sender.id)
    .execute();
  const notice = renderNotice({
    name: 'Inkset',
    colour: '#17645c',
    heading: 'Is this address yours?',
    paragraphs: [
      `${newsletter.name} would like to send letters as “${sender.name}” from ${sender.address}.`,
      `If that is right, click below. The link works once, for ${PROOF_HOURS} hours.`,
    ],
    link: { label: 'Yes, it is mine', url: `${ctx.config.webOrigin}/sender/${token}` },
    footer: [
      'You get this because somebody typed this address as a sender. If it was not you, do nothing: no letter will leave from it.',
    ],
  });
  await post(ctx, db, {
    newsletterId: null,
    kind: 'sender proof',
    to: sender.address,
    subject: `Confirm ${sender.address} as a sender`,
    ...notice,
  });
}

/** A clicked proof link. Clicking it twice is fine; an unknown or old one is a fault with the next step. */
export async function proveSender(
  ctx: Context,
  token: string,
): Promise<{ address: string; newsletter: { slug: string; name: string } }> {
  const sender = await ctx.db
    .selectFrom('senders')
    .innerJoin('newsletters', 'newsletters.id', 'senders.newsletter_id')
    .select([
      'senders.id',
      'address',
      'confirmed_at',
      'proof_expires_at',
      'newsletters.slug',
      'newsletters.name as newsletterName',
    ])
    .where('proof_hash', '=', hashToken(token))
    .executeTakeFirst();
  if (!sender) throw new Fault('not-found', 'This link is not known. A newer one may have been sent; the newest one works.');
  const now = ctx.clock.now();
  if (!sender.confirmed_at) {
    if (sender.proof_expires_at && sender.proof_expires_at < now)
      throw new Fault(
        'expired',
        `This link worked for ${PROOF_HOURS} hours. Send a new one from the Delivery page; nothing else is lost.`,
      );
    await ctx.db.updateTable('senders').set({ confirmed_at: now }).where('id', '=', sender.id).execute();
  }
  return { address: sender.address, newsletter: { slug: sender.slug, name: sender.newsletterName } };
}

/** A newsletter's from-addresses, oldest first. */
export async function sendersOf(ctx: Context, newsletter: Newsletter): Promise<SenderView[]> {
  const rows = await ctx.db
    .selectFrom('senders')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .execute();
  return rows.map((row) => ({
    id: row.id,
    name: row.name,
    address: row.address,
    domain: row.domain,
    replyTo: row.reply_to,
    state: row.confirmed_at ? 'confirmed' : 'pending',
    proofSentAt: row.proof_sent_at,
    warning: freeMailWarning(row.domain),
  }));
}

/** Who confirmation letters come from: the first confirmed sender at an authenticated domain, else the installation. */
export async function voiceOf(
  ctx: Context,
  db: Db,
  newsletter: { id: string; name: string },
): Promise<{ name: string; address: string; replyTo?: string | null }> {
  const sender = await db
    .selectFrom('senders')
    .innerJoin('domains', (join) =>
      join.onRef('domains.newsletter_id', '=', 'senders.newsletter_id').onRef('domains.name', '=', 'senders.domain'),
    )
    .select(['senders.name', 'senders.address', 'senders.reply_to'])
    .where('senders.newsletter_id', '=', newsletter.id)
    .where('senders.confirmed_at', 'is not', null)
    .where('domains.state', '=', 'authenticated')
    .orderBy('senders.created_at')
    .executeTakeFirst();
  return sender
    ? { name: sender.name, address: sender.address, replyTo: sender.reply_to }
    : { name: newsletter.name, address: `hello@${ctx.config.mailDomain}` };
}

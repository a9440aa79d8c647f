import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { parseAddress } from '@/core/readers/address';
import { freeMailWarning } from '@/core/senders/free-mail';
import { lookAlikeWarning } from '@/core/senders/look-alike';
import type { Notice } from '@/core/writing/notice';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { newId } from '../ids';
import { limit, limitMailTo } from '../limits';
import { post } from '../mail/post';
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
  isDefault: boolean;
  proofSentAt: Date | null;
  warnings: string[];
  /** Letters sent from it, and letters and rules that would stop without it. */
  used: { sent: number; waiting: number; rules: number };
};

/** Adds a from-address and mails the link that proves it; that of the person who adds it, which they have proven with their account, is proven already. */
export async function addSender(
  ctx: Context,
  newsletter: Newsletter,
  raw: unknown,
  person?: { email: string },
): Promise<{ id: string }> {
  const value = check(schema, raw);
  const address = parseAddress(value.address)!;
  const own = person !== undefined && parseAddress(person.email)?.key === address.key;
  if (!own) await limitMailTo(ctx, address.full);
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
        confirmed_at: own ? ctx.clock.now() : null,
        created_at: ctx.clock.now(),
      })
      .onConflict((c) => c.columns(['newsletter_id', 'address']).doNothing())
      .returning('id')
      .executeTakeFirst();
    if (!added)
      throw new Fault('conflict', `${address.full} is a sender of yours already.`, {
        address: 'This address is in the list already.',
      });
    if (own) await becomesDefault(trx, newsletter.id, id);
    else await mailProof(ctx, trx, newsletter, { id, name: value.name, address: address.full });
    return { id };
  });
}

/** The first confirmed sender of a newsletter is the one that its letters start with. */
const becomesDefault = (db: Db, newsletterId: string, id: string) =>
  db
    .updateTable('newsletters')
    .set({ default_sender_id: id })
    .where('id', '=', newsletterId)
    .where('default_sender_id', 'is', null)
    .execute();

/**
 * Changes a sender. Another name or reply address holds at once; another address has to be proven anew, and until then letters that use
 * this sender wait. Returns whether a proof was mailed.
 */
export async function changeSender(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  raw: unknown,
): Promise<{ proofSent: boolean }> {
  const value = check(schema, raw);
  const address = parseAddress(value.address)!;
  const sender = await load(ctx, newsletter, id);
  const moved = address.full !== sender.address;
  if (moved) {
    await limitProofs(ctx, id);
    await limitMailTo(ctx, address.full);
  }
  return ctx.db.transaction().execute(async (trx) => {
    const taken = await trx
      .selectFrom('senders')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('address', '=', address.full)
      .where('id', '<>', id)
      .executeTakeFirst();
    if (taken)
      throw new Fault('conflict', `${address.full} is a sender of yours already.`, {
        address: 'This address is in the list already.',
      });
    await trx
      .updateTable('senders')
      .set({
        name: value.name,
        reply_to: value.replyTo ?? null,
        ...(moved ? { address: address.full, domain: address.domain, confirmed_at: null } : {}),
      })
      .where('id', '=', id)
      .execute();
    if (moved) await mailProof(ctx, trx, newsletter, { id, name: value.name, address: address.full });
    return { proofSent: moved };
  });
}

/** Makes a confirmed sender the one that new letters start with. */
export async function setDefaultSender(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const sender = await load(ctx, newsletter, id);
  if (!sender.confirmed_at)
    throw new Fault('conflict', `${sender.address} is not confirmed yet. Click the link that was mailed to it first.`);
  await ctx.db.updateTable('newsletters').set({ default_sender_id: id }).where('id', '=', newsletter.id).execute();
}

/** Removes a sender. Refused, saying what would stop, while letters wait with it or a rule sends by it. */
export async function removeSender(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const sender = await load(ctx, newsletter, id);
  const letters = await ctx.db
    .selectFrom('letters')
    .select('subject')
    .where((eb) =>
      eb.or([
        eb('sender_id', '=', id),
        // Or one of their versions is from it.
        eb.exists(
          eb
            .selectFrom('letter_versions as v')
            .select('v.n')
            .whereRef('v.letter_id', '=', 'letters.id')
            .where('v.sender_id', '=', id),
        ),
      ]),
    )
    .where('state', 'not in', ['sent', 'stopped'])
    .limit(20)
    .execute();
  const rules = await ctx.db.selectFrom('auto_sends').select('name').where('sender_id', '=', id).execute();
  if (letters.length + rules.length > 0) {
    const stops = [
      ...(letters.length
        ? [
            `${counted(letters.length, 'letter', 'letters')} (${letters
              .slice(0, 3)
              .map((letter) => `“${letter.subject}”`)
              .join(', ')})`,
          ]
        : []),
      ...(rules.length ? [`new posts of ${rules.map((rule) => rule.name).join(', ')}`] : []),
    ];
    throw new Fault(
      'conflict',
      `Without ${sender.address} these would stop: ${stops.join(' and ')}. Give them another sender first; nothing was removed.`,
    );
  }
  await ctx.db.deleteFrom('senders').where('id', '=', id).execute();
}

async function load(ctx: Context, newsletter: Newsletter, id: string) {
  const sender = await ctx.db
    .selectFrom('senders')
    .select(['id', 'name', 'address', 'confirmed_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!sender) throw new Fault('not-found', 'This sender is gone.');
  return sender;
}

const limitProofs = (ctx: Context, id: string) =>
  limit(
    ctx,
    `sender-proof:${id}`,
    5,
    3600,
    'This has been sent five times in an hour. Look in the spam folder, or try again later.',
  );

/** Mails the proof link again; the earlier link stops working. At most 5 an hour. */
export async function resendProof(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const sender = await load(ctx, newsletter, id);
  if (sender.confirmed_at) throw new Fault('conflict', `${sender.address} is confirmed already.`);
  await limitProofs(ctx, id);
  await limitMailTo(ctx, sender.address);
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
  const notice: Notice = {
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
  };
  await post(ctx, db, {
    newsletterId: null,
    kind: 'sender proof',
    to: sender.address,
    subject: `Confirm ${sender.address} as a sender`,
    notice,
  });
}

export type Proof = { address: string; done: boolean; newsletter: { slug: string; name: string } };

/** What a proof link is about; looking changes nothing. Throws "not-found" or "expired". */
export async function proofOf(ctx: Context, token: string): Promise<Proof> {
  const sender = await ctx.db
    .selectFrom('senders')
    .innerJoin('newsletters', 'newsletters.id', 'senders.newsletter_id')
    .select(['address', 'confirmed_at', 'proof_expires_at', 'newsletters.slug', 'newsletters.name'])
    .where('proof_hash', '=', hashToken(token))
    .executeTakeFirst();
  if (!sender) throw new Fault('not-found', 'This link is not known. A newer one may have been sent; the newest one works.');
  if (!sender.confirmed_at && sender.proof_expires_at && sender.proof_expires_at < ctx.clock.now())
    throw new Fault(
      'expired',
      `This link worked for ${PROOF_HOURS} hours. Send a new one from the Delivery page; nothing else is lost.`,
    );
  return { address: sender.address, done: sender.confirmed_at !== null, newsletter: { slug: sender.slug, name: sender.name } };
}

/**
 * A pressed proof link. It proves the very address that the link was mailed to, in one statement: a sender that is given another address at this
 * moment has another link. Pressing it again changes nothing. The first confirmed sender becomes the newsletter's default. Throws as `proofOf`.
 */
export async function proveSender(ctx: Context, token: string): Promise<Proof> {
  const now = ctx.clock.now();
  await ctx.db.transaction().execute(async (trx) => {
    const proven = await trx
      .updateTable('senders')
      .set({ confirmed_at: now })
      .where('proof_hash', '=', hashToken(token))
      .where('confirmed_at', 'is', null)
      .where('proof_expires_at', '>=', now)
      .returning(['id', 'newsletter_id'])
      .executeTakeFirst();
    if (proven) await becomesDefault(trx, proven.newsletter_id, proven.id);
  });
  return proofOf(ctx, token);
}

/** A newsletter's from-addresses, oldest first. */
export async function sendersOf(ctx: Context, newsletter: Newsletter): Promise<SenderView[]> {
  const rows = await ctx.db
    .selectFrom('senders as s')
    .selectAll('s')
    .select(sql<number>`(select count(*)::int from letters l where l.sender_id = s.id and l.state = 'sent')`.as('sent'))
    .select(sql<number>`(select count(*)::int from letters l where l.sender_id = s.id and l.state <> 'sent')`.as('waiting'))
    .select(sql<number>`(select count(*)::int from auto_sends a where a.sender_id = s.id)`.as('rules'))
    .where('s.newsletter_id', '=', newsletter.id)
    .orderBy('s.created_at')
    .execute();
  const domains = await ctx.db.selectFrom('domains').select('name').where('newsletter_id', '=', newsletter.id).execute();
  return rows.map((row) => ({
    id: row.id,
    name: row.name,
    address: row.address,
    domain: row.domain,
    replyTo: row.reply_to,
    state: row.confirmed_at ? 'confirmed' : 'pending',
    isDefault: newsletter.default_sender_id === row.id,
    proofSentAt: row.proof_sent_at,
    warnings: [
      freeMailWarning(row.domain),
      lookAlikeWarning(
        row.domain,
        domains.map((domain) => domain.name),
      ),
    ].filter((warning) => warning !== null),
    used: { sent: row.sent, waiting: row.waiting, rules: row.rules },
  }));
}

export type Voice = { name: string; address: string; replyTo?: string | null };
export type KnownVoice = Voice & { id: string; newsletterId: string };

/** The confirmed senders at authenticated domains of these newsletters, each newsletter's default one first. */
export async function voicesOf(db: Db, newsletterIds: string[]): Promise<KnownVoice[]> {
  return db
    .selectFrom('senders')
    .innerJoin('domains', (join) =>
      join.onRef('domains.newsletter_id', '=', 'senders.newsletter_id').onRef('domains.name', '=', 'senders.domain'),
    )
    .innerJoin('newsletters', 'newsletters.id', 'senders.newsletter_id')
    .select([
      'senders.id',
      'senders.newsletter_id as newsletterId',
      'senders.name',
      'senders.address',
      'senders.reply_to as replyTo',
    ])
    .where(sql<boolean>`senders.newsletter_id = any(${[...new Set(newsletterIds)]}::uuid[])`)
    .where('senders.confirmed_at', 'is not', null)
    .where('domains.state', '=', 'authenticated')
    .orderBy(sql`senders.id = newsletters.default_sender_id`, (o) => o.desc().nullsLast())
    .orderBy('senders.created_at')
    .execute();
}

/** Who single letters come from: the `wanted` sender, else the newsletter's first voice; where it has none, the installation. */
export function pickVoice(
  ctx: Pick<Context, 'config'>,
  voices: KnownVoice[],
  newsletter: { id: string; name: string },
  wanted = '',
): Voice {
  const own = voices.filter((voice) => voice.newsletterId === newsletter.id);
  return (
    own.find((voice) => voice.id === wanted) ?? own[0] ?? { name: newsletter.name, address: `hello@${ctx.config.mailDomain}` }
  );
}

/** Who a newsletter's single letters come from now (see `pickVoice`). */
export const voiceOf = async (ctx: Context, db: Db, newsletter: { id: string; name: string }, wanted = ''): Promise<Voice> =>
  pickVoice(ctx, await voicesOf(db, [newsletter.id]), newsletter, wanted);

import Joi from 'joi';
import { Fault } from '@/core/faults';
import { ROLE_WORDS, ROLES, type Role } from '@/core/newsletters/roles';
import { parseAddress } from '@/core/readers/address';
import type { Notice } from '@/core/writing/notice';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { newId } from '../ids';
import { limit, limitMailTo } from '../limits';
import { post } from '../mail/post';
import { hashToken, mailedToken } from '../secrets';

const INVITATION_DAYS = 7;
export type MemberView = { userId: string; name: string; email: string; role: Role };
export type InvitationView = { id: string; email: string; role: Role; sentAt: Date; expired: boolean };

/** Who hears of what needs an owner. */
export function ownersOf(db: Db, newsletterId: string): Promise<{ email: string; name: string }[]> {
  return db
    .selectFrom('members')
    .innerJoin('user', 'user.id', 'members.user_id')
    .select(['user.email', 'user.name'])
    .where('newsletter_id', '=', newsletterId)
    .where('role', '=', 'owner')
    .execute();
}

/** A newsletter's members and open invitations. */
export async function membersOf(
  ctx: Context,
  newsletter: Newsletter,
): Promise<{ members: MemberView[]; invitations: InvitationView[] }> {
  const members = await ctx.db
    .selectFrom('members')
    .innerJoin('user', 'user.id', 'members.user_id')
    .select(['members.user_id as userId', 'user.name', 'user.email', 'members.role'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('members.created_at')
    .execute();
  const open = await ctx.db
    .selectFrom('invitations')
    .select(['id', 'email', 'role', 'sent_at', 'expires_at'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('sent_at')
    .execute();
  const now = ctx.clock.now();
  return {
    members,
    invitations: open.map((row) => ({
      id: row.id,
      email: row.email,
      role: row.role,
      sentAt: row.sent_at,
      expired: row.expires_at < now,
    })),
  };
}

const schema = Joi.object<{ email: string; role: Role }>({
  email: Joi.string()
    .trim()
    .required()
    .label('Address')
    .custom(
      (value, helpers) => parseAddress(value)?.full ?? helpers.message({ custom: 'This does not look like an email address.' }),
    ),
  role: Joi.string()
    .valid(...ROLES)
    .required()
    .label('Role'),
});

/** Invites somebody by mail; answers the invitation. Inviting the same address again sends a new link and changes the role; the older link stops working. */
export async function invite(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const { email, role } = check(schema, raw);
  const { members } = await membersOf(ctx, newsletter);
  if (members.some((member) => member.email.toLowerCase() === email.toLowerCase()))
    throw new Fault('conflict', `${email} is a member already.`, { email: 'A member already.' });
  await limit(
    ctx,
    `invite:${newsletter.id}`,
    20,
    3600,
    'That were many invitations in an hour. Please go on later; nothing was lost.',
  );
  await limitMailTo(ctx, email);
  const { token, hash } = mailedToken();
  const now = ctx.clock.now();
  const entry = { role, token_hash: hash, sent_at: now, expires_at: new Date(now.getTime() + INVITATION_DAYS * 86_400_000) };
  const notice: Notice = {
    name: newsletter.name,
    colour: '#17645c',
    heading: `Help with ${newsletter.name}`,
    paragraphs: [
      `You are invited as ${role}: you ${ROLE_WORDS[role]}.`,
      `Sign in with this address first, or open an account with it; then the link works, for ${INVITATION_DAYS} days.`,
    ],
    link: { label: 'Accept the invitation', url: `${ctx.config.webOrigin}/invitation/${token}` },
    footer: [`You get this because the owner of ${newsletter.name} typed this address. If it means nothing to you, do nothing.`],
  };
  return ctx.db.transaction().execute(async (trx) => {
    const made = await trx
      .insertInto('invitations')
      .values({ id: newId(), newsletter_id: newsletter.id, email, ...entry })
      .onConflict((c) => c.columns(['newsletter_id', 'email']).doUpdateSet(entry))
      .returning('id')
      .executeTakeFirstOrThrow();
    await post(ctx, trx, {
      newsletterId: null,
      kind: 'invitation',
      to: email,
      subject: `An invitation to ${newsletter.name}`,
      notice,
    });
    return made;
  });
}

/** What an invitation is about, for whoever is signed in; looking changes nothing. Throws "not-found" or "expired". */
export async function invitationOf(
  ctx: Context,
  token: string,
): Promise<{ newsletter: string; email: string; role: Role; does: string }> {
  const row = await ctx.db
    .selectFrom('invitations as i')
    .innerJoin('newsletters as n', 'n.id', 'i.newsletter_id')
    .select(['i.email', 'i.role', 'i.expires_at', 'n.name'])
    .where('token_hash', '=', hashToken(token))
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This invitation is not known, or was used already. Ask for a new one.');
  if (row.expires_at < ctx.clock.now())
    throw new Fault('expired', `This invitation worked for ${INVITATION_DAYS} days. Ask for a new one.`);
  return { newsletter: row.name, email: row.email, role: row.role, does: ROLE_WORDS[row.role] };
}

/** An accepted invitation, by whoever is signed in: their address has to be the invited one. Used once. */
export async function acceptInvitation(
  ctx: Context,
  person: { id: string; email: string },
  token: string,
): Promise<{ slug: string; name: string }> {
  return ctx.db.transaction().execute(async (trx) => {
    const row = await trx
      .selectFrom('invitations as i')
      .innerJoin('newsletters as n', 'n.id', 'i.newsletter_id')
      .select(['i.id', 'i.newsletter_id', 'i.email', 'i.role', 'i.expires_at', 'n.slug', 'n.name'])
      .where('token_hash', '=', hashToken(token))
      .forUpdate('i')
      .executeTakeFirst();
    if (!row) throw new Fault('not-found', 'This invitation is not known, or was used already. Ask for a new one.');
    if (row.expires_at < ctx.clock.now())
      throw new Fault('expired', `This invitation worked for ${INVITATION_DAYS} days. Ask for a new one.`);
    if (row.email.toLowerCase() !== person.email.toLowerCase())
      throw new Fault(
        'forbidden',
        `This invitation is for ${row.email}, and you are signed in as ${person.email}. Sign in with that address.`,
      );
    await trx
      .insertInto('members')
      .values({ newsletter_id: row.newsletter_id, user_id: person.id, role: row.role, created_at: ctx.clock.now() })
      .onConflict((c) => c.doNothing())
      .execute();
    await trx.deleteFrom('invitations').where('id', '=', row.id).execute();
    return { slug: row.slug, name: row.name };
  });
}

/** Takes an invitation back. */
export async function withdraw(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await ctx.db.deleteFrom('invitations').where('newsletter_id', '=', newsletter.id).where('id', '=', id).execute();
}

/** Changes what a member may do, or takes them off (null). There is always an owner left. */
export async function setRole(ctx: Context, newsletter: Newsletter, userId: string, role: Role | null): Promise<void> {
  if (role !== null && !ROLES.includes(role)) throw new Fault('invalid', 'There is no such role.');
  await ctx.db.transaction().execute(async (trx) => {
    const all = await trx
      .selectFrom('members')
      .select(['user_id', 'role'])
      .where('newsletter_id', '=', newsletter.id)
      .forUpdate()
      .execute();
    if (!all.some((member) => member.user_id === userId)) throw new Fault('not-found', 'This member is gone.');
    if (role !== 'owner' && !all.some((member) => member.role === 'owner' && member.user_id !== userId))
      throw new Fault('conflict', 'A newsletter needs an owner. Make somebody else one first.');
    const one = { newsletter: newsletter.id, user: userId };
    if (role === null)
      await trx.deleteFrom('members').where('newsletter_id', '=', one.newsletter).where('user_id', '=', one.user).execute();
    else
      await trx
        .updateTable('members')
        .set({ role })
        .where('newsletter_id', '=', one.newsletter)
        .where('user_id', '=', one.user)
        .execute();
  });
}

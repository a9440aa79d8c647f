import Joi from 'joi';
import { Fault } from '@/core/faults';
import { escapeHtml } from '@/core/html';
import { parseAddress } from '@/core/readers/address';
import type { Document, Node } from '@/core/writing/document';
import { lineForAll } from '@/core/writing/line';
import { chipOf, filledFor, SLOT } from '@/core/writing/slots';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { limit } from '../limits';
import { postAll, type SingleMail } from '../mail/post';
import { type Drawn, drawn, laidOut, siteUrl } from './laid-out';
import { versionsOf } from './versions';

const MOST_TO = 5;
const schema = Joi.object<{ to: string }>({ to: Joi.string().trim().max(800).required().label('To') });

/** A rendered letter as somebody who gave no name would get it: chips by what stands for them, links as they are. */
const filled = (template: string, page: string, html: boolean, inside: (segmentId: string) => boolean | null): string =>
  filledFor(
    template,
    (name) => {
      const value = chipOf(name)?.fallback ?? (name === SLOT.pixel ? '' : page);
      return html ? escapeHtml(value) : value;
    },
    inside,
  );

/**
 * Sends a letter as it stands, each of its versions by itself, to some addresses, the way every mail of the newsletter goes. That it is a proof stands over it and not in its subject, its
 * links lead where they will, and nothing of it is counted. Throws "invalid" for an address that is none, "conflict" without a confirmed sender, "too-many".
 */
export async function sendProof(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  id: string,
  raw: unknown,
): Promise<{ said: string }> {
  const addresses = addressesIn(raw);
  return mailProofs(ctx, newsletter, person, addresses, await provedOf(ctx, newsletter, id));
}

/** A letter as it stands, each of its versions by itself. Throws "not-found", and "conflict" without a confirmed sender. */
export async function provedOf(ctx: Context, newsletter: Newsletter, id: string): Promise<Proved[]> {
  const letter = await ctx.db
    .selectFrom('letters as l')
    .leftJoin('senders as s', 's.id', 'l.sender_id')
    .select(['l.post_id', 'l.layout_id', 'l.subject', 'l.preview_line', 'l.own_text', 'l.due_at'])
    .select(['s.name', 's.address', 's.reply_to', 's.confirmed_at'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', id)
    .executeTakeFirst();
  if (!letter?.post_id) throw new Fault('not-found', 'There is no such letter.');
  if (!letter.address || !letter.confirmed_at)
    throw new Fault('conflict', 'Its sender is not confirmed yet. Confirm it, or choose another.');
  const usual = { name: letter.name ?? newsletter.name, address: letter.address, replyTo: letter.reply_to };
  // Each version by itself: what some are to get is proved too.
  const versions = [
    { subject: letter.subject, beginning: '', from: usual },
    ...(await versionsOf(ctx.db, id)).map((one) => ({
      subject: one.subject || letter.subject,
      beginning: one.beginning,
      from: one.sender?.confirmed ? { name: one.sender.name, address: one.sender.address, replyTo: letter.reply_to } : usual,
    })),
  ];
  const laid: Proved[] = [];
  for (const [n, version] of versions.entries())
    laid.push({
      ...version,
      laid: await laidOut(ctx, ctx.db, newsletter, { ...letter, subject: version.subject, beginning: version.beginning }),
      which: versions.length > 1 ? ` It is version ${n + 1} of ${versions.length}.` : '',
    });
  return laid;
}

type From = { name: string; address: string; replyTo: string | null };
/** A letter to be proved: how it is laid out, and what its note says besides. */
export type Proved = { subject: string; from: From; laid: Drawn; which: string };

/** The addresses that somebody typed for a proof. Throws "invalid" for one that is none, and for too many. */
export function addressesIn(raw: unknown): string[] {
  const { to } = check(schema, raw);
  const addresses = [...new Set(to.split(/[\s,;]+/).filter(Boolean))].map((one) => ({ typed: one, address: parseAddress(one) }));
  const odd = addresses.find((one) => !one.address);
  if (odd)
    throw new Fault('invalid', `“${odd.typed.slice(0, 60)}” is not an address. Nothing was sent.`, {
      to: 'One of these is not an address.',
    });
  if (addresses.length > MOST_TO) throw new Fault('invalid', `At most ${MOST_TO} addresses.`, { to: `At most ${MOST_TO}.` });
  return addresses.map((one) => one.address!.full);
}

/** Mails letters as proofs: what they are stands over them, their links lead where they will, and nothing of them is counted. Throws "too-many". */
export async function mailProofs(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  addresses: string[],
  proved: Proved[],
): Promise<{ said: string }> {
  await limit(ctx, `proof:${newsletter.id}`, 60, 3_600, 'That were sixty proofs in an hour. Please wait a while.');
  const mails: ProofMail[] = [];
  for (const one of proved)
    mails.push(
      await proofMail(
        ctx,
        newsletter,
        one,
        `A proof, asked for by ${person.name}.${one.which} Readers do not see this line; they see their own names and links.`,
      ),
    );
  await ctx.db.transaction().execute((trx) =>
    postAll(
      ctx,
      trx,
      addresses.flatMap((to) => mails.map((mail) => ({ newsletterId: newsletter.id, kind: 'test letter', to, ...mail }))),
    ),
  );
  return { said: `A proof is on its way to ${addresses.join(', ')}.` };
}

export type ProofMail = Pick<SingleMail, 'from' | 'subject' | 'rendered'>;

/** A letter as one mail, with a note of what it is over it, or under it where it is to look as it will. */
export async function proofMail(
  ctx: Context,
  newsletter: Newsletter,
  { subject, from, laid }: Proved,
  note: string,
  where: 'over' | 'under' = 'over',
): Promise<ProofMail> {
  const box: Node = { kind: 'call-out', nodes: [{ kind: 'paragraph', inline: [{ kind: 'text', text: note }] }] };
  const around = <T>(first: T, rest: T[]): T[] => (where === 'over' ? [first, ...rest] : [...rest, first]);
  const document: Document = { version: 1, nodes: around(box, laid.document.nodes) };
  const ownText = laid.ownText === null ? null : around(note, [laid.ownText]).join('\n\n');
  const made = await drawn({ ...laid, document, ownText, frame: { ...laid.frame, countsOpens: false } });
  const page = siteUrl(ctx, newsletter);
  return {
    from,
    subject: lineForAll(subject) || 'A letter without a subject',
    // Whoever proves a letter sees the parts of those whom they are for.
    rendered: { html: filled(made.html, page, true, () => true), text: filled(made.text, page, false, () => true) },
  };
}

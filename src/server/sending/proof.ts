import Joi from 'joi';
import { Fault } from '@/core/faults';
import { escapeHtml } from '@/core/html';
import { parseAddress } from '@/core/readers/address';
import type { Document } from '@/core/writing/document';
import { lineForAll } from '@/core/writing/line';
import { chipOf, filledFor, SLOT } from '@/core/writing/slots';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { limit } from '../limits';
import { postAll } from '../mail/post';
import { drawn, laidOut, siteUrl } from './laid-out';

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
 * Sends a letter as it stands to some addresses, the way every mail of the newsletter goes. That it is a proof stands over it and not in its subject, its
 * links lead where they will, and nothing of it is counted. Throws "invalid" for an address that is none, "conflict" without a confirmed sender, "too-many".
 */
export async function sendProof(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  id: string,
  raw: unknown,
): Promise<{ said: string }> {
  const { to } = check(schema, raw);
  const addresses = [...new Set(to.split(/[\s,;]+/).filter(Boolean))].map((one) => ({ typed: one, address: parseAddress(one) }));
  const odd = addresses.find((one) => !one.address);
  if (odd)
    throw new Fault('invalid', `“${odd.typed.slice(0, 60)}” is not an address. Nothing was sent.`, {
      to: 'One of these is not an address.',
    });
  if (addresses.length > MOST_TO) throw new Fault('invalid', `At most ${MOST_TO} addresses.`, { to: `At most ${MOST_TO}.` });
  const letter = await ctx.db
    .selectFrom('letters as l')
    .leftJoin('senders as s', 's.id', 'l.sender_id')
    .select(['l.post_id', 'l.layout_id', 'l.subjects', 'l.preview_line', 'l.own_text', 'l.due_at'])
    .select(['s.name', 's.address', 's.reply_to', 's.confirmed_at'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', id)
    .executeTakeFirst();
  if (!letter?.post_id) throw new Fault('not-found', 'There is no such letter.');
  if (!letter.address || !letter.confirmed_at)
    throw new Fault('conflict', 'Its sender is not confirmed yet. Confirm it, or choose another.');
  await limit(ctx, `proof:${newsletter.id}`, 60, 3_600, 'That were sixty proofs in an hour. Please wait a while.');
  const laid = await laidOut(ctx, ctx.db, newsletter, letter);
  const note = `A proof, asked for by ${person.name}. Readers do not see this line; they see their own names and links.`;
  const document: Document = {
    version: 1,
    nodes: [{ kind: 'call-out', nodes: [{ kind: 'paragraph', inline: [{ kind: 'text', text: note }] }] }, ...laid.document.nodes],
  };
  const ownText = laid.ownText === null ? null : `${note}\n\n${laid.ownText}`;
  const made = await drawn({ ...laid, document, ownText, frame: { ...laid.frame, countsOpens: false } });
  const page = siteUrl(ctx, newsletter);
  // Whoever proves a letter sees the parts of those whom they are for.
  const html = filled(made.html, page, true, () => true);
  const text = filled(made.text, page, false, () => true);
  const from = { name: letter.name ?? newsletter.name, address: letter.address, replyTo: letter.reply_to };
  const subject = lineForAll(letter.subjects[0] ?? '') || 'A letter without a subject';
  await ctx.db.transaction().execute((trx) =>
    postAll(
      ctx,
      trx,
      addresses.map(({ address }) => ({
        newsletterId: newsletter.id,
        kind: 'test letter',
        from,
        to: address!.full,
        subject,
        rendered: { html, text },
      })),
    ),
  );
  return { said: `A proof is on its way to ${addresses.map((one) => one.address!.full).join(', ')}.` };
}

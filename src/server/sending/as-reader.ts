import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { escapeHtml } from '@/core/html';
import { parseAddress } from '@/core/readers/address';
import { chipOf, filledFor, pieces, slot } from '@/core/writing/slots';
import { renderText, textToEdit } from '@/core/writing/text';
import type { Context, Newsletter } from '../context';
import { conditionSql } from '../readers/conditions';
import { readyAudience } from './audience';
import { type Drawn, drawn, laidOut, textMark } from './laid-out';
import { answerSql, conditionOf, partsOf } from './parts';

/** A letter as somebody would have it who is no reader in particular, or as one reader has it. */
export type AsReader = { html: string; text: string; edit: string; own: boolean; follows: boolean; as: string };

type Known = { name: string; fields: Record<string, string>; segments: Set<string> };

/** What a letter's chips and parts ask of one reader. Throws "not-found" for an address that reads nothing here. */
async function knownOfReader(ctx: Context, newsletter: Newsletter, address: string, { chips, segments }: Drawn): Promise<Known> {
  const reader = await ctx.db
    .selectFrom('readers')
    .select(['id', 'address'])
    .where('newsletter_id', '=', newsletter.id)
    .where('address_key', '=', parseAddress(address)?.key ?? '')
    .executeTakeFirst();
  if (!reader) throw new Fault('not-found', `Nobody of that address reads ${newsletter.name}.`);
  const fields: Record<string, string> = {};
  for (const field of new Set(chips.map((chip) => chip.field))) {
    const { rows } = await sql<{ said: string | null }>`
      select ${answerSql(field)} as said from readers r where r.id = ${reader.id}`.execute(ctx.db);
    fields[field] = rows[0]?.said ?? '';
  }
  const inside = new Set<string>();
  const ready = await readyAudience(ctx, ctx.db, newsletter, partsOf(segments));
  for (const [n, part] of ready.audience.to.entries()) {
    const condition = conditionOf(part);
    if (!condition) continue;
    const { rows } = await sql`
      select 1 from readers r where r.id = ${reader.id} and ${conditionSql(condition, ready.moment, ready.known)}`.execute(
      ctx.db,
    );
    if (rows.length) inside.add(segments[n]!);
  }
  return { name: reader.address, fields, segments: inside };
}

/** How a letter would look, were it to leave now, to the reader of an address, or to somebody who gave nothing. Throws "not-found". */
export async function previewAs(ctx: Context, newsletter: Newsletter, letterId: string, address: string): Promise<AsReader> {
  const letter = await ctx.db
    .selectFrom('letters')
    .select(['post_id', 'layout_id', 'preview_line', 'subject', 'own_text', 'own_text_of', 'due_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', letterId)
    .executeTakeFirst();
  if (!letter?.post_id) throw new Fault('not-found', 'There is no such letter.');
  const laid = await laidOut(ctx, ctx.db, newsletter, letter);
  const made = await drawn(laid);
  const known = address.trim() ? await knownOfReader(ctx, newsletter, address, laid) : null;
  const fill = (template: string, html: boolean) =>
    filledFor(
      template,
      (name) => {
        const chip = chipOf(name);
        if (!chip) return slot(name);
        const said = known?.fields[chip.field] || chip.fallback;
        return html ? escapeHtml(said) : said;
      },
      (segmentId) => known?.segments.has(segmentId) ?? false,
    );
  const follows = letter.own_text === null || letter.own_text_of === textMark(renderText(laid.document, laid.frame));
  return {
    html: fill(made.html, true),
    text: fill(made.text, false),
    edit: letter.own_text ?? textToEdit(laid.document, laid.frame),
    own: letter.own_text !== null,
    follows,
    as: known ? `As ${known.name} has it.` : 'As somebody has it who gave no name and is in no segment.',
  };
}

const MOST_TEXT = 200_000;

/** Keeps a letter's text part as its writer wrote it; null has it follow the letter again. Throws "conflict" once the letter has begun to leave. */
export async function saveOwnText(ctx: Context, newsletter: Newsletter, letterId: string, text: string | null): Promise<void> {
  if (text !== null && text.length > MOST_TEXT)
    throw new Fault('invalid', 'This is longer than any mail program shows.', { text: 'Too long.' });
  const letter = await ctx.db
    .selectFrom('letters')
    .select(['post_id', 'layout_id', 'preview_line', 'subject', 'own_text', 'due_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', letterId)
    .executeTakeFirst();
  if (!letter?.post_id) throw new Fault('not-found', 'There is no such letter.');
  const laid = await laidOut(ctx, ctx.db, newsletter, letter);
  const said =
    text === null
      ? null
      : pieces(text)
          .map((piece) => (piece.kind === 'text' ? piece.text : ''))
          .join('')
          .replace(/\r\n?/g, '\n')
          .replace(/\0/g, '');
  const result = await ctx.db
    .updateTable('letters')
    .set({ own_text: said, own_text_of: said === null ? null : textMark(renderText(laid.document, laid.frame)) })
    .where('id', '=', letterId)
    .where('state', 'in', ['draft', 'scheduled', 'held'])
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n) throw new Fault('conflict', 'This letter has begun to leave already.');
}

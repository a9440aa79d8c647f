import { sql } from 'kysely';
import { escapeHtml } from '@/core/html';
import { leaveToken, readLeaveToken } from '@/core/sending/token';
import { chipOf, filledFor, SLOT } from '@/core/writing/slots';
import type { Context } from '../context';
import { saying } from './page';
import { answer, type PublicAnswer } from './request';

type Copy = {
  html: string | null;
  letter_id: string;
  reader_id: string;
  chips: Record<string, string> | null;
  name: string;
};

/**
 * GET /e/see/TOKEN: a letter in a browser, as the reader has it whose link this is. Nothing of it is counted, its links lead where they will, and it runs
 * nothing. Whoever was erased, and what is no longer kept, is not shown.
 */
export async function seePage(ctx: Context, token: string): Promise<PublicAnswer> {
  const gone = () =>
    saying(
      'Not found',
      'This letter is not kept any more',
      'Perhaps a part of the address is missing, or it has been deleted.',
      404,
    );
  const ref = readLeaveToken(token, 'see', ctx.config.keys);
  if (!ref?.delivery) return gone();
  const { rows } = await sql<Copy>`
    select l.html, l.id as letter_id, d.reader_id, d.chips, n.name from deliveries d join letters l on l.id = d.letter_id join newsletters n on n.id = l.newsletter_id
    where d.id = ${String(ref.delivery.id)}::bigint and d.sent_on = ${ref.delivery.sentOn}::date and d.reader_id = ${ref.readerId}::uuid`.execute(
    ctx.db,
  );
  const copy = rows[0];
  if (!copy?.html) return gone();
  const links = await ctx.db
    .selectFrom('letter_links')
    .select(['position', 'url'])
    .where('letter_id', '=', copy.letter_id)
    .execute();
  const leadsTo = new Map(links.map((link) => [`link:${link.position}`, link.url]));
  const own = (purpose: 'leave' | 'choices' | 'stay' | 'see') =>
    `${ctx.config.linkOrigin}/e/${purpose}/${leaveToken(ref, purpose, ctx.config.keys)}`;
  const html = filledFor(
    copy.html,
    (name) => {
      const chip = chipOf(name);
      if (chip) return escapeHtml(copy.chips?.[chip.field] || chip.fallback);
      if (name === SLOT.pixel) return 'data:,';
      if (name === SLOT.leave || name === SLOT.choices || name === SLOT.stay || name === SLOT.see) return escapeHtml(own(name));
      return escapeHtml(leadsTo.get(name) ?? ctx.config.webOrigin);
    },
    (segmentId) => copy.chips?.[`in:${segmentId}`] === '1',
  );
  return answer(html, {
    headers: {
      'content-type': 'text/html; charset=utf-8',
      'cache-control': 'private, no-store',
      'referrer-policy': 'no-referrer',
      'x-robots-tag': 'noindex',
      'x-content-type-options': 'nosniff',
      'content-security-policy':
        "default-src 'none'; style-src 'unsafe-inline'; img-src https: http: data:; frame-ancestors 'none'; sandbox allow-popups allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation",
    },
  });
}

import { may } from '@/core/newsletters/roles';
import { slugify } from '@/core/newsletters/slug';
import { lineForAll } from '@/core/writing/line';
import { recipientsCsv } from '@/server/sending/results';
import { letterOf } from '@/server/sending/views';
import { csvAnswer } from '../../../../../../../csv-answer';
import { deskOf, orNotFound } from '../../../../../../../desk';
import { shelfOf } from '../shelf';

/** A letter's recipients, or those of one shelf, as a CSV. */
export async function GET(request: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  // Who may only look takes no addresses out, here as little as by an export.
  if (!may(newsletter.role, 'edit'))
    return new Response('You may not take readers out of this newsletter.', {
      status: 403,
      headers: { 'content-type': 'text/plain; charset=utf-8' },
    });
  const letter = await orNotFound(letterOf(ctx, newsletter, id));
  const asked = new URL(request.url).searchParams;
  const shelf = shelfOf(asked.get('show'));
  const name = `${slugify(lineForAll(letter.subject)) || 'letter'}${shelf === 'all' ? '' : `-${slugify(shelf)}`}.csv`;
  return csvAnswer(recipientsCsv(ctx, newsletter, id, shelf, asked.get('find') ?? ''), name);
}

import { importPage, rejectedRows } from '@/server/transfer/imports';
import { csvAnswer } from '../../../../../../../csv-answer';
import { deskOf, orNotFound } from '../../../../../../../desk';

/** The rows of an import that could not be brought, each with its reason, as a CSV. */
export async function GET(_request: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const { name } = await orNotFound(importPage(ctx, newsletter, id));
  return csvAnswer(rejectedRows(ctx, newsletter, id), `to mend, of ${name.replace(/\.csv$/i, '')}.csv`);
}

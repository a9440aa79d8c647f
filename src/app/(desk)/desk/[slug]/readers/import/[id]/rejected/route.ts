import { importPage, rejectedRows } from '@/server/transfer/imports';
import { deskOf, orNotFound } from '../../../../../../../desk';

/** The rows of an import that could not be brought, each with its reason, as a CSV. */
export async function GET(_request: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const { name } = await orNotFound(importPage(ctx, newsletter, id));
  const rows = rejectedRows(ctx, newsletter, id);
  const body = new ReadableStream<Uint8Array>({
    async pull(controller) {
      const { value, done } = await rows.next();
      if (done) controller.close();
      else controller.enqueue(new TextEncoder().encode(value));
    },
  });
  return new Response(body, {
    headers: {
      'content-type': 'text/csv; charset=utf-8',
      'content-disposition': `attachment; filename*=UTF-8''${encodeURIComponent(`to mend, of ${name.replace(/\.csv$/i, '')}.csv`)}`,
      'cache-control': 'no-store',
    },
  });
}

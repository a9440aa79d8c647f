import { dataOf } from '@/server/keeping/profile';
import { deskOf, orNotFound } from '../../../../../../desk';

/** Everything that is kept of one reader, as a file for them to have. */
export async function GET(_: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const data = await orNotFound(dataOf(ctx, newsletter, id));
  return new Response(JSON.stringify(data, null, 2), {
    headers: {
      'content-type': 'application/json; charset=utf-8',
      'content-disposition': `attachment; filename="reader-${id}.json"`,
      'cache-control': 'private, no-store',
    },
  });
}

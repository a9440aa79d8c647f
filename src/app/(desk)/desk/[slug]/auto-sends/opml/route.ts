import { opmlOf } from '@/server/autosend/opml';
import { deskOf } from '../../../../../desk';

type Params = { params: Promise<{ slug: string }> };

/** All feeds of a newsletter's rules as OPML. */
export async function GET(_request: Request, { params }: Params): Promise<Response> {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  return new Response(await opmlOf(ctx, newsletter), {
    headers: {
      'content-type': 'text/x-opml; charset=utf-8',
      'content-disposition': `attachment; filename*=UTF-8''${encodeURIComponent(`${slug}-feeds.opml`)}`,
      'cache-control': 'no-store',
    },
  });
}

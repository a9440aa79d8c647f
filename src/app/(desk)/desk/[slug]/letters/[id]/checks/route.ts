import { lookOver } from '@/server/sending/look-over';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** What stands in the way of a letter beside its words. */
export async function GET(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'look', (ctx, newsletter) => lookOver(ctx, newsletter, id));
}

import { conditionOf, readView } from '@/core/readers/view';
import { tablePage } from '@/server/readers/table';
import { deskOf } from '../../../../../desk';

/** Further rows of the readers' table, for the view and the place that the address says. */
export async function GET(request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { ctx, newsletter } = await deskOf((await params).slug);
  const query = Object.fromEntries(new URL(request.url).searchParams);
  const view = readView(query);
  const page = await tablePage(ctx, newsletter, { find: view.find, condition: conditionOf(view) }, view.order, query.before);
  return Response.json(page);
}

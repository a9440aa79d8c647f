import { conditionOf, readView } from '@/core/readers/view';
import { howMany } from '@/server/readers/table';
import { deskOf } from '../../../../../desk';

/** How many people a view shows. */
export async function GET(request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { ctx, newsletter } = await deskOf((await params).slug);
  const view = readView(Object.fromEntries(new URL(request.url).searchParams));
  return Response.json({ people: await howMany(ctx, newsletter, { find: view.find, condition: conditionOf(view) }) });
}

import { conditionOf, readView } from '@/core/readers/view';
import { howMany, howManySoon } from '@/server/readers/table';
import { deskOf } from '../../../../../desk';

/** How many people a view shows: soon, and then perhaps about so many, or exactly. */
export async function GET(request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { ctx, newsletter } = await deskOf((await params).slug);
  const query = new URL(request.url).searchParams;
  const view = readView(Object.fromEntries(query));
  const asked = { find: view.find, condition: conditionOf(view) };
  if (query.get('count') === 'soon') return Response.json(await howManySoon(ctx, newsletter, asked));
  return Response.json({ people: await howMany(ctx, newsletter, asked), exact: true });
}

import { find } from '@/server/growth/find';
import { deskOf } from '../../../../desk';

export async function GET(request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { ctx, newsletter } = await deskOf((await params).slug);
  return Response.json(await find(ctx, newsletter, new URL(request.url).searchParams.get('q') ?? ''));
}

import { saveLayout } from '@/server/newsletters/layouts';
import { answering } from '../../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** Saves a layout as it is being changed. */
export async function PUT(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'edit', (ctx, newsletter, _, said) => saveLayout(ctx, newsletter, id, said));
}

import { seenIn } from '@/server/sending/see-layout';
import { answering } from '../../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** A letter as a layout that is being changed would have it. */
export async function POST(request: Request, { params }: Params): Promise<Response> {
  const { slug } = await params;
  return answering(slug, request, 'look', (ctx, newsletter, _, said) => seenIn(ctx, newsletter, said));
}

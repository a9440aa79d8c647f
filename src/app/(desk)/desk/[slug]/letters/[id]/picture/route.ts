import { Fault } from '@/core/faults';
import { keepPicture, MOST_PICTURE_BYTES, takeInAsked } from '@/server/newsletters/media';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** Keeps a picture for a letter and answers its address: one that is sent, or one that stands at an address. */
export async function POST(request: Request, { params }: Params): Promise<Response> {
  const { slug } = await params;
  return answering(slug, request, 'edit', async (ctx, newsletter, _, said) => {
    if (request.headers.get('content-type')?.startsWith('application/json'))
      return takeInAsked(ctx, newsletter, String((said as { address?: unknown } | null)?.address ?? ''));
    if (Number(request.headers.get('content-length') ?? 0) > MOST_PICTURE_BYTES)
      throw new Fault('invalid', 'This picture is larger than 20 MB.');
    return keepPicture(ctx, newsletter, await request.blob());
  });
}

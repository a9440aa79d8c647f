import { inTurn } from '@/server/in-turn';
import { lastLook } from '@/server/sending/departing';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** The last look at a letter, as it would leave by what is said. */
export async function POST(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'look', (ctx, newsletter, _, said) =>
    inTurn(`look ${newsletter.id}`, request.signal, () => lastLook(ctx, newsletter, id, said)),
  );
}

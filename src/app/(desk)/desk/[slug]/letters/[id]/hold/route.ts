import { holdLetter } from '@/server/sending/drafts';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** Says that a window still writes a letter, or takes it over. */
export async function POST(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'edit', (ctx, newsletter, person, said) => holdLetter(ctx, newsletter, person, id, said));
}

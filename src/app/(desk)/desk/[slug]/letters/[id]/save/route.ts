import { saveDraftLetter } from '@/server/sending/drafts';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** Saves a change of a letter that is being written. */
export async function PUT(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'edit', (ctx, newsletter, person, said) => saveDraftLetter(ctx, newsletter, person, id, said));
}

import { webPage } from '@/core/writing/to-web';
import { previewAs } from '@/server/sending/as-reader';
import { draftOf } from '@/server/sending/drafts';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** A letter as it is saved: as mail, as text, as a web page; as the reader of `as` has it, or as who gave nothing. */
export async function GET(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'look', async (ctx, newsletter) => {
    const { title, subtitle, document } = await draftOf(ctx, newsletter, id);
    const made = await previewAs(ctx, newsletter, id, new URL(request.url).searchParams.get('as') ?? '');
    return { ...made, web: webPage(document, { title, subtitle, language: newsletter.language }) };
  });
}

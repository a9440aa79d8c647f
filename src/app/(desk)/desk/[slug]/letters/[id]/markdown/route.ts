import { slugify } from '@/core/newsletters/slug';
import { markdownOf } from '@/server/sending/markdown';
import { deskOf, orNotFound } from '../../../../../../desk';

type Params = { params: Promise<{ slug: string; id: string }> };

/** A letter as a file of Markdown. */
export async function GET(_: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const { title, markdown } = await orNotFound(markdownOf(ctx, newsletter, id));
  return new Response(markdown, {
    headers: {
      'content-type': 'text/markdown; charset=utf-8',
      'content-disposition': `attachment; filename="${slugify(title) || 'letter'}.md"`,
      'cache-control': 'no-store',
    },
  });
}

import { comparedCsv } from '@/server/sending/compared';
import { csvAnswer } from '../../../../../../csv-answer';
import { deskOf } from '../../../../../../desk';

/** All letters that have left, with what became of them, as a CSV. */
export async function GET(_request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  return csvAnswer(comparedCsv(ctx, newsletter), `letters-of-${newsletter.slug}.csv`);
}

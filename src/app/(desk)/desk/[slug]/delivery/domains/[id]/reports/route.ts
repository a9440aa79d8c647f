import { Fault } from '@/core/faults';
import { may } from '@/core/newsletters/roles';
import { uploadReport } from '@/server/delivery/read-reports';
import { deskOf } from '../../../../../../../desk';
import { takenIn } from '../../../../../../../uploads';

/** Takes in a report that somebody brings for this domain. */
export async function POST(request: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  return takenIn(ctx, request, async (_name, stream) => {
    if (!may(newsletter.role, 'edit')) throw new Fault('forbidden', 'You may not bring reports into this newsletter.');
    return uploadReport(ctx, newsletter, id, stream);
  });
}

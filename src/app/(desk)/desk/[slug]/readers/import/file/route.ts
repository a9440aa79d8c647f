import { Fault } from '@/core/faults';
import { may } from '@/core/newsletters/roles';
import { beginImport } from '@/server/transfer/imports';
import { deskOf } from '../../../../../../desk';
import { takenIn } from '../../../../../../uploads';

/** Takes a file of readers in as it comes, and answers the import that it begins. */
export async function POST(request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { ctx, newsletter, person } = await deskOf((await params).slug);
  return takenIn(ctx, request, async (name, stream) => {
    if (!may(newsletter.role, 'edit')) throw new Fault('forbidden', 'You may not bring readers into this newsletter.');
    return beginImport(ctx, newsletter, person, name, stream);
  });
}

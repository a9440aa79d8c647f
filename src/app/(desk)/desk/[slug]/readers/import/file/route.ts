import { asFault, Fault } from '@/core/faults';
import { may } from '@/core/newsletters/roles';
import { beginImport } from '@/server/transfer/imports';
import { deskOf } from '../../../../../../desk';

/** Takes a file of readers in as it comes, and answers the import that it begins. Only pages of our own may send one. */
export async function POST(request: Request, { params }: { params: Promise<{ slug: string }> }): Promise<Response> {
  const { ctx, newsletter, person } = await deskOf((await params).slug);
  try {
    const site = request.headers.get('sec-fetch-site');
    if ((site && site !== 'same-origin') || !may(newsletter.role, 'edit'))
      throw new Fault('forbidden', 'You may not bring readers into this newsletter.');
    const name = new URL(request.url).searchParams.get('name') ?? '';
    const stream = (request.body ?? []) as unknown as AsyncIterable<Uint8Array>;
    return Response.json(await beginImport(ctx, newsletter, person, name.replace(/[\u0000-\u001f]/g, ''), stream));
  } catch (error) {
    const fault = asFault(error);
    if (!(error instanceof Fault)) ctx.log.error({ err: error }, 'a file of readers could not be taken in');
    return Response.json(fault.value, { status: fault.status });
  }
}

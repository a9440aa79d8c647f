import { asFault } from '@/core/faults';
import { trialOf } from '@/server/forms/trials';
import { deskOf } from '../../../../../../desk';

/** GET …/try?trial=ID: how far a writer's try of a form has come. */
export async function GET(request: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { ctx, newsletter } = await deskOf((await params).slug);
  try {
    return Response.json(await trialOf(ctx, newsletter, new URL(request.url).searchParams.get('trial') ?? ''));
  } catch (error) {
    const fault = asFault(error);
    return Response.json({ error: fault.value }, { status: fault.status });
  }
}

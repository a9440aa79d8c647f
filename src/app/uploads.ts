import { asFault, Fault } from '@/core/faults';
import type { Context } from '@/server/context';

/** Takes a file in as it comes, from pages of our own alone, and answers what became of it as JSON. */
export async function takenIn<T>(
  ctx: Context,
  request: Request,
  work: (name: string, stream: AsyncIterable<Uint8Array>) => Promise<T>,
): Promise<Response> {
  try {
    const site = request.headers.get('sec-fetch-site');
    if (site && site !== 'same-origin') throw new Fault('forbidden', 'Send it from our own page.');
    const name = new URL(request.url).searchParams.get('name') ?? '';
    const stream = (request.body ?? []) as unknown as AsyncIterable<Uint8Array>;
    return Response.json(await work(name.replace(/[\u0000-\u001f]/g, ''), stream));
  } catch (error) {
    const fault = asFault(error);
    if (!(error instanceof Fault)) ctx.log.error({ err: error }, 'a file could not be taken in');
    return Response.json(fault.value, { status: fault.status });
  }
}

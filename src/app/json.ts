import { asFault, Fault } from '@/core/faults';
import type { Need } from '@/core/newsletters/roles';
import type { Person } from '@/server/auth/session';
import type { Context, Newsletter } from '@/server/context';
import { openNewsletter } from '@/server/newsletters/newsletters';
import { runtime } from '@/server/runtime';
import { personHere } from './desk';

type Work<T> = (ctx: Context, newsletter: Newsletter, person: Person, said: unknown) => Promise<T>;

/** Answers a page of the desk that asks in JSON: signed in, a member whose role allows it, from a page of ours; every error as the one error shape. */
export async function answering<T>(slug: string, request: Request, need: Need, work: Work<T>): Promise<Response> {
  const person = await personHere();
  const ctx = await runtime();
  try {
    const site = request.headers.get('sec-fetch-site');
    if (site && site !== 'same-origin') throw new Fault('forbidden', 'Ask from our own page.');
    const newsletter = await openNewsletter(ctx, person.id, slug, need);
    if (newsletter.closing_at && need !== 'look')
      throw new Fault('conflict', `${newsletter.name} is to be deleted. Have an owner keep it first; nothing was changed.`);
    const said = request.headers.get('content-type')?.startsWith('application/json')
      ? await request.json().catch(() => null)
      : null;
    return Response.json(await work(ctx, newsletter, person, said));
  } catch (error) {
    const fault = asFault(error);
    if (!(error instanceof Fault)) ctx.log.error({ err: error }, 'a question of the desk failed');
    return Response.json(fault.value, { status: fault.status });
  }
}

import type { Audience } from '@/core/sending/audience';
import { audienceSchema } from '@/core/sending/schemas';
import { check } from '@/server/check';
import { inTurn } from '@/server/in-turn';
import { laneOf } from '@/server/sending/audience';
import { reachOf, reachSoon } from '@/server/sending/reach';
import { answering } from '../../../../../../json';

type Params = { params: Promise<{ slug: string; id: string }> };

/** Whom an audience reaches: all of the account, or soon how many, and then perhaps about so many. */
export async function POST(request: Request, { params }: Params): Promise<Response> {
  const { slug, id } = await params;
  return answering(slug, request, 'look', async (ctx, newsletter, _, said) => {
    const { audience, soon } = (said ?? {}) as { audience?: unknown; soon?: unknown };
    const asked = check<Audience>(audienceSchema, audience);
    const of = await laneOf(ctx.db, newsletter, id);
    if (soon === true) return { soon: await reachSoon(ctx, newsletter, asked, of) };
    return inTurn(`reach ${newsletter.id}`, request.signal, () => reachOf(ctx, newsletter, asked, of));
  });
}

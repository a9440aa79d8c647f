import { confirmHub, toldByHub } from '../autosend/hubs';
import type { Context } from '../context';
import { answer, type PublicAnswer, type PublicRequest } from './request';

const text = { 'content-type': 'text/plain; charset=utf-8', 'x-content-type-options': 'nosniff', 'cache-control': 'no-store' };

/** GET and POST /e/hub/TOKEN: a hub confirms that we asked it, or tells of a new post. What it sends with that is not read. */
export async function hubPage(ctx: Context, request: PublicRequest, token: string): Promise<PublicAnswer> {
  if (request.method === 'POST') {
    await toldByHub(ctx, token);
    return answer('', { status: 202, headers: text });
  }
  const challenge = await confirmHub(ctx, token, request.url.searchParams);
  return challenge === null ? answer('', { status: 404, headers: text }) : answer(challenge, { headers: text });
}

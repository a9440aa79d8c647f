import { asFault } from '@/core/faults';
import type { Context } from '../context';
import { pageForPicking, pickedUrl } from '../forms/picking';
import { saying } from './page';
import { answer, type PublicAnswer } from './request';

/** GET /e/pick?u=URL&t=UNTIL&s=SIGNATURE: a copy of a writer's page, to click in, for the frame in the builder. */
export async function pickingPage(ctx: Context, query: URLSearchParams): Promise<PublicAnswer> {
  const url = pickedUrl(ctx, query);
  if (url === null) return saying('Your page', 'This has run out', 'Show the page again in the builder.', 404);
  try {
    const { html, scriptHash } = await pageForPicking(ctx, url);
    return answer(html, {
      headers: {
        'content-type': 'text/html; charset=utf-8',
        'cache-control': 'no-store',
        'referrer-policy': 'no-referrer',
        'x-content-type-options': 'nosniff',
        // No origin at all, none of its own scripts, nothing it could send; to be seen in the builder alone.
        'content-security-policy': `sandbox allow-scripts; script-src 'sha256-${scriptHash}'; object-src 'none'; frame-src 'none'; form-action 'none'; connect-src 'none'; frame-ancestors ${ctx.config.webOrigin}`,
      },
    });
  } catch (error) {
    const fault = asFault(error);
    return saying('Your page', 'That did not work', fault.sentence, fault.status);
  }
}

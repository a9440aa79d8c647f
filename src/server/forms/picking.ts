import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { decodeText } from '@/core/charset';
import { Fault } from '@/core/faults';
import { escapeHtml } from '@/core/html';
import { isSigned, signText } from '@/core/keys';
import type { Context } from '../context';
import { guardedFetch } from '../fetch/guarded';

const LIMITS = { timeoutMs: 10_000, bytes: 3_000_000, redirects: 4 };

const GOOD_FOR_MS = 600_000;
const purpose = (url: string, until: number) => `${until} ${url}`;

/** Where a copy of a page is shown: at the link host, for some minutes, since nobody's HTML shares the desk's origin. Reads the page once, and throws a fault where it cannot be. */
export async function pickingAddress(ctx: Pick<Context, 'config' | 'clock'>, url: string): Promise<{ address: string }> {
  await pageForPicking(ctx, url);
  const until = ctx.clock.now().getTime() + GOOD_FOR_MS;
  const query = new URLSearchParams({ u: url, t: String(until), s: signText(ctx.config.keys, 'pick', purpose(url, until)) });
  return { address: `${ctx.config.linkOrigin}/e/pick?${query}` };
}

/** The page that a picking address is for; null where the address was not made here, or has run out. */
export function pickedUrl(ctx: Pick<Context, 'config' | 'clock'>, query: URLSearchParams): string | null {
  const url = query.get('u') ?? '';
  const until = Number(query.get('t'));
  const good = until > ctx.clock.now().getTime() && isSigned(ctx.config.keys, 'pick', purpose(url, until), query.get('s') ?? '');
  return good ? url : null;
}

/**
 * A copy of a page of the writer's site, to click in: as it comes from there, with the script that tells what was clicked, which is the only one whose
 * hash its policy allows. Throws a fault with a sentence where the page cannot be read.
 */
export async function pageForPicking(ctx: Pick<Context, 'config'>, url: string): Promise<{ html: string; scriptHash: string }> {
  const fetched = await guardedFetch(url, ctx.config.allowLoopback, { accept: 'text/html' }, LIMITS);
  if (fetched.status >= 400)
    throw new Fault('unreachable', `This page answered ${fetched.status}. Take the address of a post that is online.`);
  if (!/html/i.test(fetched.headers.get('content-type') ?? ''))
    throw new Fault('invalid', 'This address is no page. Take the address of a post.');
  const script = readFileSync(join(process.cwd(), 'dist', 'pick.js'), 'utf8');
  const scriptHash = createHash('sha256').update(script).digest('base64');
  // Before anything of the page, so that no tag of it comes first; its own doctype is then one too many, and browsers pass over it.
  const head = `<!doctype html><meta charset="utf-8"><base href="${escapeHtml(fetched.url)}"><script>${script}</script>`;
  return { html: head + decodeText(fetched.bytes, fetched.headers.get('content-type')), scriptHash };
}

import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { decodeText } from '@/core/autosend/charset';
import { Fault } from '@/core/faults';
import { escapeHtml } from '@/core/html';
import type { Context } from '../context';
import { guardedFetch } from '../fetch/guarded';

const LIMITS = { timeoutMs: 10_000, bytes: 3_000_000, redirects: 4 };

/**
 * A copy of a page of the writer's site, to click in: as it comes from there, but with no script allowed except the one that tells what was
 * clicked. To be shown in a sandboxed frame only. Throws a fault with a sentence where the page cannot be read.
 */
export async function pageForPicking(ctx: Pick<Context, 'config'>, url: string): Promise<{ html: string; url: string }> {
  const answer = await guardedFetch(url, ctx.config.allowLoopback, { accept: 'text/html' }, LIMITS);
  if (answer.status >= 400)
    throw new Fault('unreachable', `This page answered ${answer.status}. Take the address of a post that is online.`);
  if (!/html/i.test(answer.headers.get('content-type') ?? ''))
    throw new Fault('invalid', 'This address is no page. Take the address of a post.');
  const script = readFileSync(join(process.cwd(), 'dist', 'pick.js'), 'utf8');
  const hash = createHash('sha256').update(script).digest('base64');
  // Before anything of the page, so that no tag of it comes first; its own doctype is then one too many, and browsers pass over it.
  const head = `<!doctype html><meta charset="utf-8"><meta http-equiv="content-security-policy" content="script-src 'sha256-${hash}'; object-src 'none'; frame-src 'none'; form-action 'none'"><base href="${escapeHtml(answer.url)}"><script>${script}</script>`;
  return { html: head + decodeText(answer.bytes, answer.headers.get('content-type')), url: answer.url };
}

import { createHash } from 'node:crypto';
import { directionOf } from '@/core/forms/words';
import { escapeHtml } from '@/core/html';
import type { Context } from '../context';
import { readMedia } from '../newsletters/media';
import { answer, type PublicAnswer } from './request';

export type PublicPage = {
  title: string;
  name: string;
  body: string;
  status?: number;
  noFrame?: boolean;
  bare?: boolean;
  /** The page's heading is the newsletter's name, which leads here. */
  home?: string;
  language?: string;
  script?: string;
};

const CSS = `:root{color-scheme:light dark;--paper:#f6f5f0;--sheet:#fffefb;--ink:#1c2230;--ink2:#525a69;--rule:#d8d5ca;--act:#17645c;--on:#fffefb}
@media(prefers-color-scheme:dark){:root{--paper:#14171d;--sheet:#1b1f27;--ink:#ece8dd;--ink2:#b3b1a8;--rule:#373c47;--act:#7fc4b6;--on:#10231f}}
*{box-sizing:border-box}body{margin:0;background:var(--paper);color:var(--ink);font:17px/1.6 Georgia,'Times New Roman',serif}
main{max-width:36rem;margin:0 auto;padding:12vh 20px 40px}header{font-size:16px;color:var(--ink2);border-bottom:3px double var(--rule);padding-bottom:10px;margin-bottom:28px}
header h1{margin:0}header a{color:inherit;text-decoration:none}h1{font-weight:500;font-size:30px;line-height:1.25;margin:0 0 12px}p{margin:0 0 16px}a{color:var(--act)}
button{font:600 16px/1.2 system-ui,sans-serif;padding:13px 22px;border:0;border-radius:4px;background:var(--act);color:var(--on);cursor:pointer}
button.plain{background:none;color:var(--act);box-shadow:inset 0 0 0 1.5px var(--act)}section{margin-top:32px;border-top:1px solid var(--rule);padding-top:20px}
button:focus-visible,a:focus-visible{outline:3px solid var(--act);outline-offset:3px}small{color:var(--ink2);font-size:14px}footer{margin-top:32px}h2{font-size:20px;font-weight:500;margin:0 0 10px}
fieldset{border:0;padding:0;margin:0 0 20px}legend{padding:0;margin-bottom:8px;color:var(--ink2)}label.tick{display:flex;gap:10px;align-items:baseline}label.tick span{min-width:0}
input:not([type=checkbox]):not([type=radio]):not([type=hidden]),select,textarea{font:inherit;width:100%;padding:9px 11px;border:1px solid var(--rule);border-radius:4px;background:var(--sheet);color:var(--ink)}
input[type=checkbox],input[type=radio]{width:18px;height:18px;accent-color:var(--act);flex:none;position:relative;top:3px}form{margin:0 0 18px}details{margin:0 0 16px}summary{cursor:pointer;color:var(--act)}pre{font-size:13px;line-height:1.5;white-space:pre-wrap;word-break:break-word}input:focus-visible,select:focus-visible,textarea:focus-visible{outline:3px solid var(--act);outline-offset:2px}form button+button{margin-inline-start:6px}`;

/**
 * Sends the page's form by itself a moment after the page can be seen: a page that is fetched or opened in the background is not. Whoever presses the
 * button first, or has no script, sends it themselves.
 */
export const SENDS_ITSELF =
  "(function(){var f=document.forms[0],t=0;function look(){clearTimeout(t);t=document.visibilityState==='visible'?setTimeout(function(){f.submit()},1200):0}f.addEventListener('submit',function(){clearTimeout(t)});document.addEventListener('visibilitychange',look);look()})()";

/** A page for readers: no script, readable everywhere, in light and dark, cached nowhere. */
export function page(view: PublicPage): PublicAnswer {
  const inner = view.bare
    ? view.body
    : `<main><header>${view.home ? `<h1><a href="${escapeHtml(view.home)}">${escapeHtml(view.name)}</a></h1>` : escapeHtml(view.name)}</header>${view.body}</main>`;
  const html = `<!doctype html><html lang="${escapeHtml(view.language ?? 'en')}" dir="${directionOf(view.language ?? 'en')}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1"><meta name="robots" content="noindex"><title>${escapeHtml(
    view.title,
  )}</title><style>${view.bare ? 'body{margin:0;background:transparent}' : CSS}</style></head><body>${inner}${view.script ? `<script>${view.script}</script>` : ''}</body></html>`;
  const scriptRule = view.script ? ` script-src 'sha256-${createHash('sha256').update(view.script).digest('base64')}';` : '';
  return answer(html, {
    status: view.status ?? 200,
    headers: {
      'content-type': 'text/html; charset=utf-8',
      'cache-control': 'no-store',
      'referrer-policy': 'no-referrer',
      'x-content-type-options': 'nosniff',
      // Only the form itself may stand in somebody's frame (clickjacking).
      'content-security-policy': `default-src 'none'; style-src 'unsafe-inline'; img-src https: http: data:;${scriptRule} form-action *; frame-ancestors ${view.bare ? '*' : "'none'"}`,
    },
  });
}

/** A page that says one thing: a title and a sentence. */
export const saying = (name: string, title: string, sentence: string, status = 200): PublicAnswer =>
  page({ name, title, status, body: `<h1>${escapeHtml(title)}</h1><p>${escapeHtml(sentence)}</p>` });

/** GET /e/media/ID.png or ID.jpg: an uploaded picture. Its address changes with its content, so it may be kept for ever. */
export async function picture(ctx: Pick<Context, 'config'>, id: string): Promise<PublicAnswer> {
  const media = await readMedia(ctx, id);
  if (!media) return saying('Not found', 'There is no such picture', 'Perhaps a part of the address is missing.', 404);
  return answer(media.bytes, {
    headers: {
      'content-type': media.type,
      'cache-control': 'public, max-age=31536000, immutable',
      'x-content-type-options': 'nosniff',
    },
  });
}

export const json = (value: unknown, status = 200, headers: Record<string, string> = {}): PublicAnswer =>
  answer(JSON.stringify(value), {
    status,
    headers: { 'content-type': 'application/json', 'cache-control': 'no-store', ...headers },
  });

import { escapeHtml } from '../html';
import { contrast } from '../newsletters/identity';
import type { FormDefinition } from './definition';
import { formCss, type Look, readable } from './look';
import { isOver, type Placement, type PlacementKind, shapeOf } from './placement';
import { directionOf, wordsOf } from './words';

/*
 * How a form stands on a page: what is around it where it comes over the page, and all its rules. The script on other people's pages and the builder's
 * preview take both from here, so that one shows what the other does.
 */

const CLASS: Partial<Record<PlacementKind, string>> = { ribbon: 'ink-ribbon', 'corner card': 'ink-card', 'pop-up': 'ink-popup' };
const CROSS =
  '<svg width="18" height="18" viewBox="0 0 18 18" fill="none" stroke="currentColor" stroke-width="2" stroke-linecap="round" aria-hidden="true"><path d="M3 3l12 12M15 3L3 15"/></svg>';

/** A form, or the thanks in its place, with what is around it: a way to close it, first in the keyboard's order, where it comes over the page. */
export function standing(form: FormDefinition, inner: string): string {
  const { kind } = form.placement;
  if (!isOver(kind)) return inner;
  const name = escapeHtml(form.heading);
  const close = `<button type="button" class="ink-close" aria-label="${escapeHtml(wordsOf(form.language).close)}">${CROSS}</button>`;
  const box = `<div class="ink-box">${close}<div class="ink-scroll">${inner}</div></div>`;
  const open = `class="ink-over ${CLASS[kind]}" lang="${form.language}" dir="${directionOf(form.language)}" aria-label="${name}"`;
  return kind === 'pop-up' ? `<div ${open} role="dialog" aria-modal="true">${box}</div>` : `<aside ${open}>${box}</aside>`;
}

const WHERE = ({ kind, ribbonAt, cornerAt }: Placement): string =>
  ({
    ribbon: `inset-inline:0;${ribbonAt}:0`,
    'corner card': `bottom:16px;inset-inline-${cornerAt}:16px;width:min(360px,calc(100vw - 32px))`,
    'pop-up': 'inset:0;display:flex;align-items:center;justify-content:center;padding:16px;background:rgb(0 0 0/.45)',
  })[kind as string] ?? '';

/** The ink of the way to close it: the form's own where that can be read on its ground. */
const closeInk = (ink: string, ground: string) => (contrast(ink, ground) >= 4.5 ? ink : readable(ground));

/** Every rule of a form that stands so. With its HTML given, rules for what that does not have are left out. */
export function standCss(form: FormDefinition, html?: string): string {
  const { look, placement } = form;
  const { kind } = placement;
  const css = formCss(look, shapeOf(kind), html);
  if (!isOver(kind)) return `:host{display:block}\n${css}`;
  // The heading leaves room for the cross beside it.
  const beside = Math.max(0, 52 - look.padding);
  const head =
    shapeOf(kind) === 'line'
      ? '.ink-over .ink-form{padding-inline-end:60px;max-width:none;border-radius:0}'
      : `.ink-over .ink-form{max-width:none}.ink-over h2,.ink-over .ink-thanks{padding-inline-end:${beside}px${look.align === 'centre' ? `;padding-inline-start:${beside}px` : ''}}`;
  const cross = ({ ink, background }: Pick<Look, 'ink' | 'background'>) =>
    `color:${closeInk(ink, background)};background:${background}`;
  return [
    css,
    `.ink-over{position:fixed;z-index:2147483000;${WHERE(placement)}}`,
    `.ink-box{position:relative;display:flex;flex-direction:column;width:100%;max-height:92vh${kind === 'pop-up' ? ';max-width:520px' : ''}}`,
    '.ink-scroll{overflow:auto}',
    `.ink-close{position:absolute;top:${kind === 'ribbon' ? 'clamp(4px,calc(50% - 22px),14px)' : '4px'};inset-inline-end:4px;z-index:1;display:grid;place-items:center;width:44px;height:44px;margin:0;padding:0;border:0;border-radius:50%;cursor:pointer;${cross(look)}}`,
    '.ink-close:focus-visible{outline:3px solid currentColor;outline-offset:-5px}',
    head,
    look.dark.on && `@media(prefers-color-scheme:dark){.ink-close{${cross(look.dark)}}}`,
    '@media(prefers-reduced-motion:no-preference){.ink-over{animation:ink-in .2s}}@keyframes ink-in{from{opacity:0}}',
  ]
    .filter(Boolean)
    .join('\n');
}

/** A page of somebody's with grey lines for words, and the form standing in it as our script puts it: in a shadow root of its own. */
export function imitationPage(form: FormDefinition, inner: string): string {
  const line = (width: number) => `<div style="height:11px;margin:0 0 10px;width:${width}%;background:#ebecf0"></div>`;
  const lines = (count: number) => Array.from({ length: count }, (_, n) => line([100, 96, 99, 92, 60][n % 5]!)).join('');
  const host = `<div data-inkset-form><template shadowrootmode="open"><style>${standCss(form)}</style>${standing(form, inner)}</template></div>`;
  const { kind, ribbonAt } = form.placement;
  const title = '<div style="height:24px;margin:0 0 18px;width:56%;background:#dfe2e8"></div>';
  const room = kind === 'ribbon' && ribbonAt === 'top' ? ';padding-top:110px' : '';
  const body = isOver(kind)
    ? `${title}${lines(14)}${host}`
    : `${title}${lines(4)}<div style="margin:22px 0">${host}</div>${lines(3)}`;
  return `<!doctype html><html lang="${form.language}"><head><meta name="viewport" content="width=device-width"><style>body{margin:0 auto;padding:26px clamp(16px,7vw,72px)${room};background:#fff;font-family:Georgia,serif}</style></head><body>${body}</body></html>`;
}

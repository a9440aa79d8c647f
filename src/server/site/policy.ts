import type { Config } from '../config';

type Origins = Pick<Config, 'webOrigin' | 'linkOrigin'>;

const directives = (all: Record<string, string>) =>
  Object.entries(all)
    .map(([name, value]) => `${name} ${value}`.trim())
    .join('; ');

const base = (nonce: string, dev: boolean) => ({
  'default-src': "'self'",
  'script-src': `'self' 'nonce-${nonce}' 'strict-dynamic'${dev ? " 'unsafe-eval'" : ''}`,
  // Charts and dialogs place what they draw by style attributes.
  'style-src': "'self' 'unsafe-inline'",
  // A letter's pictures come from wherever its post has them.
  'img-src': "'self' data: blob: https: http:",
  'font-src': "'self'",
  'object-src': "'none'",
  'base-uri': "'none'",
  'frame-ancestors': "'none'",
});

/** What a browser may do on the desk and the account pages (CSP 3): our scripts by this answer's nonce, talk to ourselves, be in nobody's frame. */
export const deskPolicy = ({ linkOrigin }: Origins, nonce: string, dev = false): string =>
  directives({
    ...base(nonce, dev),
    'connect-src': `'self'${dev ? ' ws:' : ''}`,
    'form-action': "'self'",
    // A copy of the writer's page, to click in, is shown from the link host.
    'frame-src': `'self' ${linkOrigin}`,
  });

/**
 * The same for a newsletter's own pages, which show what their writer made: no script, and without our origin, so that they can reach nothing of the desk,
 * whatever stands in them.
 */
export const publicPagePolicy = ({ webOrigin, linkOrigin }: Origins): string =>
  directives({
    'default-src': "'none'",
    'style-src': "'unsafe-inline'",
    'img-src': 'https: http: data:',
    'form-action': `${webOrigin} ${linkOrigin}`,
    'frame-ancestors': "'none'",
    'base-uri': "'none'",
    sandbox: 'allow-forms allow-popups allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation',
  });

/** A file of the build: a script, a style, a font. */
export const isBuilt = (path: string): boolean => /^\/_next\/static\/[^?]+\.(js|css|woff2)(\?|$)/.test(path);

/** What goes with every answer of the web process: nothing is guessed, nothing is told of where one came from, nothing private is kept by anybody on the way. */
export function safeHeaders({ webOrigin }: Origins, path: string): Record<string, string> {
  const kept = /^\/(e|at)\//.test(path);
  const secure: Record<string, string> = webOrigin.startsWith('https:')
    ? { 'strict-transport-security': 'max-age=31536000' }
    : {};
  // Files of the build are anybody's, and no pages; a page without an origin may use the fonts among them.
  if (isBuilt(path)) return { 'x-content-type-options': 'nosniff', 'access-control-allow-origin': '*', ...secure };
  return {
    'x-content-type-options': 'nosniff',
    'referrer-policy': 'same-origin',
    'permissions-policy': 'camera=(), microphone=(), geolocation=(), browsing-topics=()',
    'cross-origin-opener-policy': 'same-origin',
    ...(kept ? {} : { 'cache-control': 'private, no-store' }),
    ...secure,
  };
}

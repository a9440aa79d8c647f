import { describe, expect, it } from 'vitest';
import { deskPolicy, publicPagePolicy, safeHeaders } from './policy';

const ORIGINS = { webOrigin: 'https://inkset.example', linkOrigin: 'https://go.inkset.example' };

describe('what a browser may do', () => {
  it('on the desk: our scripts by their nonce, nobody’s frame, forms to ourselves', () => {
    const policy = deskPolicy(ORIGINS, 'abc');
    expect(policy).toContain("script-src 'self' 'nonce-abc' 'strict-dynamic'");
    for (const part of [
      "frame-ancestors 'none'",
      "object-src 'none'",
      "base-uri 'none'",
      "form-action 'self'",
      "frame-src 'self' https://go.inkset.example",
    ])
      expect(policy).toContain(part);
    expect(policy).not.toMatch(/script-src[^;]*unsafe/);
  });
  it('on a page that its writer made: nothing of our origin', () => {
    const policy = publicPagePolicy(ORIGINS);
    expect(policy).toMatch(/sandbox (?!.*(allow-same-origin|allow-scripts))/);
    expect(policy).toContain("default-src 'none'");
    expect(policy).toContain("frame-ancestors 'none'");
    expect(policy).toContain('form-action https://inkset.example https://go.inkset.example');
  });
  it('private answers are nobody’s to keep; files of the build are', () => {
    expect(safeHeaders(ORIGINS, '/desk/x/today')).toMatchObject({
      'cache-control': 'private, no-store',
      'x-content-type-options': 'nosniff',
      'referrer-policy': 'same-origin',
      'strict-transport-security': expect.stringContaining('max-age'),
    });
    for (const built of ['/_next/static/a.js', '/_next/static/chunks/b.css?x', '/_next/static/media/c.woff2'])
      expect(Object.keys(safeHeaders(ORIGINS, built))).toEqual([
        'x-content-type-options',
        'access-control-allow-origin',
        'strict-transport-security',
      ]);
    // What only looks like one is a page.
    for (const page of ['/_next/static/a', '/desk/x.js', '/_next/static/a?b.js'])
      expect(safeHeaders(ORIGINS, page)).toHaveProperty('cache-control');
    expect(safeHeaders({ ...ORIGINS, webOrigin: 'http://127.0.0.1:4600' }, '/')).not.toHaveProperty('strict-transport-security');
  });
});

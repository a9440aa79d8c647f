import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { readSitePage } from './site-page';

const at = 'https://saltmarsh.example/notes/';
const read = (head: string) =>
  readSitePage(
    `<!doctype html><html lang="pt-PT"><head>${head}</head><body><meta name="theme-color" content="#ff0000"></body></html>`,
    at,
  );

describe('a site’s own page', () => {
  it('names its colour, feed, language and what it is about', () => {
    expect(
      read(
        '<meta name="theme-color" content="#0f4a5c"><meta name="description" content=" Notes\nfrom a marsh "><link rel="alternate" type="application/rss+xml" href="/feed.xml">',
      ),
    ).toEqual({
      colour: '#0f4a5c',
      feed: 'https://saltmarsh.example/feed.xml',
      language: 'pt-pt',
      description: 'Notes from a marsh',
    });
  });
  it.each([
    ['#ABC', '#aabbcc'],
    ['rgb(15, 74, 92)', '#0f4a5c'],
    ['rgb(15 74 92)', '#0f4a5c'],
    ['rgb(300, 0, 0)', null],
    ['teal', null],
    ['#12', null],
    ['url(x)', null],
  ])('the colour %s is read as %s', (text, colour) =>
    expect(read(`<meta name="theme-color" content="${text}">`).colour).toBe(colour),
  );
  it('of two colours that for the dark does not count', () => {
    const both =
      '<meta name="theme-color" media="(prefers-color-scheme: dark)" content="#000000"><meta name="theme-color" content="#0f4a5c">';
    expect(read(both).colour).toBe('#0f4a5c');
  });
  it.each(['javascript:alert(1)', 'data:text/xml,x', 'https://', 'ftp://a.example/f'])('a feed at %s is none', (href) => {
    expect(read(`<link rel="alternate" type="application/atom+xml" href="${href}">`).feed).toBe(null);
  });
  it('reads anything at all without falling', () => {
    fc.assert(fc.property(fc.string(), (html) => void readSitePage(html, at)));
    expect(readSitePage('<'.repeat(400_000), at).feed).toBe(null);
  });
});

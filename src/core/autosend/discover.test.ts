import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { addressesOf, feedsNamed, usualPlaces } from './discover';

const AT = 'https://saltmarsh.example/notes/';

describe('what somebody typed for their blog', () => {
  it.each<[string, string[]]>([
    ['saltmarsh.example', ['https://saltmarsh.example', 'http://saltmarsh.example']],
    [' saltmarsh.example/notes ', ['https://saltmarsh.example/notes', 'http://saltmarsh.example/notes']],
    ['localhost:4673', ['https://localhost:4673', 'http://localhost:4673']],
    ['http://saltmarsh.example', ['http://saltmarsh.example']],
    ['feed://saltmarsh.example/rss', ['https://saltmarsh.example/rss']],
    ['feed:https://saltmarsh.example/rss', ['https://saltmarsh.example/rss']],
    ['ftp://saltmarsh.example', []],
    ['javascript:alert(1)', []],
    ['', []],
    ['https://', []],
  ])('%s', (typed, addresses) => {
    expect(addressesOf(typed)).toEqual(addresses);
  });
});

describe('the feeds of a page', () => {
  it('are those that its head names, made absolute by its base, comments last, each once', () => {
    const html = `<html><head><base href="/blog/"><link rel="alternate" type="application/rss+xml" title="Comments" href="comments.xml">
      <link rel="alternate stylesheet" type="text/css" href="a.css"><link rel="alternate" hreflang="de" href="/de/">
      <link rel="ALTERNATE" type="application/atom+xml; charset=utf-8" title=" Notes " href="atom.xml#top"><link rel="alternate" type="application/feed+json" href="//cdn.saltmarsh.example/feed.json">
      <link rel="alternate" type="application/atom+xml" href="atom.xml"></head><body><a href="/rss">RSS</a></body></html>`;
    expect(feedsNamed(html, AT)).toEqual([
      { url: 'https://saltmarsh.example/blog/atom.xml', title: '' },
      { url: 'https://cdn.saltmarsh.example/feed.json', title: '' },
      { url: 'https://saltmarsh.example/blog/comments.xml', title: 'Comments' },
    ]);
  });
  it('are links that look like feeds where its head names none', () => {
    const html =
      '<p><a href="/about">About</a> <a href="index.xml">The <b>feed</b></a> <a href="feed:https://x.example/rss">x</a></p>';
    expect(feedsNamed(html, AT)).toEqual([
      { url: 'https://saltmarsh.example/notes/index.xml', title: 'The feed' },
      { url: 'https://x.example/rss', title: 'x' },
    ]);
  });
  it('are never anything but web addresses, whatever the page says', () => {
    for (const href of ['javascript:alert(1)', 'data:text/xml,x', 'https://', 'file:///etc/passwd', ' '])
      expect(feedsNamed(`<link rel="alternate" type="application/rss+xml" href="${href}">`, AT)).toEqual([]);
    fc.assert(
      fc.property(fc.string({ unit: 'binary', maxLength: 400 }), (junk) => {
        for (const one of feedsNamed(`<link rel=alternate type=application/rss+xml href="${junk}"><a href="${junk}/feed">`, AT))
          expect(one.url).toMatch(/^https?:\/\//);
      }),
    );
    expect(feedsNamed('<'.repeat(3_000_000), AT)).toEqual([]);
    expect(feedsNamed('<a href="/feed">x</a>'.repeat(1_000) + '<a href="/f/rss"></a>'.repeat(50), AT)).toHaveLength(2);
  });
  it('stand in usual places, below the page and at the site', () => {
    const places = usualPlaces('https://saltmarsh.example/notes/today.html?x=1#y');
    expect(places[0]).toBe('https://saltmarsh.example/notes/feed.xml');
    expect(places).toContain('https://saltmarsh.example/feed.xml');
    expect(new Set(places).size).toBe(places.length);
    expect(usualPlaces('https://saltmarsh.example')).toHaveLength(7);
  });
});

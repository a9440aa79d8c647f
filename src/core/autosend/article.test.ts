import { describe, expect, it } from 'vitest';
import { readArticle } from './article';

const words = 'The lampfish is counted once a year, on the night on which its lamps are brightest, by people in small boats. ';
const page = (main: string) =>
  `<!doctype html><html><head><title>Lamps</title></head><body><nav><a href="/">Home</a><a href="/all">All posts</a></nav><article><h1>Lamps</h1>${main}</article><aside><p>Buy a lamp</p></aside><script>steal()</script></body></html>`;

describe('the article of a page', () => {
  it('is what it says, without what stands around it and without what it could do', () => {
    const read = readArticle(
      page(`${`<p>${words.repeat(4)}</p>`.repeat(5)}<p><a href="/more">more</a><img src="lamp.png" alt="A lamp"></p>`),
      'https://lanternfish.example/posts/lamps',
    );
    const said = JSON.stringify(read);
    expect(said).toContain('small boats');
    expect(said).toContain('https://lanternfish.example/more');
    expect(said).toContain('https://lanternfish.example/posts/lamp.png');
    for (const not of ['Buy a lamp', 'All posts', 'steal']) expect(said).not.toContain(not);
  });
  it.each<[string, string]>([
    ['nothing', ''],
    ['no article', '<html><body></body></html>'],
    ['a page of scripts alone', '<html><body><script>steal()</script></body></html>'],
  ])('of %s is none', (_, html) => {
    expect(readArticle(html, 'https://lanternfish.example/')).toBeNull();
  });
  it('of a page made to keep us busy ends', () => {
    for (const html of [`<p>${'<div>'.repeat(50_000)}`, page('<p>x'.repeat(20_000)), `<table>${'<tr><td>'.repeat(20_000)}`])
      expect(() => {
        try {
          readArticle(html, 'https://lanternfish.example/');
        } catch (error) {
          // It says that there are too many elements, which is an end too.
          expect(String(error)).toMatch(/too large|elements/i);
        }
      }).not.toThrow();
  });
});

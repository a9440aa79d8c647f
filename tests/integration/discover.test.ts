import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { findFeeds } from '@/server/autosend/discover';
import { TestWorld } from './world';

/* A blog is found by any address of it. */
let world: TestWorld;
let site: Server;
let at: string;
let pages: Record<string, { type?: string; status?: number; location?: string; body?: string | Buffer }>;
let asked: string[];

const atom = (title: string, ...posts: string[]) => ({
  type: 'application/atom+xml',
  body: `<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><title>${title}</title>${posts
    .map((post, n) => `<entry><id>urn:x:${n}</id><title>${post}</title><updated>2026-11-20T08:00:00Z</updated></entry>`)
    .join('')}</feed>`,
});
const html = (head: string, body = '') => ({
  type: 'text/html',
  body: `<!doctype html><html><head>${head}</head><body>${body}</body></html>`,
});
const named = (href: string, title = '') => `<link rel="alternate" type="application/atom+xml" title="${title}" href="${href}">`;

beforeEach(async () => {
  world = await TestWorld.open();
  pages = {};
  asked = [];
  site = createServer((request, response) => {
    asked.push(request.url!);
    const page = pages[request.url!];
    if (page?.body === undefined && !page?.location)
      return response.writeHead(page?.status ?? 404, { 'content-type': 'text/html' }).end('<html>Gone');
    response.writeHead(page.status ?? (page.location ? 302 : 200), {
      'content-type': page.type ?? 'text/html',
      ...(page.location ? { location: page.location } : {}),
    });
    response.end(page.body);
  });
  await new Promise<void>((resolve) => site.listen(0, '127.0.0.1', resolve));
  at = `http://127.0.0.1:${(site.address() as AddressInfo).port}`;
});
afterEach(async () => {
  site.closeAllConnections();
  await new Promise((resolve) => site.close(resolve));
  await world.close();
});

const find = (typed: string) => findFeeds(world.ctx, typed);

describe('the feeds of a blog', () => {
  it('are found by the front page, by a post, and by the feed itself; without its scheme too', async () => {
    pages['/'] = html(named('/atom.xml', 'Notes'));
    pages['/posts/one'] = html(named('../atom.xml'));
    pages['/atom.xml'] = atom('Saltmarsh', 'Eels', 'Owls');
    for (const typed of [`${at}/`, `${at}/posts/one`, `${at}/atom.xml`, at.replace('http://', '')])
      expect(await find(typed), typed).toEqual([
        {
          url: `${at}/atom.xml`,
          title: 'Saltmarsh',
          posts: [
            { title: 'Eels', at: new Date('2026-11-20T08:00:00Z') },
            { title: 'Owls', at: new Date('2026-11-20T08:00:00Z') },
          ],
          count: 2,
        },
      ]);
  });

  it('are offered side by side where there are several, those of comments last, one that leads to another once', async () => {
    pages['/'] = html(
      named('/comments.xml', 'Comments') + named('/a.xml') + named('/b.json') + named('/again.xml') + named('/lost.xml'),
    );
    pages['/comments.xml'] = atom('Comments on Saltmarsh', 'Re: Eels');
    pages['/a.xml'] = atom('Saltmarsh', 'Eels');
    pages['/b.json'] = {
      type: 'application/feed+json',
      body: JSON.stringify({
        version: 'https://jsonfeed.org/version/1.1',
        title: 'Photographs',
        items: [{ id: '1', content_text: 'A lamp' }],
      }),
    };
    pages['/again.xml'] = { location: '/a.xml' };
    expect((await find(at)).map((feed) => feed.title)).toEqual(['Saltmarsh', 'Photographs', 'Comments on Saltmarsh']);
  });

  it('are looked for in the usual places where a page names none', async () => {
    pages['/blog/'] = html('', '<a href="/about">About</a>');
    pages['/blog/rss.xml'] = atom('Hidden', 'Eels');
    expect((await find(`${at}/blog/`)).map((feed) => feed.url)).toEqual([`${at}/blog/rss.xml`]);
    pages['/linked'] = html('', '<a href="/index.xml">Follow</a>');
    pages['/index.xml'] = atom('Linked', 'Eels');
    expect((await find(`${at}/linked`))[0]!.title).toBe('Linked');
  });

  it('are said to be missing in words, with what was seen', async () => {
    const refused = (typed: string, words: string) =>
      expect(find(typed)).rejects.toMatchObject({
        sentence: expect.stringContaining(words),
        fields: { feedUrl: expect.any(String) },
      });
    await refused('ftp://saltmarsh.example', 'no web address');
    await refused('', 'no web address');
    await refused(`${at}/nothing`, 'answered with error 404');
    pages['/'] = html('<title>Saltmarsh</title>');
    await refused(at, 'We found no feed at');
    pages['/'] = html(named('/lost.xml'));
    await refused(at, 'names a feed at');
    pages['/cut.xml'] = { type: 'application/atom+xml', body: atom('Saltmarsh', 'Eels').body.slice(0, 90) };
    await refused(`${at}/cut.xml`, 'breaks off in the middle');
    pages['/picture'] = { type: 'image/png', body: Buffer.from([0x89, 0x50, 0x4e, 0x47, 0, 1, 2, 3]) };
    await refused(`${at}/picture`, 'not a feed we can read');
    pages['/round'] = { location: '/round' };
    await refused(`${at}/round`, 'from one address to the next');
    // Addresses inside are nobody's to ask.
    await expect(findFeeds({ config: { ...world.ctx.config, allowLoopback: false } }, at)).rejects.toMatchObject({
      fields: { feedUrl: expect.any(String) },
    });
  });

  it('costs a site few requests, whatever its page names', async () => {
    pages['/'] = html(Array.from({ length: 500 }, (_, n) => named(`/f${n}.xml`)).join(''));
    await expect(find(at)).rejects.toMatchObject({ code: 'invalid' });
    expect(asked.length).toBeLessThan(25);
  });
});

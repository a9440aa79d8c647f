import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { decodeText } from '../charset';
import { documentSchema } from '../writing/schemas';
import { linkedHub, readFeedDocument, TITLES_ONLY, type Whole } from './feed';

const URL_ = 'https://lanternfish.example/feed';
const read = (body: string, type: string | null = null) => readFeedDocument(Buffer.from(body), type, URL_);
const rss = (item: string, more = '') =>
  `<rss version="2.0" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:content="http://purl.org/rss/1.0/modules/content/" ${more}><channel><title>T</title><item>${item}</item></channel></rss>`;
const atom = (entry: string, more = '') =>
  `<feed xmlns="http://www.w3.org/2005/Atom" ${more}><title>T</title><entry>${entry}</entry></feed>`;
const paragraph = (text: string, href?: string) => ({
  kind: 'paragraph',
  inline: [{ kind: 'text', text, ...(href ? { href } : {}) }],
});

describe('feeds', () => {
  it('are read as RSS, Atom, JSON Feed and RDF', () => {
    const [one] = read(
      rss(
        '<title>A &amp;amp; B</title><link>/a</link><guid isPermaLink="false">1</guid><description>&lt;p&gt;x&lt;/p&gt;</description><pubDate>Tue, 24 Nov 2026 09:00:00 GMT</pubDate>',
      ),
    ).items;
    expect(one).toEqual({
      source: expect.any(String),
      topics: [],
      author: '',
      guid: '1',
      link: 'https://lanternfish.example/a',
      title: 'A & B',
      summary: 'x',
      document: { version: 1, nodes: [paragraph('x')] },
      picture: null,
      publishedAt: new Date('2026-11-24T09:00:00Z'),
    });
    expect(
      read(
        atom(
          '<id>u:1</id><title>A</title><link href="https://lanternfish.example/b"/><updated>2026-11-24T09:00:00Z</updated><content type="html">&lt;p&gt;y&lt;/p&gt;</content>',
        ),
      ).items[0],
    ).toMatchObject({ guid: 'u:1', link: 'https://lanternfish.example/b', document: { nodes: [paragraph('y')] } });
    const json = {
      version: 'https://jsonfeed.org/version/1.1',
      title: 'T',
      items: [{ id: '1', url: '/c', title: 'C', content_html: '<p>z</p>' }],
    };
    expect(read(JSON.stringify(json)).items[0]).toMatchObject({
      guid: '1',
      link: 'https://lanternfish.example/c',
      document: { nodes: [paragraph('z')] },
    });
  });
  it('say when and what in the modules of RDF and RSS too', () => {
    const rdf = `<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" xmlns="http://purl.org/rss/1.0/" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:content="http://purl.org/rss/1.0/modules/content/"><channel rdf:about="https://c.example/"><title>x</title></channel><item rdf:about="https://c.example/1"><title>a</title><link>https://c.example/1</link><description>short</description><dc:date>2026-11-24T09:00:00+01:00</dc:date><content:encoded>&lt;p&gt;in full&lt;/p&gt;</content:encoded></item></rdf:RDF>`;
    expect(read(rdf).items[0]).toMatchObject({
      guid: 'https://c.example/1',
      summary: 'short',
      document: { nodes: [paragraph('in full')] },
      publishedAt: new Date('2026-11-24T08:00:00Z'),
    });
    expect(read(rss('<title>a</title><dc:date>2026-11-24</dc:date>')).items[0]?.publishedAt).toEqual(new Date('2026-11-24'));
    const plain = {
      version: 'https://jsonfeed.org/version/1',
      title: 'T',
      items: [{ id: 1, content_text: 'Use <b>.\n\nTwice & more' }],
    };
    expect(read(JSON.stringify(plain)).items[0]?.document?.nodes).toEqual([paragraph('Use <b>.'), paragraph('Twice & more')]);
  });
  it('resolve addresses by xml:base, one within the other, else by the item’s page', () => {
    const entry =
      '<id>1</id><title>t</title><link href="one.html"/><content type="xhtml" xml:base="deep/"><div xmlns="http://www.w3.org/1999/xhtml"><p><a href="x">x</a></p></div></content>';
    const { link, document } = read(
      atom(entry, 'xml:base="https://a.example/blog/"').replace('<entry>', '<entry xml:base="2026/">'),
    ).items[0]!;
    expect(link).toBe('https://a.example/blog/2026/one.html');
    expect(document?.nodes).toEqual([paragraph('x', 'https://a.example/blog/2026/deep/x')]);
    const [page] = read(rss('<link>https://b.example/p/1/</link><description>&lt;a href="y"&gt;y&lt;/a&gt;</description>')).items;
    expect(page?.document?.nodes).toEqual([paragraph('y', 'https://b.example/p/1/y')]);
    const [odd] = read(rss('<title>t</title><link>z</link>', 'xml:base="javascript:alert(1)//"')).items;
    expect(odd?.link).toBe('https://lanternfish.example/z');
  });
  it('that were read before, or came before, are called by their names and not read again', () => {
    const feed = rss(
      '<guid>1</guid><title>a</title><pubDate>Tue, 24 Nov 2026 08:00:00 GMT</pubDate><description>One</description></item><item><guid>2</guid><title>b</title><pubDate>Wed, 25 Nov 2026 08:00:00 GMT</pubDate><description>Two</description></item><item><description>Three</description>',
    );
    const shown = (body: string, whole?: Whole) =>
      readFeedDocument(Buffer.from(body), null, URL_, 'UTC', whole).items.map(({ document }) => document !== null);
    const all = read(feed).items;
    expect(shown(feed)).toEqual([true, true, true]);
    // Of one that nothing names, what it says is its name.
    expect(shown(feed, TITLES_ONLY)).toEqual([false, false, true]);
    expect(shown(feed, { known: new Set(), since: new Date('2026-11-25T00:00:00Z') })).toEqual([false, true, true]);
    const whole = { known: new Set(all.map((one) => one.source)), since: null };
    expect(shown(feed, whole)).toEqual([false, false, true]);
    expect(all.map(({ document, ...rest }) => rest)).toEqual(
      readFeedDocument(Buffer.from(feed), null, URL_, 'UTC', TITLES_ONLY).items.map(({ document, ...rest }) => rest),
    );
    // Whatever is told otherwise, is another source.
    for (const [from, to] of [
      ['>One<', '>One.<'],
      ['>a<', '>A<'],
      ['24 Nov', '23 Nov'],
      ['<guid>1<', '<guid>3<'],
      ['<guid>1', '<link>/1</link><guid>1'],
      ['<guid>1', '<category>x</category><guid>1'],
      ['<guid>1', '<author>x</author><guid>1'],
      ['<guid>1', '<enclosure url="https://a.example/1.png" type="image/png"/><guid>1'],
    ] as const)
      expect(shown(feed.replace(from, to), whole)[0]).toBe(true);
  });
  it('are the newest two hundred, wherever in it they stand', () => {
    const at = (n: number) => new Date(Date.UTC(2024, 0, 1 + n)).toUTCString();
    const feed = (n: number, isDated: (n: number) => boolean) =>
      rss(
        Array.from(
          { length: n },
          (_, at_) => `<guid>${at_}</guid><title>t</title>${isDated(at_) ? `<pubDate>${at(at_)}</pubDate>` : ''}`,
        ).join('</item><item>'),
      );
    const guids = (body: string) => read(body).items.map((one) => Number(one.guid));
    // The oldest first, as some sites have it.
    expect(guids(feed(500, () => true))).toEqual(Array.from({ length: 200 }, (_, n) => 300 + n));
    // Where nobody can tell, at both its ends.
    expect(guids(feed(500, () => false))).toEqual([...Array(100).keys(), ...Array.from({ length: 100 }, (_, n) => 400 + n)]);
    const mixed = guids(feed(500, (n) => n % 5 === 0));
    expect(mixed).toHaveLength(200);
    expect(mixed.filter((n) => n % 5 === 0)).toHaveLength(100);
    expect(guids(feed(3, () => false))).toEqual([0, 1, 2]);
  });
  it('that break off in the middle have what stands whole in them', () => {
    const items = (n: number) =>
      rss(
        Array.from({ length: n }, (_, at) => `<guid>${at}</guid><title>t</title><description>x</description>`).join(
          '</item><item>',
        ),
      );
    const entries = atom('<id>0</id><title>t</title></entry><entry><id>1</id><title>t</title>');
    const guids = (body: string) => {
      const { items, cut } = read(body);
      return [items.map((one) => one.guid), cut];
    };
    expect(guids(items(3))).toEqual([['0', '1', '2'], false]);
    expect(guids(items(3).slice(0, items(3).lastIndexOf('<description>') + 14))).toEqual([['0', '1'], true]);
    expect(guids(entries.slice(0, entries.lastIndexOf('<title>')))).toEqual([['0'], true]);
    // One that speaks of such an end, in a part that does not end itself.
    const spoken = items(2).replace(
      '<description>x</description></item></channel></rss>',
      '<description><![CDATA[how </item> ends',
    );
    expect(guids(spoken)).toEqual([['0'], true]);
    const rdf = `<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" xmlns="http://purl.org/rss/1.0/"><channel rdf:about="https://a.example/"><title>T</title></channel><item rdf:about="https://a.example/1"><title>t</title></item><item rdf:abo`;
    expect(guids(rdf)).toEqual([['https://a.example/1'], true]);
    fc.assert(
      fc.property(fc.nat(items(4).length), (end) => {
        try {
          const { items: some } = read(items(4).slice(0, end));
          expect(some.map((one) => one.guid)).toEqual(['0', '1', '2', '3'].slice(0, some.length));
          for (const one of some) expect(one.summary).toBe('x');
        } catch (error) {
          expect((error as Error).message).toMatch(/breaks off in the middle/);
        }
      }),
    );
  });
  it('that are none end in a sentence, and so do those that define entities', () => {
    expect(() => read('<!doctype html><html><body>hi</body></html>')).toThrow(/a web page, not a feed/);
    expect(() => read('<rss version="2.0"><channel><title>T</tit')).toThrow(/not a feed we can read/);
    expect(() => read('')).toThrow(/not a feed/);
    const bomb = '<?xml version="1.0"?><!DOCTYPE r [<!ENTITY a "b"><!ENTITY c "&a;&a;">]>';
    expect(() => read(`${bomb}${rss('<title>&c;</title>')}`)).toThrow(/defines entities of its own/);
    expect(read(`<!DOCTYPE rss>${rss('<title>About &amp;lt;!ENTITY</title>')}`).items[0]?.title).toBe('About <!ENTITY');
  });
});

describe('the hub of a feed', () => {
  it.each([
    ['<https://hub.example/>; rel="hub", <https://a.example/feed>; rel=self', 'https://hub.example/', 'https://a.example/feed'],
    ['</hub>;rel="x hub y"; title="a, b; <c>"', 'https://lanternfish.example/hub', undefined],
    ['<https://one.example/>; rel=HUB, <https://two.example/>; rel=hub', 'https://one.example/', undefined],
    ['<https://a.example/>; title="rel=hub"', undefined, undefined],
    ['<javascript:alert(1)>; rel=hub', undefined, undefined],
    [`<https://a.example/${';x'.repeat(9_000)}`, undefined, undefined],
    [null, undefined, undefined],
  ])('is what its answer links to: %s', (header, hub, self) => {
    const found = linkedHub(header, URL_);
    expect([found.hub, found.self]).toEqual([hub, self]);
  });
});

describe('what comes from outside', () => {
  it('is text where it is text', () => {
    const [one] = read(
      atom(
        '<id>1</id><title type="text">Use &lt;b> &amp;amp; co</title><summary type="text">&lt;script>alert(1)&lt;/script></summary>',
      ),
    ).items;
    expect(one?.title).toBe('Use <b> &amp; co');
    expect(one?.summary).toBe('<script>alert(1)</script>');
    const [escaped] = read(
      rss(
        '<title>Why &amp;amp;lt;b&amp;amp;gt; matters</title><description>&amp;lt;img src=x onerror=alert(1)&amp;gt;</description>',
      ),
    ).items;
    expect(escaped?.title).toBe('Why <b> matters');
    expect(escaped?.document?.nodes).toEqual([paragraph('<img src=x onerror=alert(1)>')]);
  });
  it('links to the web alone, and shows no picture that is there to count', () => {
    const [one] = read(
      rss(
        `<title>t</title><link>javascript:alert(1)</link><guid>javascript:alert(2)</guid><enclosure url="javascript:alert(3)" type="image/png" length="1"/><description><![CDATA[
        <a href=" java\tscript:alert(4)">a</a> <a href="data:text/html,x">b</a> <a href="vbscript:x">c</a>
        <img src="https://t.example/1.gif" width="1" height="1"><img src="https://t.example/2.gif" style="width:1px;height:1px">
        <img src="https://t.example/3.gif" style="display: none"><img src="https://t.example/4.gif" width="0"><img src="https://t.example/5.gif" hidden>
        <img src="javascript:alert(5)"><img src="https://t.example/seen.png" width="600" style="max-width:100%">]]></description>`,
      ),
    ).items;
    expect(one).toMatchObject({ link: '', picture: null });
    const text = JSON.stringify(one!.document);
    expect(text).not.toMatch(/javascript:|vbscript:|data:|t\.example\/\d/);
    expect(text).toContain('t.example/seen.png');
  });
  it('brings no right-to-left override, bell or byte order mark into a title', () => {
    const [one] = read(rss('<title>\u202egnihsihP&amp;#x202e; \u200f\ufeff&amp;#7;now</title>')).items;
    expect(one?.title).toBe('gnihsihP now');
  });
  it('holds nothing that a database could not keep, whatever JSON can say', () => {
    const bad = 'a\u0000b\ud800c';
    const items = [
      {
        id: bad,
        url: `https://a.example/${bad}`,
        title: bad,
        summary: bad,
        content_html: `<p>${bad}<code>${bad}</code></p><pre>${bad}</pre><img src="/x" alt="${bad}">`,
      },
      { id: 2, content_text: bad },
    ];
    const text = JSON.stringify(read(JSON.stringify({ version: 'https://jsonfeed.org/version/1.1', title: bad, items })));
    expect(text).not.toMatch(/\\u0000|\\ud800/i);
  });
  it('cannot be without a name', () => {
    expect(read(rss('<description>&lt;p&gt;Only words&lt;/p&gt;</description>')).items[0]).toMatchObject({
      guid: null,
      link: '',
      title: 'A new post',
      summary: 'Only words',
    });
  });
  it('always becomes a document that can be kept, whatever it is', () => {
    const piece = fc.constantFrom(
      '<p>',
      '</p>',
      '<b>',
      '<a href="x">',
      '<img src=a>',
      '<table><tr><td>',
      '<li>',
      '<ul>',
      '<pre>',
      '&lt;',
      'word ',
      '<![CDATA[',
      ']]>',
      '\u202e',
      '<svg>',
    );
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 60 }), (pieces) => {
        const json = {
          version: 'https://jsonfeed.org/version/1.1',
          title: 'T',
          items: [{ id: '1', content_html: pieces.join('') }],
        };
        const { error } = documentSchema.validate(read(JSON.stringify(json)).items[0]!.document);
        expect(error).toBeUndefined();
      }),
      { numRuns: 60 },
    );
  });
});

describe('character sets', () => {
  const words = 'Grüße – ¿qué?';
  const win = Buffer.from([0x47, 0x72, 0xfc, 0xdf, 0x65, 0x20, 0x96, 0x20, 0xbf, 0x71, 0x75, 0xe9, 0x3f]);
  const xml = (encoding: string) => Buffer.from(`<?xml version="1.0" encoding="${encoding}"?>`);
  const utf16 = (text: string) => Buffer.from(text, 'utf16le');
  it.each<[string, Uint8Array, string | null, string | RegExp]>([
    ['UTF-8', Buffer.from(words), null, words],
    ['a byte order mark goes before a header', Buffer.from(`\ufeff${words}`), 'text/xml; charset=iso-8859-1', words],
    [
      'a header goes before a declaration',
      Buffer.concat([xml('utf-8'), win]),
      'text/xml; charset="windows-1252"',
      new RegExp(words.replace(/[?]/g, '\\?')),
    ],
    ['a declaration', Buffer.concat([xml('windows-1252'), win]), 'text/xml', new RegExp(words.replace(/[?]/g, '\\?'))],
    ['Latin-1, which browsers read as Windows-1252', Buffer.concat([xml('ISO-8859-1'), win]), null, /Grüße –/],
    ['nothing said, and no UTF-8', win, null, words],
    ['a name that nobody knows', Buffer.from(words), 'text/xml; charset=klingon', words],
    ['Shift_JIS', Buffer.concat([xml('Shift_JIS'), Buffer.from([0x83, 0x65, 0x83, 0x58, 0x83, 0x67])]), null, /テスト$/],
    ['UTF-16 with a mark', Buffer.concat([Buffer.from([0xff, 0xfe]), utf16(words)]), 'text/xml; charset=utf-8', words],
    ['UTF-16 without one', utf16(`<a>${words}`), null, `<a>${words}`],
    [
      'UTF-16 that is declared and is not',
      Buffer.from(`<?xml version="1.0" encoding="utf-16"?>${words}`),
      null,
      /Grüße – ¿qué\?$/,
    ],
    ['Latin-1 that is UTF-8 throughout', Buffer.concat([xml('ISO-8859-1'), Buffer.from(words)]), null, /Grüße – ¿qué\?$/],
    ['UTF-8 that is none', Buffer.concat([xml('utf-8'), win]), 'text/xml; charset=utf-8', /Grüße – ¿qué\?$/],
    ['UTF-8 with a broken letter', Buffer.concat([xml('utf-8'), Buffer.from(words), Buffer.from([0xfc])]), null, /qué\?\ufffd$/],
    ['a header of UTF-16 where none is', Buffer.from(`<a>${words}`), 'text/xml; charset=utf-16', `<a>${words}`],
    ['a page’s own', Buffer.concat([Buffer.from('<html><meta charset=windows-1252>'), win]), 'text/html', /Grüße –/],
  ])('%s', (_, bytes, type, said) => {
    if (typeof said === 'string') expect(decodeText(bytes, type)).toBe(said);
    else expect(decodeText(bytes, type)).toMatch(said);
  });
  it('a feed in each of them says the same', () => {
    const feed = (encoding: string) => `<?xml version="1.0" encoding="${encoding}"?>${rss('<title>Grüße</title>')}`;
    for (const bytes of [
      Buffer.from(feed('utf-8')),
      Buffer.from(feed('iso-8859-1'), 'latin1'),
      Buffer.from(`\ufeff${feed('utf-16')}`, 'utf16le'),
    ])
      expect(readFeedDocument(bytes, null, URL_).items[0]?.title).toBe('Grüße');
  });
  it('never throw', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 80 }), fc.option(fc.string()), (bytes, type) => void decodeText(bytes, type)),
    );
  });
});

import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { bind, type Document, layoutSchema, STARTING_LAYOUT } from './document';
import { renderNotice } from './notice';
import { renderHtml, takeLinks } from './render';
import { plainLine, sanitisePost } from './sanitise';
import { CLOSE, OPEN, pieces, slot, withoutMarks } from './slots';
import { renderText } from './text';

const FRAME = {
  brand: { name: 'Lanternfish <Letters>', colour: '#17645c', language: 'en' },
  colophon: { reasonLine: 'You get this because you asked.', postalAddress: 'PO Box 600\n1100-001 Lisbon' },
  previewLine: 'How do you count?',
};
const POST = {
  title: 'A & B',
  link: 'https://lanternfish.example/a',
  summary: 'Short',
  html: '<p>Long <a href="https://x.example/?a=1&amp;b=2">link</a></p>',
  picture: null,
};

describe('a layout bound to a post', () => {
  it('fills every place and leaves no trace of what the post lacks', () => {
    expect(layoutSchema.validate(STARTING_LAYOUT).error).toBeUndefined();
    expect(bind(STARTING_LAYOUT, POST).blocks.map((block) => block.kind)).toEqual(['heading', 'text', 'button']);
    expect(bind(STARTING_LAYOUT, { ...POST, picture: 'https://x.example/a.png' }).blocks.map((b) => b.kind)).toEqual([
      'heading',
      'picture',
      'text',
      'button',
    ]);
    expect(bind({ blocks: [{ kind: 'post', part: 'body' }] }, { ...POST, html: '' }).blocks).toEqual([
      { kind: 'text', html: 'Short' },
    ]);
  });
});

describe('rendering', () => {
  const document: Document = bind(STARTING_LAYOUT, POST);
  it('escapes what is text, carries the colophon, and takes every web link out once', async () => {
    const { html, links } = takeLinks(await renderHtml(document, FRAME));
    expect(html).toContain('Lanternfish &lt;Letters&gt;');
    expect(html).toContain('You get this because you asked.');
    expect(html).toContain('PO Box 600, 1100-001 Lisbon');
    expect(html).toContain(slot('leave'));
    expect(html).toContain(slot('pixel'));
    expect(links).toEqual(['https://lanternfish.example/a', 'https://x.example/?a=1&b=2']);
    expect(html.split(slot('link:0'))).toHaveLength(3);
  });
  it('makes a text part of 72 columns with the links in full and the colophon last', () => {
    const words = Array.from({ length: 60 }, (_, n) => `word${n}`).join(' ');
    const text = renderText({ blocks: [...document.blocks, { kind: 'text', html: `<p>${words}</p>` }] }, FRAME);
    for (const line of text.split('\n')) expect(line.length).toBeLessThanOrEqual(80);
    expect(text).toContain('link <https://x.example/?a=1&b=2>');
    expect(text.trimEnd().endsWith(`Leave this list: ${slot('leave')}`)).toBe(true);
  });
});

describe('HTML from outside', () => {
  it.each([
    ['<script>alert(1)</script><p onclick="x()">a</p>', '<p>a</p>'],
    ['<a href="javascript:alert(1)">a</a>', '<a>a</a>'],
    ['<a href="/b">a</a>', '<a href="https://lanternfish.example/b">a</a>'],
    ['<img src="c.png" onerror="x()">', '<img src="https://lanternfish.example/posts/c.png" alt="" />'],
    ['<iframe src="https://x.example"></iframe><style>p{}</style><h1>t</h1>', '<h2>t</h2>'],
    ['<svg><a xlink:href="javascript:x">b</a></svg>', '<a>b</a>'],
  ])('%s', (raw, clean) => {
    expect(sanitisePost(raw, 'https://lanternfish.example/posts/a')).toBe(clean);
  });
  it('becomes one plain line, even when it was escaped once too often', () => {
    expect(plainLine('A &amp;amp; B\n<b>c</b>', 50)).toBe('A & B c');
    expect(plainLine('x'.repeat(60), 50)).toHaveLength(50);
  });
});

describe('slots', () => {
  it('are cut out and joined again without loss, and no foreign text can forge one', () => {
    fc.assert(
      fc.property(fc.array(fc.oneof(fc.string().map(withoutMarks), fc.constantFrom(slot('a'), slot('link:1')))), (parts) => {
        const template = parts.join('');
        expect(
          pieces(template)
            .map((piece) => (piece.kind === 'slot' ? slot(piece.name) : piece.text))
            .join(''),
        ).toBe(template);
      }),
    );
    expect(sanitisePost(`<p>${OPEN}leave${CLOSE}</p>`, 'https://x.example')).toBe('<p>leave</p>');
  });
});

describe('a notice', () => {
  it('says the same in HTML and in text, the link in full in both', () => {
    const { html, text } = renderNotice({
      name: 'N',
      colour: '#17645c',
      heading: 'H & I',
      paragraphs: ['P <b>'],
      link: { label: 'Go', url: 'https://a.example/?x=1&y=2' },
      footer: ['F'],
    });
    expect(html).toContain('H &amp; I');
    expect(html).toContain('P &lt;b&gt;');
    expect(html).toContain('<span style="word-break:break-all">https://a.example/?x=1&amp;y=2</span>');
    expect(text).toContain('Go:\nhttps://a.example/?x=1&y=2');
  });
});

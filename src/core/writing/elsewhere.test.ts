import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { node as anyNode } from './arbitrary';
import { saidIn } from './differing';
import { type Document, type Inline, type Node, rewritten } from './document';
import { fromMarkdown } from './from-markdown';
import { looksLikeMarkdown } from './markdown-signs';
import { documentSchema } from './schemas';
import { renderMarkdown } from './to-markdown';
import { webHtml, webPage } from './to-web';

const text = (words: string, more: Partial<Extract<Inline, { kind: 'text' }>> = {}): Inline => ({
  kind: 'text',
  text: words,
  ...more,
});
const p = (...inline: Inline[]): Node => ({ kind: 'paragraph', inline });
const doc = (...nodes: Node[]): Document => ({ version: 1, nodes });

const CASES: [what: string, node: Node, markdown: string, html: string][] = [
  ['a heading', { kind: 'heading', level: 2, inline: [text('Of eels')] }, '## Of eels\n', '<h2>Of eels</h2>'],
  [
    'a heading of the first level, on a page that has its title',
    { kind: 'heading', level: 1, inline: [text('Eels')] },
    '# Eels\n',
    '<h2>Eels</h2>',
  ],
  [
    'a subtitle',
    { kind: 'subtitle', text: 'Slow & <kind>' },
    '<p class="subtitle">Slow &amp; &lt;kind&gt;</p>\n',
    '<p class="subtitle">Slow &amp; &lt;kind&gt;</p>',
  ],
  [
    'signs that would be marks',
    p(text('1. a_b *c* [d] <e> #f')),
    '1\\. a_b \\*c\\* \\[d] \\<e> #f\n',
    '<p>1. a_b *c* [d] &lt;e&gt; #f</p>',
  ],
  [
    'marks, with spaces at their edges',
    p(text('see '), text(' bold ', { marks: ['bold'] }), text('and', { marks: ['italic', 'strike'] })),
    'see  **bold** ~~*and*~~\n',
    '<p>see <strong> bold </strong><s><em>and</em></s></p>',
  ],
  [
    'what Markdown has no sign for',
    p(text('H'), text('2', { marks: ['sub'] }), text('O', { marks: ['underline'] })),
    'H<sub>2</sub><u>O</u>\n',
    '<p>H<sub>2</sub><u>O</u></p>',
  ],
  ['code in a line', p(text('a`b', { marks: ['code', 'bold'] })), '**``a`b``**\n', '<p><strong><code>a`b</code></strong></p>'],
  [
    'a link',
    p(text('look', { href: 'https://a.example/?b=1&c=(2)' })),
    '[look](https://a.example/?b=1\\&c=\\(2\\))\n',
    '<p><a href="https://a.example/?b=1&amp;c=(2)">look</a></p>',
  ],
  ['a break', p(text('one'), { kind: 'break' }, text('two')), 'one\\\ntwo\n', '<p>one<br>two</p>'],
  [
    'a chip',
    p({ kind: 'chip', field: 'first_name', fallback: 'you & me' }),
    '<data value="first_name">you & me</data>\n',
    '<p>you &amp; me</p>',
  ],
  [
    'a list in a list',
    {
      kind: 'list',
      ordered: true,
      items: [[p(text('a')), { kind: 'list', ordered: false, items: [[p(text('b'))]] }], [p(text('c'))]],
    },
    '1. a\n   - b\n2. c\n',
    '<ol>\n<li><p>a</p>\n<ul>\n<li>b</li>\n</ul></li>\n<li>c</li>\n</ol>',
  ],
  [
    'a quote',
    { kind: 'quote', nodes: [p(text('a')), p(text('b'))] },
    '> a\n>\n> b\n',
    '<blockquote>\n<p>a</p>\n<p>b</p>\n</blockquote>',
  ],
  ['code with fences in it', { kind: 'code', text: 'a\n```\nb' }, '````\na\n```\nb\n````\n', '<pre><code>a\n```\nb</code></pre>'],
  [
    'a table without heads, with a pipe, of unequal rows',
    {
      kind: 'table',
      rows: [
        { head: false, cells: [[text('a|b')], [text('c')]] },
        { head: false, cells: [[text('d')]] },
      ],
    },
    '| | |\n| - | - |\n| a\\|b | c |\n| d | |\n',
    '<table>\n<tr><td>a|b</td><td>c</td></tr>\n<tr><td>d</td></tr>\n</table>',
  ],
  [
    'a picture with a caption and a link',
    { kind: 'picture', src: 'https://a.example/p.png', alt: 'A "reef"', href: 'https://a.example', caption: [text('By day')] },
    '<figure>\n\n[![A "reef"](https://a.example/p.png)](https://a.example)\n\n<figcaption>\n\nBy day\n\n</figcaption>\n\n</figure>\n',
    '<figure><a href="https://a.example"><img src="https://a.example/p.png" alt="A &quot;reef&quot;"></a><figcaption>By day</figcaption></figure>',
  ],
  [
    'a picture with a credit alone, and with a caption before it',
    {
      kind: 'columns',
      columns: [
        [{ kind: 'picture', src: 'https://a.example/p.png', alt: 'Eel', credit: 'Drawn by Ilse & Odile' }],
        [{ kind: 'picture', src: 'https://a.example/q.png', alt: '', caption: [text('By day')], credit: 'Harbour archive' }],
      ],
    },
    '<div class="columns">\n\n<div>\n\n<figure>\n\n![Eel](https://a.example/p.png)\n\n<figcaption>\n\n<p class="credit">Drawn by Ilse &amp; Odile</p>\n\n</figcaption>\n\n</figure>\n\n</div>\n\n<div>\n\n<figure>\n\n![](https://a.example/q.png)\n\n<figcaption>\n\nBy day\n\n<p class="credit">Harbour archive</p>\n\n</figcaption>\n\n</figure>\n\n</div>\n\n</div>\n',
    '<div class="columns">\n<div>\n<figure><img src="https://a.example/p.png" alt="Eel"><figcaption><small class="credit">Drawn by Ilse &amp; Odile</small></figcaption></figure>\n</div>\n<div>\n<figure><img src="https://a.example/q.png" alt=""><figcaption>By day <small class="credit">Harbour archive</small></figcaption></figure>\n</div>\n</div>',
  ],
  [
    'a button',
    { kind: 'button', label: 'Go <on>', href: 'https://a.example' },
    '<a class="button" href="https://a.example">Go \\<on></a>\n',
    '<p><a class="button" href="https://a.example">Go &lt;on&gt;</a></p>',
  ],
  ['a divider', { kind: 'divider' }, '***\n', '<hr>'],
  [
    'a pull quote',
    { kind: 'pull quote', inline: [text('Slow is smooth.')], by: 'A diver' },
    '<figure class="pull">\n\n> Slow is smooth.\n\n<figcaption>\n\nA diver\n\n</figcaption>\n\n</figure>\n',
    '<figure class="pull"><blockquote><p>Slow is smooth.</p></blockquote><figcaption>A diver</figcaption></figure>',
  ],
  [
    'a call-out',
    { kind: 'call-out', nodes: [p(text('Mind the step.'))] },
    '<aside>\n\nMind the step.\n\n</aside>\n',
    '<aside>\n<p>Mind the step.</p>\n</aside>',
  ],
  [
    'columns',
    { kind: 'columns', columns: [[p(text('a'))], [p(text('b'))]] },
    '<div class="columns">\n\n<div>\n\na\n\n</div>\n\n<div>\n\nb\n\n</div>\n\n</div>\n',
    '<div class="columns">\n<div>\n<p>a</p>\n</div>\n<div>\n<p>b</p>\n</div>\n</div>',
  ],
  [
    'a gallery',
    { kind: 'gallery', pictures: [{ src: 'https://a.example/1.png', alt: 'One' }] },
    '<div class="gallery">\n\n![One](https://a.example/1.png)\n\n</div>\n',
    '<div class="gallery"><img src="https://a.example/1.png" alt="One"></div>',
  ],
  [
    'a card',
    { kind: 'card', href: 'https://a.example/v', title: 'The haul', words: 'Six minutes', picture: '' },
    '<div class="card">\n\n[The haul](https://a.example/v) Six minutes\n\n</div>\n',
    '<p class="card"><a href="https://a.example/v">The haul</a> Six minutes</p>',
  ],
  [
    'a footnote',
    p(text('Eels'), { kind: 'note', words: [text('Not all.')] }, text(' swim')),
    'Eels[^1] swim\n\n[^1]: Not all.\n',
    '<p>Eels<sup><a id="to-note-1" href="#note-1">1</a></sup> swim</p>\n<ol class="notes">\n<li id="note-1">Not all. <a href="#to-note-1" aria-label="↑ 1">↑</a></li>\n</ol>',
  ],
  [
    'a look of its own',
    { kind: 'paragraph', inline: [text('Set apart')], look: { align: 'centre', ground: '#f7ecd4' } },
    '<div class="look" data-align="centre" data-ground="#f7ecd4">\n\nSet apart\n\n</div>\n',
    '<p style="text-align:center;color:#1c2230;background:#f7ecd4;padding:.6em .9em">Set apart</p>',
  ],
  [
    'a part for some, which is nothing on a page for everybody',
    { kind: 'part', segmentId: '018f0000-0000-7000-8000-000000000001', inside: false, nodes: [p(text('Join us'))] },
    '<div class="part" data-segment="018f0000-0000-7000-8000-000000000001" data-inside="false">\n\nJoin us\n\n</div>\n',
    '',
  ],
  [
    'the newest posts',
    { kind: 'latest', most: 3, words: true },
    '<div class="latest" data-most="3" data-words="true"></div>\n',
    '',
  ],
  ['a sign-up form', { kind: 'sign-up', formId: null }, '<div class="sign-up" data-form=""></div>\n', ''],
  [
    'HTML of one’s own, cleaned',
    { kind: 'html', html: '<p onclick="x()">Own <script>1</script><b>bold</b></p>' },
    '<div class="own"><p>Own <b>bold</b></p></div>\n',
    '<div class="own"><p>Own <b>bold</b></p></div>',
  ],
  [
    'a line of who and when',
    { kind: 'byline', text: 'O. V. · 3 May' },
    '<p class="byline">O. V. · 3 May</p>\n',
    '<p class="byline">O. V. · 3 May</p>',
  ],
  ['space', { kind: 'spacer', size: 'small' }, '<div class="space small"></div>\n', '<div class="space small"></div>'],
];

describe('a document elsewhere', () => {
  it.each(CASES)('has %s', (_, node, markdown, html) => {
    expect(renderMarkdown(doc(node))).toBe(markdown);
    expect(webHtml(doc(node))).toBe(html);
  });

  it('leaves out what a later version has and what is one reader’s own, and keeps the rest', () => {
    const document = doc(p(text('a')), { kind: 'hologram' } as never, { kind: 'stay', label: 'Stay' }, p(text('b')));
    expect(renderMarkdown(document)).toBe('a\n\nb\n');
    expect(webHtml(document)).toBe('<p>a</p>\n<p>b</p>');
  });

  it('says what it is about before it, so that any program reads it', () => {
    expect(renderMarkdown(doc(p(text('a'))), { title: 'Eels: “a” life', created: '2026-11-24T09:00:00.000Z' })).toBe(
      '---\ntitle: "Eels: “a” life"\ncreated: 2026-11-24T09:00:00.000Z\n---\n\na\n',
    );
    const page = webPage(doc(p(text('a'))), { title: '<b>', subtitle: '', language: 'ar' });
    expect(page).toContain('<html lang="ar" dir="rtl">');
    expect(page).toContain('<h1>&lt;b&gt;</h1>');
  });
});

describe('Markdown from outside', () => {
  it.each(CASES.filter(([what]) => !what.startsWith('HTML of one')))('brings back %s as it was', (_, node) => {
    const made = renderMarkdown(doc(node));
    const back = fromMarkdown(made).document;
    expect(documentSchema.validate(back).error).toBeUndefined();
    expect(renderMarkdown(back)).toBe(made);
  });

  it('brings any document back: what it says, and the same Markdown again', () => {
    // What Markdown does not hold apart: HTML of one’s own becomes nodes, cells, captions and edges have no line breaks or spaces of their
    // own, and marks that touch one another run together (they are above, one by one).
    const holds = (nodes: Node[]) =>
      rewritten(nodes, (one) => (one.kind === 'html' || (one.kind as string) === 'hologram' || one.kind === 'stay' ? [] : [one]));
    const calm = (nodes: Node[]): Node[] =>
      JSON.parse(
        JSON.stringify(nodes, (key, value) => (key === 'marks' ? undefined : value))
          .replaceAll('\\n', ' ')
          .replaceAll('mailto:a@b.example', 'https://b.example/'),
      );
    const bare = (said: string) => said.replace(/[\s|-]+/g, '').replace(/\(first_name\)/g, '');
    fc.assert(
      fc.property(fc.array(anyNode, { maxLength: 5 }), (nodes) => {
        const document = doc(...holds(calm(nodes)));
        const made = renderMarkdown(document);
        const { document: back } = fromMarkdown(made);
        expect(documentSchema.validate(back).error).toBeUndefined();
        expect(bare(saidIn(back))).toBe(bare(saidIn(document)));
        expect(renderMarkdown(fromMarkdown(renderMarkdown(back)).document)).toBe(renderMarkdown(back));
      }),
      { numRuns: 300 },
    );
  });

  it('reads what it says of itself, and only what we know', () => {
    const { document, front } = fromMarkdown(
      '---\ntitle: "Eels"\ntopics: [Deep water, 7, Lights]\npreview: 3\nowner: nobody\n---\n\n# One\n\nTwo\n',
    );
    expect(front).toEqual({ title: 'Eels', topics: ['Deep water', 'Lights'], preview: '3' });
    expect(document.nodes.map((one) => one.kind)).toEqual(['heading', 'paragraph']);
    // What is no YAML is text; a bomb of aliases is no YAML that we read.
    expect(fromMarkdown('---\n: : [\n---\nText').document.nodes).not.toEqual([]);
    const bomb = `---\na: &a [x,x,x]\n${'bcdefghij'
      .split('')
      .map((name, n) => `${name}: &${name} [${`*${'abcdefghij'[n]},`.repeat(9)}]`)
      .join('\n')}\n---\nText`;
    expect(fromMarkdown(bomb).front).toEqual({});
  });

  it('takes nothing out of a file that could do anything', () => {
    const { document } = fromMarkdown(
      '[a](javascript:alert(1)) <img src=x onerror=alert(1)>\n\n![p](data:image/svg+xml,x)\n\n<script>alert(1)</script>\n\n<form><input></form>\n\n<https://a.example/\u202ex>\n',
    );
    expect(JSON.stringify(document)).not.toMatch(/javascript|onerror|alert|data:|form|\u202e/);
    expect(fromMarkdown(`a[^1]\n\n[^1]: b[^1]`).document.nodes).toEqual([p(text('a'), { kind: 'note', words: [text('b')] })]);
    // Many openings and quotes in quotes end.
    expect(fromMarkdown('>'.repeat(5_000)).document.nodes.length).toBeLessThan(10);
    expect(fromMarkdown('<div class="columns">\n\n'.repeat(500)).document.nodes.length).toBeLessThan(5_000);
  });

  it('knows Markdown when it is pasted as text, and leaves words alone', () => {
    expect(looksLikeMarkdown('# Eels\n\nThey swim.')).toBe(true);
    expect(looksLikeMarkdown('See [the list](https://a.example) and **that**.')).toBe(true);
    expect(looksLikeMarkdown('Milk\n- bread\n5 * 3 > 2')).toBe(false);
    expect(looksLikeMarkdown('A plain sentence, (see below).')).toBe(false);
  });
});

import fc from 'fast-check';
import { Parser } from 'htmlparser2';
import { describe, expect, it } from 'vitest';
import { chipsIn, type Document, type Node, run } from './document';
import { fromHtml } from './from-html';
import { bind, type Post, STARTING_LAYOUT } from './layout';
import { STARTING_LOOK } from './look';
import { renderNotice } from './notice';
import { plainLine } from './plain-line';
import { renderHtml, takeLinks } from './render';
import { documentSchema, layoutSchema } from './schemas';
import { CLOSE, chipSlot, OPEN, pieces, slot, withoutMarks } from './slots';
import { renderText } from './text';

const FRAME = {
  brand: { name: 'Lanternfish <Letters>', colour: '#17645c', language: 'en' },
  colophon: { reasonLine: 'You get this because you asked.', postalAddress: 'PO Box 600\n1100-001 Lisbon' },
  previewLine: 'How do you count?',
  countsOpens: true,
};
const POST: Post = {
  title: 'A & B',
  subtitle: '',
  summary: 'Short',
  author: '',
  day: '',
  link: 'https://lanternfish.example/a',
  picture: null,
  document: fromHtml('<p>Long <a href="https://x.example/?a=1&amp;b=2">link</a></p>', 'https://lanternfish.example/a'),
};
const EMPTY: Document = { version: 1, nodes: [] };

describe('a layout bound to a post', () => {
  it('fills every place and leaves no trace of what the post lacks', () => {
    expect(layoutSchema.validate(STARTING_LAYOUT).error).toBeUndefined();
    expect(bind(STARTING_LAYOUT, POST).nodes.map((node) => node.kind)).toEqual(['heading', 'paragraph', 'button']);
    expect(bind(STARTING_LAYOUT, { ...POST, picture: 'https://x.example/a.png' }).nodes.map((node) => node.kind)).toEqual([
      'heading',
      'picture',
      'paragraph',
      'button',
    ]);
    expect(
      bind({ version: 1, look: STARTING_LOOK, nodes: [{ kind: 'post', part: 'body' }] }, { ...POST, document: EMPTY }).nodes,
    ).toEqual([{ kind: 'paragraph', inline: [{ kind: 'text', text: 'Short' }] }]);
  });
});

describe('rendering', () => {
  const document: Document = bind(STARTING_LAYOUT, POST);
  it('escapes what is text, carries the colophon with Unsubscribe, has one h1, and takes every web link out once', async () => {
    const { html, links } = takeLinks(await renderHtml(document, FRAME));
    expect(html).toContain('Lanternfish &lt;Letters&gt;');
    expect(html).toContain('You get this because you asked.');
    expect(html).toContain('PO Box 600, 1100-001 Lisbon');
    expect(html).toMatch(new RegExp(`<a href="${slot('leave')}"[^>]*>Unsubscribe</a>`));
    expect(html).toContain(slot('pixel'));
    expect(html.match(/<h1/g)).toHaveLength(1);
    expect(html).toContain('name="color-scheme" content="light dark"');
    expect(html).toContain('@media (prefers-color-scheme:dark)');
    expect(links).toEqual(['https://lanternfish.example/a', 'https://x.example/?a=1&b=2']);
    expect(html.split(slot('link:0'))).toHaveLength(3);
  });
  it('says Unsubscribe in the newsletter’s language', async () => {
    const frame = { ...FRAME, brand: { ...FRAME.brand, language: 'de-AT' } };
    expect(await renderHtml(document, frame)).toContain('>Abmelden</a>');
    expect(renderText(document, frame)).toContain('Abmelden:\n');
  });
  it('makes a text part of at most 78 columns, footer included, each address once, the colophon last', () => {
    const words = Array.from({ length: 60 }, (_, n) => `word${n}`).join(' ');
    const frame = { ...FRAME, colophon: { ...FRAME.colophon, reasonLine: words } };
    const text = renderText(
      {
        version: 1,
        nodes: [
          ...document.nodes,
          ...fromHtml(`<p>${words}</p><ul><li>${words}</li></ul><blockquote>${words}</blockquote>`, 'https://x.example').nodes,
        ],
      },
      frame,
    );
    for (const line of text.split('\n')) expect([...line].length).toBeLessThanOrEqual(78);
    expect(text).toContain('Long link [2]');
    expect(text.split('https://lanternfish.example/a')).toHaveLength(2);
    expect(text.split('https://x.example/?a=1&b=2')).toHaveLength(2);
    expect(text.trimEnd().endsWith(`Unsubscribe:\n${slot('leave')}`)).toBe(true);
  });
  it('shows nothing for a node of a later version, and keeps it', async () => {
    const later = { kind: 'hologram', depth: 3 } as unknown as Node;
    const html = await renderHtml({ version: 1, nodes: [later, { kind: 'paragraph', inline: run('After it') }] }, FRAME);
    expect(html).toContain('After it');
    expect(html).not.toContain('hologram');
    expect(chipsIn({ version: 1, nodes: [later] })).toEqual([]);
  });
  it('makes slots of merge chips, each field with each fallback once', async () => {
    const nodes: Node[] = [
      {
        kind: 'paragraph',
        inline: [
          { kind: 'text', text: 'Dear ' },
          { kind: 'chip', field: 'first name', fallback: 'reader' },
        ],
      },
    ];
    const chips: Document = { version: 1, nodes: [...nodes, ...nodes] };
    const made = slot(chipSlot({ field: 'first name', fallback: 'reader' }));
    expect(await renderHtml(chips, FRAME)).toContain(`Dear ${made}`);
    expect(renderText(chips, FRAME)).toContain(`Dear ${made}`);
    expect(chipsIn(chips)).toEqual([{ field: 'first name', fallback: 'reader' }]);
  });
});

describe('HTML from outside', () => {
  const read = (html: string) => fromHtml(html, 'https://lanternfish.example/posts/a').nodes;
  const text = (words: string) => [{ kind: 'text', text: words }];
  it.each<[string, unknown[]]>([
    ['<script>alert(1)</script><p onclick="x()">a</p>', [{ kind: 'paragraph', inline: text('a') }]],
    ['<a href="javascript:alert(1)">a</a>', [{ kind: 'paragraph', inline: text('a') }]],
    ['<a href="/b">a</a>', [{ kind: 'paragraph', inline: [{ kind: 'text', text: 'a', href: 'https://lanternfish.example/b' }] }]],
    ['<img src="c.png" onerror="x()">', [{ kind: 'picture', src: 'https://lanternfish.example/posts/c.png', alt: '' }]],
    ['<img src="https://count.example/p.gif" width="1" height="1"><img src="data:image/png;base64,xx">', []],
    [
      '<img src="data:image/gif;base64,R0" data-src="/a.png"><img src="/loading.gif" srcset="/s.png 400w, /m.png 1200w, /l.png 4000w">',
      ['a.png', 'm.png'].map((name) => ({ kind: 'picture', src: `https://lanternfish.example/${name}`, alt: '' })),
    ],
    [
      '<picture><source srcset="/one.webp 1x, /two.webp 2x"><img alt="Eels"></picture><img srcset="/big.png 3000w">',
      [
        { kind: 'picture', src: 'https://lanternfish.example/two.webp', alt: 'Eels' },
        { kind: 'picture', src: 'https://lanternfish.example/big.png', alt: '' },
      ],
    ],
    [
      '<video poster="/p.png" title="A pond"><source src="/pond.mp4"><p>Your program shows no films</p></video><p>b</p>',
      [
        {
          kind: 'card',
          href: 'https://lanternfish.example/pond.mp4',
          title: 'A pond',
          words: '',
          picture: 'https://lanternfish.example/p.png',
        },
        { kind: 'paragraph', inline: text('b') },
      ],
    ],
    [
      '<audio src="/owl.mp3"></audio><iframe src="https://films.example/e/1" width="560"></iframe><video></video>',
      [
        { kind: 'card', href: 'https://lanternfish.example/owl.mp3', title: 'lanternfish.example', words: '', picture: '' },
        { kind: 'card', href: 'https://films.example/e/1', title: 'films.example', words: '', picture: '' },
      ],
    ],
    [
      '<iframe src="javascript:alert(1)" width="560"></iframe><iframe src="https://ads.example/" width="600" height="1"></iframe>',
      [],
    ],
    ['<iframe src="https://x.example"></iframe><style>p{}</style><h1>t</h1>', [{ kind: 'heading', level: 2, inline: text('t') }]],
    ['<svg><a xlink:href="javascript:x">b</a></svg>c', [{ kind: 'paragraph', inline: text('c') }]],
    ['a &lt;b onclick=x&gt; c', [{ kind: 'paragraph', inline: text('a <b onclick=x> c') }]],
    [
      '<p>a<br>b</p><hr><pre>x\n  y</pre>',
      [
        { kind: 'paragraph', inline: [...text('a'), { kind: 'break' }, ...text('b')] },
        { kind: 'divider' },
        { kind: 'code', text: 'x\n  y' },
      ],
    ],
    [
      '<ol><li>a<ul><li>b</ul><li>c</ol>',
      [
        {
          kind: 'list',
          ordered: true,
          items: [
            [
              { kind: 'paragraph', inline: text('a') },
              { kind: 'list', ordered: false, items: [[{ kind: 'paragraph', inline: text('b') }]] },
            ],
            [{ kind: 'paragraph', inline: text('c') }],
          ],
        },
      ],
    ],
    [
      '<table><tr><th>a<th>b<tr><td>1<td>2</table>',
      [
        {
          kind: 'table',
          rows: [
            { head: true, cells: [text('a'), text('b')] },
            { head: false, cells: [text('1'), text('2')] },
          ],
        },
      ],
    ],
    [
      '<figure><img src="/a.png" alt="A lamp"><figcaption>Lit</figcaption></figure>',
      [{ kind: 'picture', src: 'https://lanternfish.example/a.png', alt: 'A lamp', caption: text('Lit') }],
    ],
    [
      '<figure><img src="/a.png" alt="A lamp"><figcaption>Lit <em class="photo-credit">Photo: <a href="/x">Ilse</a></em> twice</figcaption></figure>',
      [
        {
          kind: 'picture',
          src: 'https://lanternfish.example/a.png',
          alt: 'A lamp',
          caption: text('Lit twice'),
          credit: 'Photo: Ilse',
        },
      ],
    ],
    [
      '<figure><img src="/a.png" alt="A lamp"><figcaption><span class="credit">By <span>Ilse</span> and Odile</span></figcaption></figure><p>After</p>',
      [
        { kind: 'picture', src: 'https://lanternfish.example/a.png', alt: 'A lamp', credit: 'By Ilse and Odile' },
        { kind: 'paragraph', inline: text('After') },
      ],
    ],
    [
      '<figure><img src="/a.png" alt="A lamp"><figcaption><i class="credit">Never closed</figcaption></figure><p>After</p>',
      [
        { kind: 'picture', src: 'https://lanternfish.example/a.png', alt: 'A lamp', credit: 'Never closed' },
        { kind: 'paragraph', inline: text('After') },
      ],
    ],
    ['<p class="credit">Not in a caption</p>', [{ kind: 'paragraph', inline: text('Not in a caption') }]],
    [
      '<p>a \u202eb <b>c <i>d</i></b></p>',
      [
        {
          kind: 'paragraph',
          inline: [
            { kind: 'text', text: 'a b ' },
            { kind: 'text', text: 'c ', marks: ['bold'] },
            { kind: 'text', text: 'd', marks: ['bold', 'italic'] },
          ],
        },
      ],
    ],
  ])('%s', (html, nodes) => {
    expect(read(html)).toEqual(nodes);
  });
  it('is always a valid document, whatever it is, and takes time by its length alone', () => {
    const tag = fc.constantFrom(
      'p',
      'b',
      'ul',
      'li',
      'table',
      'tr',
      'td',
      'blockquote',
      'a href="x"',
      'pre',
      'h2',
      'script',
      'img src="a.png"',
    );
    const piece = fc.oneof(
      tag.map((name) => `<${name}>`),
      tag.map((name) => `</${name.split(' ')[0]}>`),
      fc.string(),
    );
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 60 }), (pieces) => {
        const document = fromHtml(pieces.join(''), 'https://x.example/');
        expect(documentSchema.validate(document).error).toBeUndefined();
      }),
    );
    for (const unclosed of ['<b>', '<blockquote>', '<ul><li>', '<table><tr><td>', '<a href="x">'])
      expect(documentSchema.validate(fromHtml(unclosed.repeat(30_000), 'https://x.example/')).error).toBeUndefined();
  });
  it('becomes one plain line, even when it was escaped once too often', () => {
    expect(plainLine('A &amp;amp; B\n<b>c</b>', 50)).toBe('A & B c');
    expect(plainLine('x'.repeat(60), 50)).toHaveLength(50);
    expect(plainLine('<script>alert(1)</script>Title \u202eevil', 50)).toBe('Title evil');
  });
  it('is the beginning of all that HTML says, however little of it was read', () => {
    const piece = fc.constantFrom(
      'Words of a post. ',
      '<p>',
      '</p>',
      '<a href="/x" title="a > b">',
      '</a>',
      '&amp;amp; ',
      '&#8217;',
      '<br>',
      '<script>let a = "<p>hidden</p>";</script>',
      '<style>p{}</style>',
      '<!-- said by nobody -->',
      '<img src="data:image/gif;base64,AAAA" alt="x">',
      '   \n',
      '鯨 🐋 ',
      '&lt;b&gt;',
    );
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 400 }), fc.integer({ min: 5, max: 240 }), (pieces, most) => {
        const html = pieces.join('');
        const whole = plainLine(html, 100_000);
        const line = plainLine(html, most);
        expect(line).toBe(whole.length <= most ? whole : `${whole.slice(0, most - 1).trimEnd()}…`);
      }),
      { numRuns: 300 },
    );
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
    expect(fromHtml(`<p>${OPEN}leave${CLOSE}</p>`, 'https://x.example').nodes).toEqual([
      { kind: 'paragraph', inline: [{ kind: 'text', text: 'leave' }] },
    ]);
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

describe('blocks of a letter', () => {
  const say = (words: string): Node => ({ kind: 'paragraph', inline: run(words) });
  const BLOCKS: Document = {
    version: 1,
    nodes: [
      { kind: 'pull quote', inline: run('Slow is <smooth>.'), by: 'A diver' },
      { kind: 'call-out', nodes: [say('Mind the step.'), { kind: 'button', label: 'Look', href: 'https://a.example/look' }] },
      {
        kind: 'columns',
        columns: [[say('Left')], [say('Right')], [{ kind: 'picture', src: 'https://a.example/p.png', alt: 'A reef' }]],
      },
      {
        kind: 'gallery',
        pictures: [1, 2, 3].map((n) => ({
          src: `https://a.example/${n}.png`,
          alt: `Plate ${n}`,
          ...(n === 1 ? { href: 'https://a.example/plates' } : {}),
        })),
      },
      {
        kind: 'card',
        href: 'https://a.example/v?a=1&b=2',
        title: 'The haul',
        words: 'Six minutes',
        picture: 'https://a.example/still.png',
      },
      { kind: 'spacer', size: 'large' },
      { kind: 'stay', label: 'Yes, let it come' },
    ],
  };

  it('are tables and lines of style that old programs show too, every picture described, every link counted', async () => {
    expect(documentSchema.validate(BLOCKS).error).toBeUndefined();
    const { html, links } = takeLinks(await renderHtml(BLOCKS, FRAME));
    expect(links).toEqual(['https://a.example/look', 'https://a.example/plates', 'https://a.example/v?a=1&b=2']);
    expect(html).toContain('Slow is &lt;smooth&gt;.');
    const open: string[] = [];
    const pictures: Record<string, string>[] = [];
    const tables: Record<string, string>[] = [];
    const void_ = new Set(['img', 'br', 'hr', 'meta', 'link', 'input']);
    const parser = new Parser({
      onopentag: (name, attributes) => {
        if (name === 'img') pictures.push(attributes);
        if (name === 'table') tables.push(attributes);
        if (!void_.has(name)) open.push(name);
      },
      onclosetag: (name, implied) => {
        if (void_.has(name)) return;
        expect([open.pop(), implied]).toEqual([name, false]);
      },
    });
    parser.end(html);
    expect(open).toEqual([]);
    expect(pictures.length).toBeGreaterThanOrEqual(5);
    expect(pictures.every((one) => 'alt' in one)).toBe(true);
    // All but the ones that hold data, which are read as tables.
    const data = JSON.stringify(BLOCKS).split('"kind":"table"').length - 1;
    expect(tables.filter((one) => one.role !== 'presentation')).toHaveLength(data);
    // Side by side for programs that know tables alone.
    expect(html.match(/<!--\[if mso\]><td width="178"/g)).toHaveLength(3);
    expect(html).toContain(slot('stay'));
    expect(html.length).toBeLessThan(30_000);
  });

  it('are said in the text part, each address once', () => {
    const said = renderText(BLOCKS, FRAME);
    for (const part of [
      '    Slow is <smooth>. (A diver)',
      '| Mind the step.',
      'Left\n\nRight',
      '[Plate 3]',
      'The haul [2]',
      `Yes, let it come:\n${slot('stay')}`,
      '[2] https://a.example/v?a=1&b=2',
    ])
      expect(said).toContain(part);
  });
});

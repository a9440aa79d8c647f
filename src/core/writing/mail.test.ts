import { caniemail } from 'caniemail';
import { Parser } from 'htmlparser2';
import { describe, expect, it } from 'vitest';
import { contrast } from '../newsletters/identity';
import { MOST_HTML } from './checks';
import { cleanHtml, loses } from './clean-html';
import type { Document, Inline, Node } from './document';
import { fromEditor, toEditor } from './editing';
import { chipsOfLine, lineForAll, linePieces, lineTemplate, oneLine, typedChip } from './line';
import { CORNERS, FACES, LETTER_WIDTHS, type Look, ROOMS, STARTING_LOOK, unreadable } from './look';
import { type LetterFrame, renderHtml, takeLinks } from './render';
import { documentSchema } from './schemas';
import { filledFor, pieces, slot } from './slots';
import { renderText, textToEdit } from './text';

const text = (words: string): Inline[] => [{ kind: 'text', text: words }];
const p = (words: string): Node => ({ kind: 'paragraph', inline: text(words) });
const SRC = 'https://pictures.example/a.png';
const SEGMENT = '018f0000-0000-7000-8000-000000000001';

/** Every node there is, each in each look that it may have. */
const NODES: Node[] = [
  { kind: 'heading', level: 1, inline: text('Title') },
  { kind: 'subtitle', text: 'Subtitle' },
  { kind: 'byline', text: 'O. V.' },
  { kind: 'heading', level: 2, inline: text('Heading'), look: { align: 'centre', colour: '#17645c', ground: '#f7ecd4' } },
  {
    kind: 'paragraph',
    inline: [...text('Words'), { kind: 'note', words: text('A note') }, { kind: 'chip', field: 'first_name', fallback: 'you' }],
  },
  { kind: 'paragraph', inline: text('Set apart'), look: { align: 'end', ground: '#10282f' } },
  {
    kind: 'paragraph',
    inline: [
      {
        kind: 'text',
        text: 'All marks',
        href: 'https://a.example/',
        marks: ['bold', 'italic', 'underline', 'strike', 'code', 'sub', 'sup'],
      },
    ],
  },
  { kind: 'list', ordered: true, items: [[p('One'), { kind: 'list', ordered: false, items: [[p('Inner')]] }]] },
  { kind: 'quote', nodes: [p('Quoted')] },
  { kind: 'pull quote', inline: text('Large'), by: 'Her', look: { colour: '#a8322a' } },
  {
    kind: 'call-out',
    nodes: [p('Mind'), { kind: 'button', label: 'Go', href: 'https://b.example/' }],
    look: { ground: '#e1eeea' },
  },
  { kind: 'columns', columns: [[p('Left')], [p('Right')], [{ kind: 'picture', src: SRC, alt: 'Third' }]] },
  {
    kind: 'gallery',
    pictures: [
      { src: SRC, alt: 'One', href: 'https://c.example/' },
      { src: SRC, alt: 'Two' },
      { src: SRC, alt: 'Three' },
    ],
  },
  { kind: 'card', href: 'https://d.example/', title: 'Card', words: 'Words', picture: SRC },
  { kind: 'spacer', size: 'large' },
  { kind: 'code', text: 'a < b' },
  {
    kind: 'table',
    rows: [
      { head: true, cells: [text('Head')] },
      { head: false, cells: [text('Cell')] },
    ],
  },
  {
    kind: 'picture',
    src: SRC,
    alt: 'A reef',
    href: 'https://e.example/',
    caption: text('By day'),
    look: { width: 'half', align: 'centre' },
  },
  { kind: 'button', label: 'Press', href: 'https://f.example/', look: { align: 'centre', colour: '#a8322a' } },
  { kind: 'stay', label: 'Stay' },
  { kind: 'part', segmentId: SEGMENT, inside: true, nodes: [p('For members')] },
  { kind: 'html', html: '<p style="color:#1c2230">Own</p>' },
  { kind: 'sign-up', formId: null },
  { kind: 'divider', look: { colour: '#17645c' } },
];
const ALL: Document = { version: 1, nodes: NODES };
const FRAME: LetterFrame = {
  brand: {
    name: 'Lanternfish',
    colour: '#17645c',
    language: 'en',
    logo: SRC,
    links: [{ label: 'Site', url: 'https://g.example/' }],
  },
  colophon: { reasonLine: 'You asked for it.', postalAddress: 'PO Box 600\nLisbon' },
  previewLine: 'Hello ‹first_name or you›',
  countsOpens: true,
  seen: true,
};
const LOOKS: [string, Look][] = [
  ['as it begins', STARTING_LOOK],
  [
    'outlined, dark, narrow',
    {
      ...STARTING_LOOK,
      text: 'plain',
      headings: 'wide',
      size: 16,
      width: 480,
      room: 'narrow',
      corners: 'round',
      button: 'outlined',
      colours: { ink: '#f2efe6', soft: '#b3b1a8', sheet: '#1b1f27', page: '#14171d', accent: '#7fc4b6' },
      head: { logo: false, name: true, see: true, centred: true },
      foot: { words: 'Written by hand.\nSent at dawn.', links: false, credit: true, centred: true },
    },
  ],
  [
    'square and wide',
    {
      ...STARTING_LOOK,
      width: 640,
      room: 'wide',
      corners: 'square',
      head: { logo: true, name: false, see: false, centred: false },
    },
  ],
];

/** A page read into what a reader of its source would complain of. */
function faultsOf(html: string): string[] {
  const faults: string[] = [];
  const open: string[] = [];
  const ids = new Set<string>();
  let heading = 0;
  const unclosed = new Set(['img', 'br', 'hr', 'meta', 'link', 'col']);
  const parser = new Parser({
    onopentag(tag, attributes) {
      if (!unclosed.has(tag)) open.push(tag);
      if (attributes.id) ids.has(attributes.id) ? faults.push(`id ${attributes.id} twice`) : ids.add(attributes.id);
      if (tag === 'img' && attributes.alt === undefined) faults.push('a picture without a description');
      if (tag === 'img' && !attributes.width) faults.push('a picture without a width');
      if (tag === 'table' && attributes.role !== 'presentation' && !html.includes('<th scope="col"'))
        faults.push('a table that is read as data');
      if (/^h[1-6]$/.test(tag)) {
        const level = Number(tag[1]);
        if (level > heading + 1) faults.push(`a heading of level ${level} after ${heading}`);
        heading = level;
      }
      if (tag === 'a' && !attributes.href) faults.push('a link that leads nowhere');
      if (tag === 'script' || tag === 'form' || tag === 'iframe' || Object.keys(attributes).some((name) => name.startsWith('on')))
        faults.push(`<${tag}> runs`);
    },
    onclosetag(tag, implied) {
      if (unclosed.has(tag)) return;
      if (open.pop() !== tag || implied) faults.push(`<${tag}> is not closed where it should be`);
    },
  });
  parser.write(html);
  parser.end();
  return [...faults, ...open.map((tag) => `<${tag}> stays open`)];
}

describe('a letter of five hundred pictures', () => {
  const many: Document = {
    version: 1,
    nodes: Array.from({ length: 500 }, (_, n) => ({
      kind: 'picture',
      src: `https://a.example/media/${n}.jpg`,
      alt: `The ${n}th haul`,
      caption: text('By day'),
      credit: 'A diver',
    })),
  };

  it('can be kept, edited, rendered whole, and read as text; it is said to be cut off', async () => {
    expect(documentSchema.validate(many).error).toBeUndefined();
    expect(fromEditor(toEditor(many))).toEqual(many);
    const html = await renderHtml(many, { ...FRAME, look: STARTING_LOOK });
    expect(html.match(/<img [^>]*haul/g)).toHaveLength(500);
    expect(faultsOf(html)).toEqual([]);
    expect(Buffer.byteLength(html)).toBeGreaterThan(MOST_HTML);
    const said = renderText(many, FRAME);
    expect(said.match(/\[The \d+th haul\]\nBy day\n\(A diver\)/g)).toHaveLength(500);
  });
});

describe.each(LOOKS)('a letter with every node, %s', (_, look) => {
  const made = () => renderHtml(ALL, { ...FRAME, look });

  it('is whole: every element closed, every picture described and sized, headings in order, nothing that runs', async () => {
    expect(faultsOf(await made())).toEqual([]);
  });

  it('is read well: every colour on its ground at least 4.5 to 1, and far under 102 KB', async () => {
    expect(unreadable(look, '#17645c')).toEqual([]);
    const html = await made();
    expect(Buffer.byteLength(html)).toBeLessThan(40_000);
    // Each button's words on its own colour, whatever that is.
    for (const [, ground, ink] of html.matchAll(/class="act"[^>]*background:(#[0-9a-f]{6})[^>]*><a [^>]*color:(#[0-9a-f]{6})/g))
      expect(contrast(ground!, ink!)).toBeGreaterThan(4.5);
  });

  it('shows the same without its style sheet: what it says of phones and the dark is all that is lost', async () => {
    const html = await made();
    const sheets = [...html.matchAll(/<style[^>]*>([\s\S]*?)<\/style>/g)].map(([, css]) => css!).join('\n');
    // Outside of rules for narrow windows and the dark, the sheets only undo what programs do by themselves.
    const rest = sheets.replace(/@media[^{]*\{(?:[^{}]*\{[^{}]*\})*[^{}]*\}/g, '');
    expect([...rest.matchAll(/([^{}]+)\{/g)].map(([, selector]) => selector!.trim()).sort()).toEqual(
      [
        '#outlook a',
        '.moz-text-html .mj-column-per-100',
        '.mj-outlook-group-fix',
        '.prose img',
        ':root',
        'body',
        'img',
        'p',
        'table, td',
      ].sort(),
    );
    expect(html).toContain(FACES[look.text].replace(/'/g, "'"));
    expect(html).toContain(`max-width:${look.width}px`);
    expect(html).toContain(`padding:22px ${ROOMS[look.room]}px`);
    expect(html).toContain(`border-radius:${CORNERS[look.corners]}px`);
    expect(LETTER_WIDTHS).toContain(look.width);
  });
});

/*
 * What published tables say that some mail program does not show, and why it does no harm. Whatever is not here would fail the test, so that no node or
 * layout brings something new unseen.
 */
const WHY: Record<string, string> = {
  'sheet, its selectors and what stands in it':
    'every style that the letter needs stands in line; the sheet is for phones and the dark alone',
  'corners and outlines': 'square where they are not drawn',
  'said for those who listen': 'the words themselves are said all the same',
  'wrapping of long words': 'a long address runs on there',
  'sizes of spacers and pictures': 'a spacer is a line of that height as well, a picture has its width as an attribute too',
  'spacing and grounds of tables': 'said both as attributes and as styles, so that one of the two holds',
  'the hidden first line': 'it is hidden in three ways at once',
  'marks of text': 'struck or underlined words are plain there',
  'plain elements': 'shown with the look of their program',
};
const EXCEPTIONS: Record<string, keyof typeof WHY> = {
  '!important keyword': 'sheet, its selectors and what stands in it',
  '<style> element': 'sheet, its selectors and what stands in it',
  '@media': 'sheet, its selectors and what stands in it',
  'Chaining selectors': 'sheet, its selectors and what stands in it',
  'Class selector': 'sheet, its selectors and what stands in it',
  'Descendant combinator': 'sheet, its selectors and what stands in it',
  'Child combinator': 'sheet, its selectors and what stands in it',
  'Grouping selectors': 'sheet, its selectors and what stands in it',
  'ID selector': 'sheet, its selectors and what stands in it',
  'Type selector': 'sheet, its selectors and what stands in it',
  'color-scheme': 'sheet, its selectors and what stands in it',
  ':root': 'sheet, its selectors and what stands in it',
  'border-radius': 'corners and outlines',
  outline: 'corners and outlines',
  'aria-label attribute': 'said for those who listen',
  'aria-roledescription attribute': 'said for those who listen',
  'role attribute': 'said for those who listen',
  'lang attribute': 'said for those who listen',
  'dir attribute': 'said for those who listen',
  direction: 'said for those who listen',
  'word-break': 'wrapping of long words',
  'word-spacing': 'wrapping of long words',
  'white-space': 'wrapping of long words',
  'height attribute': 'sizes of spacers and pictures',
  'height property': 'sizes of spacers and pictures',
  'width attribute': 'sizes of spacers and pictures',
  'width property': 'sizes of spacers and pictures',
  'max-width': 'sizes of spacers and pictures',
  'line-height': 'sizes of spacers and pictures',
  'font-size': 'sizes of spacers and pictures',
  'font-weight': 'marks of text',
  'text-decoration': 'marks of text',
  'text-align': 'spacing and grounds of tables',
  'align attribute': 'spacing and grounds of tables',
  'vertical-align': 'spacing and grounds of tables',
  'valign attribute': 'spacing and grounds of tables',
  background: 'spacing and grounds of tables',
  'background-color': 'spacing and grounds of tables',
  border: 'spacing and grounds of tables',
  'border-collapse': 'spacing and grounds of tables',
  'border-spacing': 'spacing and grounds of tables',
  'cellpadding attribute': 'spacing and grounds of tables',
  'cellspacing attribute': 'spacing and grounds of tables',
  margin: 'spacing and grounds of tables',
  padding: 'spacing and grounds of tables',
  'display:none': 'the hidden first line',
  display: 'the hidden first line',
  opacity: 'the hidden first line',
  overflow: 'the hidden first line',
  '<body> element': 'plain elements',
  '<blockquote> element': 'plain elements',
  '<code> element': 'plain elements',
  '<hr> element': 'plain elements',
  '<img> element': 'plain elements',
  '<pre> element': 'plain elements',
  '<ol> element': 'plain elements',
  '<ul> element': 'plain elements',
  '<ul>, <ol> and <dl>': 'plain elements',
};

it.each([
  ...NODES.map((node): [string, Node[], Look] => [node.kind, [node], STARTING_LOOK]),
  ...LOOKS.map(([name, look]): [string, Node[], Look] => [name, NODES, look]),
])('brings nothing that mail programs do not know and that is not written down: %s', async (_, nodes, look) => {
  const html = await renderHtml({ version: 1, nodes }, { ...FRAME, look });
  const { issues } = caniemail({ clients: ['*'] as never, html });
  const found = new Set<string>();
  for (const kind of [issues.errors, issues.warnings])
    for (const list of kind.values()) for (const issue of list) found.add(issue.title);
  expect([...found].filter((title) => !EXCEPTIONS[title])).toEqual([]);
});

describe('one letter for each reader', () => {
  const at = async (known: Record<string, string>, inside: boolean) => {
    const { html } = takeLinks(await renderHtml(ALL, FRAME));
    return filledFor(
      html,
      (name) => (name.startsWith('chip:') ? (known.first_name ?? 'you') : '#'),
      () => inside,
    );
  };
  it('has their own part, or not, and neither mark is left', async () => {
    expect(await at({}, true)).toContain('For members');
    const without = await at({}, false);
    expect(without).not.toContain('For members');
    expect(pieces(without).every((piece) => piece.kind === 'text')).toBe(true);
    // Whose segment nobody can ask after gets neither side.
    const none = (inside: boolean) =>
      filledFor(
        renderText({ version: 1, nodes: [{ kind: 'part', segmentId: SEGMENT, inside, nodes: [p('Either')] }] }, FRAME),
        () => '',
        () => null,
      );
    expect(none(true) + none(false)).not.toContain('Either');
  });

  it('has notes at its end, numbered, in mail and in text', async () => {
    expect(await renderHtml(ALL, FRAME)).toMatch(/Words<sup[^>]*>1<\/sup>[\s\S]*<sup[^>]*>1<\/sup> A note/);
    expect(renderText(ALL, FRAME)).toMatch(/Words¹[\s\S]*\* \* \*\n\n¹ A note/);
  });

  it('has a text of its writer’s own when they wrote one, with the colophon under it', () => {
    const edit = textToEdit(ALL, FRAME);
    expect(edit).toContain('‹first_name or you›');
    expect(edit).not.toContain('You asked for it.');
    const made = renderText(ALL, FRAME, 'Hello ‹first_name or friend›,\n\nmy own words.');
    expect(made).toContain('my own words.');
    expect(made).not.toContain('Quoted');
    expect(made).toContain('You asked for it.');
    expect(made).toContain(slot('leave'));
    expect(
      filledFor(
        made,
        (name) => (name.startsWith('chip:') ? 'Ada' : '#'),
        () => null,
      ),
    ).toContain('Hello Ada,');
  });
});

describe('a line with chips', () => {
  it('is read as it is typed, and as a chip is written', () => {
    const typed = `Good morning, ${typedChip({ field: 'first_name', fallback: 'dear or deer' })}: ‹town›`;
    expect(linePieces(typed)).toEqual([
      { kind: 'text', text: 'Good morning, ' },
      { kind: 'chip', field: 'first_name', fallback: 'dear or deer' },
      { kind: 'text', text: ': ' },
      { kind: 'chip', field: 'town', fallback: '' },
    ]);
    expect(lineForAll(typed)).toBe('Good morning, dear or deer:');
    expect(chipsOfLine('‹ › ‹a b› ‹‹x››')).toEqual([{ field: 'x', fallback: '' }]);
    expect(
      filledFor(
        lineTemplate('‹a or <b>›', (one) => one),
        (name) => name,
        () => null,
      ),
    ).toBe('chip:a=%3Cb%3E');
  });
  it('is one line without anything that turns it around', () => {
    expect(oneLine('a\r\nBcc: b\u202e\u2066c\ue000\u0000')).toBe('a Bcc: bc');
    // Joiners and emoji stay whole.
    expect(oneLine('👩‍👧 family')).toBe('👩‍👧 family');
  });
});

describe('HTML of one’s own', () => {
  it.each([
    ['<script>x</script><p onclick="x()">a</p>', '<p>a</p>'],
    ['<a href="javascript:x">a</a><a href="//b.example">b</a>', '<a>a</a><a>b</a>'],
    ['<form action="x"><input><button>Go</button></form>', 'Go'],
    ['<iframe src="https://x.example"></iframe><object></object><style>p{}</style>', ''],
    [
      '<img src="data:image/png;base64,x"><img src="https://a.example/b.png" onerror="x">',
      '<img /><img src="https://a.example/b.png" />',
    ],
    [
      '<p style="background:url(https://x.example);color:red;position:fixed;width:expression(1)">a</p>',
      '<p style="color:red">a</p>',
    ],
    ['<p>open <b>twice', '<p>open <b>twice</b></p>'],
    [`a${slot('leave')}b`, 'aleaveb'],
    ['</mj-text></mjml><mj-text>', ''],
  ])('%s becomes %s', (html, clean) => {
    expect(cleanHtml(html)).toBe(clean);
  });
  it('says whether anything is lost, and ends whatever it is given', () => {
    expect(loses('<p>a</p>')).toBe(false);
    expect(loses('<p>a</p><script>1</script>')).toBe(true);
    expect(cleanHtml('<div>'.repeat(20_000)).length).toBeLessThan(10_000);
  });
});

import type {
  BlockContent,
  DefinitionContent,
  FootnoteDefinition,
  Paragraph,
  PhrasingContent,
  Root,
  RootContent,
  TableRow,
} from 'mdast';
import { gfmToMarkdown } from 'mdast-util-gfm';
import { toMarkdown } from 'mdast-util-to-markdown';
import { stringify } from 'yaml';
import { escapeHtml } from '../html';
import { cleanHtml } from './clean-html';
import type { BlockLook, Document, Inline, Mark, Node, Picture } from './document';

type Block = BlockContent | DefinitionContent;
/** The notes of a document, as they are met. */
type Notes = Inline[][];

/** What Markdown has no sign for stands as the HTML that it allows. */
const AS_HTML: Partial<Record<Mark, string>> = { underline: 'u', sub: 'sub', sup: 'sup' };

function marked(text: string, marks: Mark[]): PhrasingContent[] {
  if (marks.includes('code')) {
    const rest = marks.filter((mark) => mark !== 'code');
    return rest.length ? around([{ type: 'inlineCode', value: text }], rest) : [{ type: 'inlineCode', value: text }];
  }
  // A sign of emphasis does not take spaces at its inner side.
  const [, before, words, after] = /^(\s*)(.*?)(\s*)$/su.exec(text)!;
  if (!words || marks.length === 0) return [{ type: 'text', value: text }];
  const out: PhrasingContent[] = around([{ type: 'text', value: words }], marks);
  if (before) out.unshift({ type: 'text', value: before });
  if (after) out.push({ type: 'text', value: after });
  return out;
}

function around(inner: PhrasingContent[], marks: Mark[]): PhrasingContent[] {
  return marks.reduce<PhrasingContent[]>((children, mark) => {
    const tag = AS_HTML[mark];
    if (tag)
      return ([{ type: 'html', value: `<${tag}>` }] as PhrasingContent[]).concat(children, { type: 'html', value: `</${tag}>` });
    if (mark === 'bold') return [{ type: 'strong', children }];
    if (mark === 'italic') return [{ type: 'emphasis', children }];
    return [{ type: 'delete', children }];
  }, inner);
}

const tagged = (open: string, words: string, close: string): PhrasingContent[] => [
  { type: 'html', value: open },
  ...(words ? [{ type: 'text', value: words } as const] : []),
  { type: 'html', value: close },
];

/** A break at either end of a line is none in Markdown. */
function trimmed(inline: Inline[]): Inline[] {
  const from = inline.findIndex((one) => one.kind !== 'break');
  const to = inline.findLastIndex((one) => one.kind !== 'break');
  return from < 0 ? [] : inline.slice(from, to + 1);
}

function phrasing(inline: Inline[], notes: Notes): PhrasingContent[] {
  return trimmed(inline).flatMap((one): PhrasingContent[] => {
    if (one.kind === 'break') return [{ type: 'break' }];
    // The element of HTML for what a program knows by another name than people.
    if (one.kind === 'chip')
      return tagged(`<data value="${escapeHtml(one.field)}">`, one.fallback.replace(/\s+/g, ' '), '</data>');
    if (one.kind === 'note') {
      const n = String(notes.push(one.words));
      return [{ type: 'footnoteReference', identifier: n, label: n }];
    }
    const children = marked(one.text, one.marks ?? []);
    return one.href ? [{ type: 'link', url: one.href, children: children as never }] : children;
  });
}

const paragraph = (inline: Inline[], notes: Notes): Paragraph => ({ type: 'paragraph', children: phrasing(inline, notes) });
const row = (cells: Inline[][], notes: Notes): TableRow => ({
  type: 'tableRow',
  children: cells.map((cell) => ({
    type: 'tableCell',
    // A cell is one line.
    children: phrasing(
      cell.map((one) => (one.kind === 'break' ? { kind: 'text', text: ' ' } : one)),
      notes,
    ),
  })),
});

/** What Markdown has no sign for stands within an element of HTML, its insides still Markdown. */
const framed = (open: string, close: string, inner: Block[]): Block[] => [
  { type: 'html', value: `<${open}>` },
  ...inner,
  { type: 'html', value: `</${close}>` },
];
function shown({ src, alt, href }: Picture): Paragraph {
  const image: PhrasingContent = { type: 'image', url: src, alt };
  return { type: 'paragraph', children: href ? [{ type: 'link', url: href, children: [image] }] : [image] };
}

/** A look of a block's own stands around it, since Markdown has none. */
function looked(node: Node, look: BlockLook | undefined, inner: Block[]): Block[] {
  if (!look || node.kind === 'divider') return inner;
  return framed(`div class="look" ${data(look)}`, 'div', inner);
}
const data = (values: object) =>
  Object.entries(values)
    .map(([name, value]) => `data-${name}="${escapeHtml(String(value))}"`)
    .join(' ');

const block = (node: Node, notes: Notes): Block[] =>
  looked(node, 'look' in node ? node.look : undefined, plainBlock(node, notes));

function plainBlock(node: Node, notes: Notes): Block[] {
  const inside = (nodes: Node[]) => nodes.flatMap((one) => block(one, notes));
  switch (node.kind) {
    case 'heading':
      return [{ type: 'heading', depth: node.level, children: phrasing(node.inline, notes) }];
    case 'subtitle':
      return [{ type: 'html', value: `<p class="subtitle">${escapeHtml(node.text)}</p>` }];
    case 'byline':
      return [{ type: 'html', value: `<p class="byline">${escapeHtml(node.text)}</p>` }];
    case 'paragraph':
      return trimmed(node.inline).length ? [paragraph(node.inline, notes)] : [];
    case 'list':
      return [
        {
          type: 'list',
          ordered: node.ordered,
          spread: false,
          children: node.items.map((item) => ({ type: 'listItem', spread: false, children: inside(item) })),
        },
      ];
    case 'quote':
      return [{ type: 'blockquote', children: inside(node.nodes) }];
    case 'pull quote':
      return framed('figure class="pull"', 'figure', [
        { type: 'blockquote', children: [paragraph(node.inline, notes)] },
        ...(node.by ? framed('figcaption', 'figcaption', [paragraph([{ kind: 'text', text: node.by }], notes)]) : []),
      ]);
    case 'call-out':
      return framed('aside', 'aside', inside(node.nodes));
    case 'part':
      return framed(`div class="part" ${data({ segment: node.segmentId, inside: node.inside })}`, 'div', inside(node.nodes));
    case 'latest':
      return [{ type: 'html', value: `<div class="latest" ${data({ most: node.most, words: node.words })}></div>` }];
    case 'sign-up':
      return [{ type: 'html', value: `<div class="sign-up" ${data({ form: node.formId ?? '' })}></div>` }];
    case 'html':
      // Blank lines would end it.
      return [{ type: 'html', value: `<div class="own">${cleanHtml(node.html).replace(/\n\s*\n/g, '\n')}</div>` }];
    case 'columns':
      return framed(
        'div class="columns"',
        'div',
        node.columns.flatMap((nodes) => framed('div', 'div', inside(nodes))),
      );
    case 'gallery':
      return framed('div class="gallery"', 'div', node.pictures.map(shown));
    case 'card': {
      const picture: PhrasingContent[] = node.picture ? [{ type: 'image', url: node.picture, alt: '' }] : [];
      const link: PhrasingContent = {
        type: 'link',
        url: node.href,
        children: [...picture, { type: 'text', value: node.title }] as never,
      };
      const words: PhrasingContent[] = node.words ? [{ type: 'text', value: ` ${node.words}` }] : [];
      return framed('div class="card"', 'div', [{ type: 'paragraph', children: [link, ...words] }]);
    }
    case 'spacer':
      return [{ type: 'html', value: `<div class="space ${node.size}"></div>` }];
    case 'code':
      return [{ type: 'code', value: node.text }];
    case 'table': {
      const wide = Math.max(1, ...node.rows.map((line) => line.cells.length));
      const filled = node.rows.map((line) => ({
        ...line,
        cells: [...line.cells, ...Array(wide - line.cells.length).fill([])] as Inline[][],
      }));
      // Every table of Markdown begins with a row of heads.
      const rows = filled[0]?.head ? filled : [{ head: true, cells: Array<Inline[]>(wide).fill([]) }, ...filled];
      return [{ type: 'table', children: rows.map((line) => row(line.cells, notes)) }];
    }
    case 'picture':
      if (!node.caption?.length && !node.credit) return [shown(node)];
      return framed('figure', 'figure', [
        shown(node),
        ...framed('figcaption', 'figcaption', [
          ...(node.caption?.length ? [paragraph(node.caption, notes)] : []),
          ...(node.credit ? [{ type: 'html' as const, value: `<p class="credit">${escapeHtml(node.credit)}</p>` }] : []),
        ]),
      ]);
    case 'button':
      return [
        {
          type: 'paragraph',
          children: tagged(`<a class="button" href="${escapeHtml(node.href)}">`, node.label, '</a>'),
        },
      ];
    case 'divider':
      return [{ type: 'thematicBreak' }];
    default:
      // Of a later version, or a reader's own: nothing for everybody.
      return [];
  }
}

/** A document as Markdown (CommonMark with the tables and strikes of GFM), with what it is about as YAML before it where that is given. */
export function renderMarkdown(document: Document, front?: Record<string, unknown>): string {
  const notes: Notes = [];
  const blocks = document.nodes.flatMap((node) => block(node, notes));
  const definitions = notes.map(
    (words, n): FootnoteDefinition => ({
      type: 'footnoteDefinition',
      identifier: String(n + 1),
      label: String(n + 1),
      children: [paragraph(words, notes)],
    }),
  );
  const root: Root = { type: 'root', children: [...blocks, ...definitions] as RootContent[] };
  const body = toMarkdown(root, {
    extensions: [gfmToMarkdown({ tablePipeAlign: false })],
    bullet: '-',
    rule: '*',
    fences: true,
    emphasis: '*',
  });
  return front ? `---\n${stringify(front, { lineWidth: 0 })}---\n\n${body}` : body;
}

import { type BlockLook, type Document, type Inline, type Mark, MOST_LATEST, type Node } from './document';
import { withoutMarks } from './slots';

/*
 * A document as the editor holds it, and back. The editor's own JSON is a tree of typed nodes with attributes; what it does not know is carried in it whole,
 * so that a document of a later version loses nothing by being opened.
 */

export type EditorMark = { type: string; attrs?: Record<string, unknown> };
export type EditorNode = {
  type: string;
  attrs?: Record<string, unknown>;
  content?: EditorNode[];
  marks?: EditorMark[];
  text?: string;
};

const MARKS: Record<Mark, string> = {
  bold: 'bold',
  italic: 'italic',
  underline: 'underline',
  strike: 'strike',
  code: 'code',
  sub: 'subscript',
  sup: 'superscript',
};
const ORDER = Object.keys(MARKS) as Mark[];
const BACK = new Map(ORDER.map((mark) => [MARKS[mark], mark]));

const leaf = (type: string, attrs: Record<string, unknown>): EditorNode => ({ type, attrs });
const block = (type: string, content: EditorNode[], attrs?: Record<string, unknown>): EditorNode => ({
  type,
  ...(attrs ? { attrs } : {}),
  ...(content.length ? { content } : {}),
});

function inlineTo(inline: Inline[]): EditorNode[] {
  return inline.flatMap((one): EditorNode[] => {
    if (one.kind === 'break') return [{ type: 'hardBreak' }];
    if (one.kind === 'chip') return [leaf('chip', { field: one.field, fallback: one.fallback })];
    if (one.kind === 'note') return [leaf('note', { words: one.words })];
    if (one.text === '') return [];
    const marks: EditorMark[] = [
      ...(one.href ? [{ type: 'link', attrs: { href: one.href } }] : []),
      ...(one.marks ?? []).map((mark) => ({ type: MARKS[mark] })),
    ];
    return [{ type: 'text', text: one.text, ...(marks.length ? { marks } : {}) }];
  });
}

/** A look of its own, where a block has one. */
const looked = (look: BlockLook | undefined): Record<string, unknown> => (look ? { look } : {});

/** Nodes where the editor wants at least one. */
const some = (nodes: Node[]): EditorNode[] => (nodes.length ? nodes.map(nodeTo) : [{ type: 'paragraph' }]);

function nodeTo(node: Node): EditorNode {
  switch (node.kind) {
    case 'paragraph':
      return block('paragraph', inlineTo(node.inline), looked(node.look));
    case 'heading':
      return block('heading', inlineTo(node.inline), { level: node.level, ...looked(node.look) });
    case 'list':
      return block(
        node.ordered ? 'orderedList' : 'bulletList',
        node.items.map((item) => block('listItem', some(item))),
      );
    case 'quote':
      return block('blockquote', some(node.nodes));
    case 'pull quote':
      return block('pullQuote', inlineTo(node.inline), { by: node.by, ...looked(node.look) });
    case 'call-out':
      return block('callOut', some(node.nodes), looked(node.look));
    case 'part':
      return block('part', some(node.nodes), { segmentId: node.segmentId, inside: node.inside });
    case 'latest':
      return leaf('latest', { most: node.most, words: node.words });
    case 'sign-up':
      return leaf('signUp', { formId: node.formId });
    case 'html':
      return leaf('html', { html: node.html });
    case 'columns':
      return block(
        'columns',
        node.columns.map((nodes) => block('column', some(nodes))),
      );
    case 'code':
      return block('codeBlock', node.text ? [{ type: 'text', text: node.text }] : []);
    case 'divider':
      return node.look ? leaf('horizontalRule', { look: node.look }) : { type: 'horizontalRule' };
    case 'table': {
      const wide = Math.max(1, ...node.rows.map((row) => row.cells.length));
      return block(
        'table',
        node.rows.map((row) =>
          block(
            'tableRow',
            Array.from({ length: wide }, (_, n) =>
              block(row.head ? 'tableHeader' : 'tableCell', [block('paragraph', inlineTo(row.cells[n] ?? []))]),
            ),
          ),
        ),
      );
    }
    case 'picture':
      return leaf('picture', {
        src: node.src,
        alt: node.alt,
        href: node.href ?? '',
        caption: node.caption ?? [],
        credit: node.credit ?? '',
        ...looked(node.look),
      });
    case 'gallery':
      return leaf('gallery', { pictures: node.pictures });
    case 'card':
      return leaf('card', { href: node.href, title: node.title, words: node.words, picture: node.picture });
    case 'button':
      return leaf('actButton', { label: node.label, href: node.href, ...looked(node.look) });
    case 'spacer':
      return leaf('spacer', { size: node.size });
    default:
      return leaf('kept', { node });
  }
}

/** A document as the editor opens it. */
export const toEditor = (document: Document): EditorNode => ({ type: 'doc', content: some(document.nodes) });

const said = (value: unknown): string => (typeof value === 'string' ? withoutMarks(value) : '');
const all = (node: EditorNode): EditorNode[] => node.content ?? [];

function inlineFrom(nodes: EditorNode[]): Inline[] {
  return nodes.flatMap((node): Inline[] => {
    if (node.type === 'hardBreak') return [{ kind: 'break' }];
    if (node.type === 'chip') return [{ kind: 'chip', field: said(node.attrs?.field), fallback: said(node.attrs?.fallback) }];
    if (node.type === 'note')
      return [{ kind: 'note', words: Array.isArray(node.attrs?.words) ? (node.attrs.words as Inline[]) : [] }];
    if (node.type !== 'text' || !node.text) return [];
    const href = said(node.marks?.find((mark) => mark.type === 'link')?.attrs?.href);
    const has = new Set((node.marks ?? []).map((mark) => BACK.get(mark.type)));
    const marks = ORDER.filter((mark) => has.has(mark));
    return [
      {
        kind: 'text',
        text: said(node.text),
        ...(marks.length ? { marks } : {}),
        ...(/^(https?:|mailto:)/i.test(href) ? { href } : {}),
      },
    ];
  });
}

/** A cell's paragraphs as one line of words with breaks. */
const cellFrom = (cell: EditorNode): Inline[] =>
  all(cell).flatMap((paragraph, n) => [...(n ? [{ kind: 'break' } as const] : []), ...inlineFrom(all(paragraph))]);

/** The parts of a look that are said; a look that says nothing is none. */
function lookFrom(value: unknown): { look?: BlockLook } {
  if (!value || typeof value !== 'object') return {};
  const look = Object.fromEntries(
    Object.entries(value).filter(([, part]) => typeof part === 'string' && part !== ''),
  ) as BlockLook;
  return Object.keys(look).length ? { look } : {};
}

function nodeFrom(node: EditorNode): Node[] {
  const attrs = node.attrs ?? {};
  const inner = () => all(node).flatMap(nodeFrom);
  switch (node.type) {
    case 'paragraph':
      return [{ kind: 'paragraph', inline: inlineFrom(all(node)), ...lookFrom(attrs.look) }];
    case 'heading':
      return [
        {
          kind: 'heading',
          level: attrs.level === 1 ? 1 : attrs.level === 3 ? 3 : 2,
          inline: inlineFrom(all(node)),
          ...lookFrom(attrs.look),
        },
      ];
    case 'bulletList':
    case 'orderedList':
      return [
        { kind: 'list', ordered: node.type === 'orderedList', items: all(node).map((item) => all(item).flatMap(nodeFrom)) },
      ];
    case 'blockquote':
      return [{ kind: 'quote', nodes: inner() }];
    case 'pullQuote':
      return [{ kind: 'pull quote', inline: inlineFrom(all(node)), by: said(attrs.by), ...lookFrom(attrs.look) }];
    case 'callOut':
      return [{ kind: 'call-out', nodes: inner(), ...lookFrom(attrs.look) }];
    case 'part':
      return [{ kind: 'part', segmentId: said(attrs.segmentId), inside: attrs.inside !== false, nodes: inner() }];
    case 'latest':
      return [{ kind: 'latest', most: Math.min(MOST_LATEST, Math.max(1, Number(attrs.most) || 3)), words: attrs.words === true }];
    case 'signUp':
      return [{ kind: 'sign-up', formId: said(attrs.formId) || null }];
    case 'html':
      return [{ kind: 'html', html: said(attrs.html) }];
    case 'columns': {
      const columns = all(node).map((column) => all(column).flatMap(nodeFrom));
      return columns.length > 1 ? [{ kind: 'columns', columns: columns.slice(0, 3) }] : columns.flat();
    }
    case 'codeBlock':
      return [
        {
          kind: 'code',
          text: all(node)
            .map((one) => said(one.text))
            .join(''),
        },
      ];
    case 'horizontalRule':
      return [{ kind: 'divider', ...lookFrom(attrs.look) }];
    case 'table':
      return [
        {
          kind: 'table',
          rows: all(node).map((row) => ({
            head: all(row).length > 0 && all(row).every((cell) => cell.type === 'tableHeader'),
            cells: all(row).map(cellFrom),
          })),
        },
      ];
    case 'picture': {
      const caption = Array.isArray(attrs.caption) ? (attrs.caption as Inline[]) : [];
      return attrs.src
        ? [
            {
              kind: 'picture',
              src: said(attrs.src),
              alt: said(attrs.alt),
              ...(attrs.href ? { href: said(attrs.href) } : {}),
              ...(caption.length ? { caption } : {}),
              ...(said(attrs.credit).trim() ? { credit: said(attrs.credit).trim() } : {}),
              ...lookFrom(attrs.look),
            },
          ]
        : [];
    }
    case 'gallery':
      return Array.isArray(attrs.pictures) && attrs.pictures.length ? [{ kind: 'gallery', pictures: attrs.pictures }] : [];
    case 'card':
      return [
        {
          kind: 'card',
          href: said(attrs.href),
          title: said(attrs.title),
          words: said(attrs.words),
          picture: said(attrs.picture),
        },
      ];
    case 'actButton':
      return [{ kind: 'button', label: said(attrs.label), href: said(attrs.href), ...lookFrom(attrs.look) }];
    case 'spacer':
      return [{ kind: 'spacer', size: attrs.size === 'small' ? 'small' : attrs.size === 'large' ? 'large' : 'medium' }];
    case 'kept':
      return attrs.node ? [attrs.node as Node] : [];
    default:
      return inner();
  }
}

const documentOf = (nodes: Node[]): Document => {
  while (nodes.length && isEmpty(nodes.at(-1)!)) nodes.pop();
  return { version: 1, nodes };
};

/** What stands in the editor as a document. Empty lines at the end are none of it. */
export const fromEditor = (doc: EditorNode): Document => documentOf(all(doc).flatMap(nodeFrom));

/** A block of the editor that never changes: another stands in its place instead. */
type Block = { toJSON: () => EditorNode };

/** The same out of the editor's own blocks, each of which is read once: what did not change since is the very node that it was. */
export function fromBlocks(blocks: readonly Block[], known: WeakMap<Block, Node[]>): Document {
  return documentOf(
    blocks.flatMap((block) => {
      const read = known.get(block) ?? nodeFrom(block.toJSON());
      known.set(block, read);
      return read;
    }),
  );
}

const isEmpty = (node: Node): boolean => node.kind === 'paragraph' && node.inline.length === 0;

/** What changed between two states of a document: from this place on so many nodes are gone, and these are there instead. */
export type Change = { at: number; remove: number; insert: Node[] };

/** The change that leads from one list of nodes to another; null where there is none. */
export function changeBetween(before: Node[], after: Node[]): Change | null {
  const same = (a: Node | undefined, b: Node | undefined) => a === b || JSON.stringify(a) === JSON.stringify(b);
  let at = 0;
  while (at < before.length && at < after.length && same(before[at], after[at])) at += 1;
  let tail = 0;
  while (tail < before.length - at && tail < after.length - at && same(before.at(-1 - tail), after.at(-1 - tail))) tail += 1;
  if (at === before.length && at === after.length) return null;
  return { at, remove: before.length - at - tail, insert: after.slice(at, after.length - tail) };
}

/** The nodes after a change; null where it does not fit them. */
export const changed = (nodes: Node[], { at, remove, insert }: Change): Node[] | null =>
  at < 0 || remove < 0 || at + remove > nodes.length ? null : [...nodes.slice(0, at), ...insert, ...nodes.slice(at + remove)];

/** How many words stand in each block, counted once. */
const counts = new WeakMap<Node, number>();
/** How many words stand in a document, as a reader counts. */
export const wordsIn = (document: Document): number =>
  document.nodes.reduce((sum, node) => {
    const known = counts.get(node) ?? wordsOf(node);
    counts.set(node, known);
    return sum + known;
  }, 0);

function wordsOf(node: Node): number {
  let words = 0;
  const walk = (value: unknown): void => {
    if (Array.isArray(value)) value.forEach(walk);
    else if (value && typeof value === 'object') {
      const { kind, text, ...rest } = value as Record<string, unknown>;
      if (typeof text === 'string') words += text.split(/\s+/u).filter((word) => /[\p{L}\p{N}]/u.test(word)).length;
      for (const part of Object.values(rest)) if (part && typeof part === 'object') walk(part);
    }
  };
  walk(node);
  return words;
}
/** Minutes that reading so many words takes, at least one. */
export const readingMinutes = (words: number): number => Math.max(1, Math.round(words / 230));

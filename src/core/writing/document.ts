/**
 * What is written, as a closed set of nodes: no HTML stands in it, so nothing from outside can bring any. The version says which set; a node of a
 * later one is kept as it is and shown as nothing.
 */
export type Document = { version: 1; nodes: Node[] };

/** In the order in which a run has them. */
export const MARKS = ['bold', 'italic', 'underline', 'strike', 'code', 'sub', 'sup'] as const;
export type Mark = (typeof MARKS)[number];
/** A run of text, a break, or a merge chip that is filled for each reader. Links are http(s) or mailto. */
export type Inline =
  | { kind: 'text'; text: string; marks?: Mark[]; href?: string }
  | { kind: 'break' }
  | { kind: 'chip'; field: string; fallback: string }
  /** A footnote: where it stands is numbered, what it says stands at the end. No note stands in a note. */
  | { kind: 'note'; words: Inline[] };

/** Where a block differs from its layout; what is not said is as the layout has it. Colours are `#rrggbb`. */
export type BlockLook = {
  align?: (typeof ALIGNS)[number];
  colour?: string;
  ground?: string;
  /** Of a picture: how much of the letter's width it takes. */
  width?: (typeof WIDTHS)[number];
};
export const ALIGNS = ['start', 'centre', 'end'] as const;
export const WIDTHS = ['full', 'half', 'third'] as const;

export type Node =
  | { kind: 'heading'; level: 1 | 2 | 3; inline: Inline[]; look?: BlockLook }
  | { kind: 'subtitle'; text: string }
  /** Who wrote it and when, as a line under its title. */
  | { kind: 'byline'; text: string }
  | { kind: 'paragraph'; inline: Inline[]; look?: BlockLook }
  | { kind: 'list'; ordered: boolean; items: Node[][] }
  | { kind: 'quote'; nodes: Node[] }
  /** Words out of the text, set large; `by` is whose they are, or ''. */
  | { kind: 'pull quote'; inline: Inline[]; by: string; look?: BlockLook }
  /** Set apart from the text, in a frame. */
  | { kind: 'call-out'; nodes: Node[]; look?: BlockLook }
  /** Side by side where there is room, one under the other on a phone. */
  | { kind: 'columns'; columns: Node[][] }
  | { kind: 'gallery'; pictures: Picture[] }
  /** Something elsewhere (a video, a recording, a page), as a picture and words that lead to it. */
  | { kind: 'card'; href: string; title: string; words: string; picture: string }
  | { kind: 'spacer'; size: (typeof SPACES)[number] }
  | { kind: 'code'; text: string }
  | { kind: 'table'; rows: { head: boolean; cells: Inline[][] }[] }
  | {
      kind: 'picture';
      src: string;
      alt: string;
      href?: string;
      caption?: Inline[] /** Who made it, or whose it is. */;
      credit?: string;
      look?: BlockLook;
    }
  | { kind: 'button'; label: string; href: string; look?: BlockLook }
  /** A button by which a reader says that they want to go on reading; their own, so it stands in letters alone. */
  | { kind: 'stay'; label: string }
  /** The newest public posts, as they are when the letter leaves or the page is read. */
  | { kind: 'latest'; most: number; words: boolean }
  /** A sign-up form, on pages alone; the newsletter's own where none is named. */
  | { kind: 'sign-up'; formId: string | null }
  /** Only for who is in a segment, or only for who is not. On a page that everybody reads there is nobody to ask, so it is nothing there. */
  | { kind: 'part'; segmentId: string; inside: boolean; nodes: Node[] }
  /** What its writer wrote as HTML; it is cleaned each time that it is shown (`clean-html`). */
  | { kind: 'html'; html: string }
  | { kind: 'divider'; look?: BlockLook };

/** The kinds that this version knows; a node of another is of a later one and is kept as it is. */
export const KINDS = new Set<string>([
  'heading',
  'subtitle',
  'byline',
  'paragraph',
  'list',
  'quote',
  'pull quote',
  'call-out',
  'columns',
  'gallery',
  'card',
  'spacer',
  'code',
  'table',
  'picture',
  'button',
  'stay',
  'latest',
  'sign-up',
  'part',
  'html',
  'divider',
] satisfies Node['kind'][]);

export type Picture = { src: string; alt: string; href?: string };
export const SPACES = ['small', 'medium', 'large'] as const;
export const MOST_COLUMNS = 3;
export const MOST_LATEST = 10;
export const MOST_CREDIT = 200;

/** Text as one run, or none. */
export const run = (text: string, href?: string): Inline[] => (text ? [{ kind: 'text', text, ...(href ? { href } : {}) }] : []);

/** The nodes within a node, a list of them for each place where it has some. */
export function within(node: Node): Node[][] {
  if (node.kind === 'list') return node.items;
  if (node.kind === 'quote' || node.kind === 'call-out' || node.kind === 'part') return [node.nodes];
  return node.kind === 'columns' ? node.columns : [];
}

/** All nodes, the inner ones too, in the order in which they are read. */
export function* every(nodes: Node[]): Generator<Node> {
  for (const node of nodes) {
    yield node;
    for (const inner of within(node)) yield* every(inner);
  }
}

/** The runs of text of a node itself, those of its notes behind them. */
export function inlineOf(node: Node): Inline[] {
  const own =
    'inline' in node
      ? node.inline
      : node.kind === 'table'
        ? node.rows.flatMap((row) => row.cells.flat())
        : node.kind === 'picture'
          ? (node.caption ?? [])
          : [];
  return own.some((one) => one.kind === 'note') ? own.flatMap((one) => (one.kind === 'note' ? [one, ...one.words] : [one])) : own;
}

export type ChipOf = { field: string; fallback: string };

/** The merge chips of a document, each field with each fallback once. */
export function chipsIn(document: Document): ChipOf[] {
  const found = new Map<string, ChipOf>();
  for (const node of every(document.nodes))
    for (const { kind, ...rest } of inlineOf(node)) if (kind === 'chip') found.set(JSON.stringify(rest), rest as ChipOf);
  return [...found.values()];
}

/** The segments that parts of a document are for, each once. */
export const segmentsIn = (document: Document): string[] => [
  ...new Set([...every(document.nodes)].flatMap((node) => (node.kind === 'part' ? [node.segmentId] : []))),
];

/** The same document with each node replaced by what `change` makes of it, from the innermost outwards. */
export function rewritten(nodes: Node[], change: (node: Node) => Node[]): Node[] {
  const inner = (all: Node[]) => rewritten(all, change);
  return nodes.flatMap((node) => {
    switch (node.kind) {
      case 'list':
        return change({ ...node, items: node.items.map(inner).filter((item) => item.length) });
      case 'quote':
      case 'call-out':
      case 'part':
        return change({ ...node, nodes: inner(node.nodes) });
      case 'columns':
        return change({ ...node, columns: node.columns.map(inner) });
      default:
        return change(node);
    }
  });
}

import { diffWordsWithSpace } from 'diff';
import type { Document, Inline, Node } from './document';

/** A run of words that stayed, came or went. */
export type Piece = { kind: 'same' | 'gone' | 'new'; text: string };

const words = (inline: Inline[]): string =>
  inline
    .map((one) => {
      if (one.kind === 'text') return one.text;
      if (one.kind === 'break') return '\n';
      return one.kind === 'chip' ? `(${one.field})` : ` [${words(one.words)}]`;
    })
    .join('');

function linesOf(node: Node): string[] {
  switch (node.kind) {
    case 'paragraph':
    case 'heading':
    case 'pull quote':
      return [words(node.inline)];
    case 'list':
      return node.items.flatMap((item) => item.flatMap(linesOf).map((line) => `- ${line}`));
    case 'quote':
    case 'call-out':
    case 'part':
      return node.nodes.flatMap(linesOf);
    case 'columns':
      return node.columns.flat().flatMap(linesOf);
    case 'table':
      return node.rows.map((row) => row.cells.map(words).join(' | '));
    case 'picture':
      return [
        `[${node.alt || 'picture'}]${node.caption ? ` ${words(node.caption)}` : ''}${node.credit ? ` (${node.credit})` : ''}`,
      ];
    case 'gallery':
      return node.pictures.map((picture) => `[${picture.alt || 'picture'}]`);
    case 'card':
      return [`${node.title} ${node.words} ${node.href}`.trim()];
    case 'button':
      return [`[${node.label}] ${node.href}`];
    case 'stay':
      return [`[${node.label}]`];
    case 'code':
    case 'byline':
    case 'subtitle':
      return [node.text];
    case 'html':
      return [node.html];
    case 'latest':
      return ['[The newest posts]'];
    case 'sign-up':
      return ['[Sign-up form]'];
    case 'divider':
      return ['* * *'];
    default:
      return [];
  }
}

/** What a document says, a line a block: for people who compare, not for mail. */
export const saidIn = (document: Document): string => document.nodes.flatMap(linesOf).join('\n\n');

/** How one document came out of another, as its words. */
export const differenceOf = (before: Document, after: Document): Piece[] =>
  diffWordsWithSpace(saidIn(before), saidIn(after)).map(({ added, removed, value }) => ({
    kind: added ? 'new' : removed ? 'gone' : 'same',
    text: value,
  }));

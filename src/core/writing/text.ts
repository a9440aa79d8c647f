import type { Document, Inline, Node } from './document';
import type { LetterFrame } from './render';
import { SLOT, slot } from './slots';
import { letterWords } from './words';
import { WIDTH, wrapText } from './wrap';

const indented = (text: string, first: string, rest: string) =>
  text
    .split('\n')
    .map((line, n) => `${n === 0 ? first : rest}${line}`.trimEnd())
    .join('\n');

/** The plain-text part: the same words in lines of at most 78 characters, every address once at the end, the colophon last. */
export function renderText(document: Document, frame: LetterFrame): string {
  const addresses: string[] = [];
  const words = letterWords(frame.brand.language);
  const mark = (href: string) => {
    const known = addresses.indexOf(href);
    return `[${known === -1 ? addresses.push(href) : known + 1}]`;
  };
  const said = (inline: Inline[]): string =>
    inline
      .map((one, n) => {
        if (one.kind === 'break') return '\n';
        if (one.kind === 'chip') return slot(`chip:${one.field}`);
        if (!one.href) return one.text;
        const next = inline[n + 1];
        // A link in several runs has one mark, behind its last.
        if (next?.kind === 'text' && next.href === one.href) return one.text;
        const bare = one.href.replace(/^mailto:/, '');
        return bare === one.text ? one.text : `${one.text.trimEnd()} ${mark(one.href)}${/\s$/.test(one.text) ? ' ' : ''}`;
      })
      .join('');
  const text = (node: Node, width: number): string => {
    const inner = (nodes: Node[], narrower: number) =>
      nodes
        .map((one) => text(one, narrower))
        .filter(Boolean)
        .join('\n\n');
    switch (node.kind) {
      case 'heading': {
        const lines = wrapText(said(node.inline), width);
        const longest = Math.max(...lines.split('\n').map((line) => [...line].length));
        return `${lines}\n${(node.level === 1 ? '=' : '-').repeat(Math.min(width, longest))}`;
      }
      case 'subtitle':
        return wrapText(node.text, width);
      case 'paragraph':
        return wrapText(said(node.inline), width);
      case 'list':
        return node.items
          .map((item, n) => {
            const sign = node.ordered ? `${n + 1}. ` : '- ';
            return indented(inner(item, width - sign.length), sign, ' '.repeat(sign.length));
          })
          .join('\n');
      case 'quote':
        return indented(inner(node.nodes, width - 2), '> ', '> ');
      case 'code':
        return indented(node.text, '    ', '    ');
      case 'table':
        return node.rows
          .map((row) => wrapText(row.cells.map((cell) => said(cell).replace(/\n/g, ' ')).join(' | '), width))
          .join('\n');
      case 'picture':
        return [node.alt ? wrapText(`[${node.alt}]`, width) : '', node.caption?.length ? wrapText(said(node.caption), width) : '']
          .filter(Boolean)
          .join('\n');
      case 'button':
        return wrapText(`${node.label} ${mark(node.href)}`, width);
      case 'divider':
        return '* * *';
      default:
        return '';
    }
  };
  const parts = [wrapText(frame.brand.name), ...document.nodes.map((node) => text(node, WIDTH)).filter(Boolean)];
  const own = (frame.brand.links ?? []).map((link) => wrapText(`${link.label} ${mark(link.url)}`));
  if (addresses.length) parts.push(`${words.links}:\n${addresses.map((href, n) => `[${n + 1}] ${href}`).join('\n')}`);
  const foot = [wrapText(frame.colophon.reasonLine), wrapText(frame.colophon.postalAddress.replace(/\r?\n/g, ', ')), ...own];
  return `${parts.join('\n\n')}\n\n-- \n${foot.join('\n')}\n${words.choose}:\n${slot(SLOT.choices)}\n${words.unsubscribe}:\n${slot(SLOT.leave)}\n`;
}

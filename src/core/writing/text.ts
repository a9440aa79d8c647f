import type { Document, Inline, Node } from './document';
import { lineTemplate, typedChip } from './line';
import { plainOf } from './plain-html';
import type { LetterFrame } from './render';
import { chipOf, chipSlot, filledFor, PART_ENDS, partSlot, SLOT, slot } from './slots';
import { letterWords } from './words';
import { WIDTH, wrapText } from './wrap';

const indented = (text: string, first: string, rest: string) =>
  text
    .split('\n')
    .map((line, n) => `${n === 0 ? first : rest}${line}`.trimEnd())
    .join('\n');

const RAISED = '⁰¹²³⁴⁵⁶⁷⁸⁹';
const raised = (n: number) => String(n).replace(/\d/g, (digit) => RAISED[Number(digit)]!);

/**
 * The plain-text part: the same words in lines of at most 78 characters, notes and then every address once at the end, the colophon last. What its
 * writer wrote as the text themselves (`own`) stands instead of the words; the colophon stands under it all the same.
 */
export function renderText(document: Document, frame: LetterFrame, own: string | null = null): string {
  const addresses: string[] = [];
  const notes: Inline[][] = [];
  const words = letterWords(frame.brand.language);
  const mark = (href: string) => {
    const known = addresses.indexOf(href);
    return `[${known === -1 ? addresses.push(href) : known + 1}]`;
  };
  const said = (inline: Inline[]): string =>
    inline
      .map((one, n) => {
        if (one.kind === 'break') return '\n';
        if (one.kind === 'chip') return slot(chipSlot(one));
        if (one.kind === 'note') return raised(notes.push(one.words));
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
      case 'byline':
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
      case 'pull quote':
        return indented(wrapText(`${said(node.inline)}${node.by ? ` (${node.by})` : ''}`, width - 4), '    ', '    ');
      case 'call-out':
        return indented(inner(node.nodes, width - 2), '| ', '| ');
      case 'columns':
        return node.columns
          .map((nodes) => inner(nodes, width))
          .filter(Boolean)
          .join('\n\n');
      case 'gallery':
        return node.pictures
          .filter((picture) => picture.alt)
          .map((picture) => wrapText(`[${picture.alt}]`, width))
          .join('\n');
      case 'card':
        return wrapText(`${node.title || node.words || node.href} ${mark(node.href)}`, width);
      case 'spacer':
        return '';
      case 'quote':
        return indented(inner(node.nodes, width - 2), '> ', '> ');
      case 'code':
        return indented(node.text, '    ', '    ');
      case 'table':
        return node.rows
          .map((row) => wrapText(row.cells.map((cell) => said(cell).replace(/\n/g, ' ')).join(' | '), width))
          .join('\n');
      case 'picture':
        return [
          node.alt ? wrapText(`[${node.alt}]`, width) : '',
          node.caption?.length ? wrapText(said(node.caption), width) : '',
          node.credit ? wrapText(`(${node.credit})`, width) : '',
        ]
          .filter(Boolean)
          .join('\n');
      case 'button':
        return wrapText(`${node.label} ${mark(node.href)}`, width);
      case 'stay':
        return `${wrapText(`${node.label}:`, width)}\n${slot(SLOT.stay)}`;
      case 'part': {
        const words = inner(node.nodes, width);
        return words && `${slot(partSlot(node.segmentId, node.inside))}${words}${slot(PART_ENDS)}`;
      }
      case 'html':
        return wrapLines(plainOf(node.html), width);
      case 'divider':
        return '* * *';
      default:
        return '';
    }
  };
  const parts = [wrapText(frame.brand.name)];
  if (own === null) parts.push(...document.nodes.map((node) => text(node, WIDTH)).filter(Boolean));
  else parts.push(ownText(own));
  if (notes.length) {
    // A note may itself have links, and is read after all that has notes.
    parts.push('* * *', ...notes.map((words, n) => wrapText(`${raised(n + 1)} ${said(words)}`)));
  }
  const look = frame.look?.foot;
  const sites = look?.links === false ? [] : (frame.brand.links ?? []).map((link) => wrapText(`${link.label} ${mark(link.url)}`));
  if (addresses.length) parts.push(`${words.links}:\n${addresses.map((href, n) => `[${n + 1}] ${href}`).join('\n')}`);
  const foot = [
    ...(look?.words ? [wrapLines(look.words)] : []),
    wrapText(frame.colophon.reasonLine),
    wrapText(frame.colophon.postalAddress.replace(/\r?\n/g, ', ')),
    ...sites,
  ];
  return `${parts.join('\n\n')}\n\n-- \n${foot.join('\n')}\n${words.choose}:\n${slot(SLOT.choices)}\n${words.unsubscribe}:\n${slot(SLOT.leave)}\n${look?.credit ? 'Inkset\n' : ''}`;
}

const wrapLines = (text: string, width = WIDTH) =>
  text
    .split('\n')
    .map((line) => wrapText(line, width))
    .join('\n');

/** A text of the writer's own: its lines wrapped, its chips filled for each reader. */
const ownText = (own: string) => lineTemplate(wrapLines(own.replace(/\r\n?/g, '\n').trim()));

/** What the text of a document says by itself, as its writer may change it: without the colophon, chips as they are typed. */
export function textToEdit(document: Document, frame: LetterFrame): string {
  const made = renderText(document, frame);
  const body = made.slice(0, made.lastIndexOf('\n\n-- \n')).replace(/^[^\n]*(?:\n[^\n]+)*\n\n/, '');
  return filledFor(
    body,
    (name) => {
      const chip = chipOf(name);
      return chip ? typedChip(chip) : '';
    },
    () => null,
  );
}

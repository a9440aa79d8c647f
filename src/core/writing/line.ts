import type { ChipOf } from './document';
import { chipSlot, slot, withoutMarks } from './slots';

/*
 * A line with merge chips, as it is typed: a subject, a preview line. A chip stands between these two marks: ‹first_name or dear reader›, or without
 * what stands for who gave no answer: ‹first_name›.
 */
const CHIP = /‹\s*([\p{L}\p{N}_-]{1,100})(?:\s+or\s+([^‹›]{0,200}?))?\s*›/gu;

/** Characters that turn or hide the direction of text: in a subject they only deceive (UAX 9). */
const TURNING = /[\u202a-\u202e\u2066-\u2069\u061c\u200e\u200f]/g;

/** One line without control characters and without what turns text around. */
export const oneLine = (text: string): string =>
  withoutMarks(text)
    .replace(/[\u0000-\u001f\u007f-\u009f\u2028\u2029]+/g, ' ')
    .replace(TURNING, '')
    .trim();

type LinePiece = { kind: 'text'; text: string } | ({ kind: 'chip' } & ChipOf);

/** A line as text and chips. */
export function linePieces(line: string): LinePiece[] {
  const out: LinePiece[] = [];
  let at = 0;
  for (const match of line.matchAll(CHIP)) {
    if (match.index > at) out.push({ kind: 'text', text: line.slice(at, match.index) });
    out.push({ kind: 'chip', field: match[1]!, fallback: match[2] ?? '' });
    at = match.index + match[0].length;
  }
  if (at < line.length) out.push({ kind: 'text', text: line.slice(at) });
  return out;
}

/** A chip as it is typed into a line. */
export const typedChip = ({ field, fallback }: ChipOf): string => `‹${field}${fallback ? ` or ${fallback}` : ''}›`;

/** A line as a template with slots; its text through `escaped`. */
export const lineTemplate = (line: string, escaped: (text: string) => string = (text) => text): string =>
  linePieces(line)
    .map((piece) => (piece.kind === 'text' ? escaped(withoutMarks(piece.text)) : slot(chipSlot(piece))))
    .join('');

/** The chips of a line. */
export const chipsOfLine = (line: string): ChipOf[] =>
  linePieces(line).flatMap((piece) => (piece.kind === 'chip' ? [{ field: piece.field, fallback: piece.fallback }] : []));

/** A line as it is read where nobody is asked: each chip by what stands for who gave no answer. */
export const lineForAll = (line: string): string =>
  linePieces(line)
    .map((piece) => (piece.kind === 'text' ? piece.text : piece.fallback))
    .join('')
    .replace(/\s{2,}/g, ' ')
    .trim();

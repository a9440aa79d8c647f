import Papa from 'papaparse';
import { fromWindows } from '../charset';
import { parseAddress } from '../readers/address';
import { isColumnName } from './columns';
import { mailboxesIn } from './mailboxes';

export const ENCODINGS = ['utf-8', 'utf-16le', 'utf-16be', 'windows-1252'] as const;
export type Encoding = (typeof ENCODINGS)[number];
export const DELIMITERS = [',', ';', '\t', '|'] as const;

/** How a file of readers is to be read (RFC 4180 and what programs make of it). */
export type Dialect = {
  encoding: Encoding;
  /** A table with columns, or lines of addresses with or without names ("Name <address>", RFC 5322 section 3.4). */
  shape: 'table' | 'lines';
  delimiter: string;
  quote: '"' | "'";
  /** Does its first row name the columns? */
  header: boolean;
  /** So many lines before the first row are none ("sep=;"). */
  skip: number;
  /** So many columns have nearly all of its rows. */
  columns: number;
};
export type Sniffed = { ok: true; dialect: Dialect } | { ok: false; sentence: string };

/** So much of a file is looked at to find out how it is to be read. */
export const HEAD_BYTES = 262_144;
const SAMPLE_ROWS = 200;
export const MOST_COLUMNS = 1_000;

const SPREADSHEET =
  'This is a spreadsheet and not a CSV file, whatever its name says. Save it as CSV in your spreadsheet program, and bring that.';
const MAGIC: [bytes: number[], sentence: string][] = [
  [[0x50, 0x4b, 0x03, 0x04], SPREADSHEET],
  [[0xd0, 0xcf, 0x11, 0xe0], SPREADSHEET],
  [[0x89, 0x50, 0x4e, 0x47], 'This is a picture and not a CSV file.'],
  [[0xff, 0xd8, 0xff], 'This is a picture and not a CSV file.'],
  [[0x47, 0x49, 0x46, 0x38], 'This is a picture and not a CSV file.'],
  [[0x52, 0x49, 0x46, 0x46], 'This is a picture or a recording and not a CSV file.'],
  [[0x25, 0x50, 0x44, 0x46], 'This is a PDF document and not a CSV file.'],
  [[0x1f, 0x8b], 'This file is packed. Unpack it first, and bring what was in it.'],
  [[0x7b, 0x5c, 0x72, 0x74, 0x66], 'This is a text document and not a CSV file. Save it as plain text, and bring that.'],
];

/** The encoding by a byte order mark, or by where its zero bytes stand; null for what is no text at all. */
export function encodingOf(head: Uint8Array, isUtf8: boolean): Encoding | null {
  const [a, b] = head;
  if (a === 0xff && b === 0xfe) return 'utf-16le';
  if (a === 0xfe && b === 0xff) return 'utf-16be';
  const some = head.subarray(0, 4_096);
  const zeros = (from: number) => some.filter((byte, at) => byte === 0 && at % 2 === from).length;
  const [even, odd] = [zeros(0), zeros(1)];
  const half = some.length / 2;
  if (odd > half * 0.3 && even < half * 0.05) return 'utf-16le';
  if (even > half * 0.3 && odd < half * 0.05) return 'utf-16be';
  if (even + odd > 0) return null;
  return isUtf8 ? 'utf-8' : 'windows-1252';
}

/** Bytes as text, in pieces as they come: without a byte order mark, and with every end of a line as \n. */
export class Decoding {
  readonly #by: TextDecoder;
  readonly #windows: boolean;
  #carry = '';
  constructor(encoding: Encoding) {
    this.#by = new TextDecoder(encoding);
    this.#windows = encoding === 'windows-1252';
  }
  push(bytes: Uint8Array): string {
    return this.#text(this.#by.decode(bytes, { stream: true }), false);
  }
  end(): string {
    return this.#text(this.#by.decode(), true);
  }
  #text(decoded: string, last: boolean): string {
    let text = this.#carry + (this.#windows ? fromWindows(decoded) : decoded);
    this.#carry = '';
    // What comes next may be the second half of a line's end.
    if (!last && text.endsWith('\r')) {
      this.#carry = '\r';
      text = text.slice(0, -1);
    }
    // No database keeps a NUL in a text.
    return text.replace(/\r\n?/g, '\n').replaceAll('\0', '');
  }
}

/**
 * Finds out how a file is to be read from its first bytes. What is no text of readers is refused with a sentence that says what it is. `whole`: are
 * these all of its bytes? `isUtf8` is said of the whole file.
 */
export function sniff(head: Uint8Array, { whole, isUtf8 }: { whole: boolean; isUtf8: boolean }): Sniffed {
  const refuse = (sentence: string): Sniffed => ({ ok: false, sentence });
  if (head.length === 0) return refuse('This file is empty.');
  const known = MAGIC.find(([bytes]) => bytes.every((byte, at) => head[at] === byte));
  if (known) return refuse(known[1]);
  const encoding = encodingOf(head, isUtf8);
  if (!encoding)
    return refuse('This is not a text: it holds bytes that no CSV file has. Save the readers as CSV, and bring that.');
  const decoding = new Decoding(encoding);
  let text = decoding.push(head) + (whole ? decoding.end() : '');
  if (/^\s*<(!doctype|html|\?xml)/i.test(text))
    return refuse('This is a page and not a CSV file. Perhaps you were not signed in where you saved it.');
  if (/^\s*[[{]\s*["{[\]}]/.test(text))
    return refuse('This is JSON and not a CSV file. Save the readers as CSV, and bring that.');
  if (!/\S/.test(text)) return refuse('There is nothing but blank lines in this file.');
  const separator = /^["']?sep=(.)["']?\n/i.exec(text);
  if (separator) text = text.slice(separator[0].length);
  // The last line may have been cut off.
  if (!whole && text.includes('\n')) text = text.slice(0, text.lastIndexOf('\n') + 1);
  const quote = quoteOf(text);
  const tries = (separator ? [separator[1]!] : DELIMITERS).map((delimiter) => ({
    delimiter,
    ...evenness(text, delimiter, quote),
  }));
  const best = tries.reduce((a, b) => (b.score > a.score ? b : a));
  if (best.columns > MOST_COLUMNS)
    return refuse(
      `This file has ${best.columns} columns; at most ${MOST_COLUMNS} are taken. Leave out those that are not about readers.`,
    );
  if (!separator && (best.columns < 2 || best.rows.length < 2 || best.even < 0.7) && areMailboxes(text))
    return { ok: true, dialect: { encoding, shape: 'lines', delimiter: ',', quote: '"', header: false, skip: 0, columns: 2 } };
  return {
    ok: true,
    dialect: {
      encoding,
      shape: 'table',
      delimiter: best.delimiter,
      quote,
      header: namesColumns(best.rows),
      skip: separator ? 1 : 0,
      columns: best.columns,
    },
  };
}

/** Are single quotes what holds cells together here? */
function quoteOf(text: string): '"' | "'" {
  const count = (quote: string) =>
    (text.match(new RegExp(`(^|[,;\\t|\\n])${quote}[^${quote}\\n]*${quote}(?=[,;\\t|\\n]|$)`, 'g')) ?? []).length;
  return count("'") > count('"') ? "'" : '"';
}

/** How even the first rows are with a delimiter: how many columns most of them have, and what share of them has so many. */
function evenness(text: string, delimiter: string, quote: string) {
  const { data } = new Papa.Parser({ delimiter, newline: '\n', quoteChar: quote, preview: SAMPLE_ROWS }).parse(
    text,
    0,
    false,
  ) as { data: string[][] };
  const rows = data.filter((row) => row.some((cell) => cell.trim() !== ''));
  const counts = new Map<number, number>();
  for (const row of rows) counts.set(row.length, (counts.get(row.length) ?? 0) + 1);
  const [columns, most] = [...counts].reduce((a, b) => (b[1] > a[1] || (b[1] === a[1] && b[0] > a[0]) ? b : a), [1, 0]);
  const even = rows.length ? most / rows.length : 0;
  return { rows, columns, even, score: columns < 2 ? 0 : even + Math.min(columns, 20) / 1_000 };
}

const isAddress = (cell: string) => parseAddress(cell) !== null || /<[^<>\s]+@[^<>\s]+>/.test(cell);
/** Does the first row name the columns: has it no address itself, where those after it do or it says what columns are called? */
function namesColumns(rows: string[][]): boolean {
  const [first, ...others] = rows;
  if (!first || first.some(isAddress)) return false;
  return others.length === 0 || first.some(isColumnName) || others.some((row) => row.some(isAddress));
}

function areMailboxes(text: string): boolean {
  const lines = text.split('\n', SAMPLE_ROWS).filter((line) => line.trim() !== '');
  const read = lines.map(mailboxesIn);
  return read.filter(Boolean).length >= lines.length * 0.9 && read.some((boxes) => boxes && (boxes.length > 1 || boxes[0]!.name));
}

import Papa from 'papaparse';
import type { Dialect } from './dialect';
import { mailboxesIn } from './mailboxes';

/** A row of a file: its number as a spreadsheet would count it, its cells, and whether it could be told where it ends. */
export type FileRow = { row: number; cells: string[]; broken: boolean };

/** No row of readers is longer: where one seems to be, a quote was opened and never closed. */
const LONGEST_ROW = 65_536;

/**
 * Rows out of text that comes in pieces, of either shape; lines of addresses give rows of address and name. Blank rows are counted and left out. A quote
 * that is never closed spoils its own line alone: that is handed out as broken, and what comes after it is read as if it had not been.
 */
export class RowReader {
  #buffer = '';
  #row = 0;
  #skip: number;
  constructor(private readonly dialect: Pick<Dialect, 'shape' | 'delimiter' | 'quote' | 'skip' | 'columns'>) {
    this.#skip = dialect.skip;
  }

  push(text: string): FileRow[] {
    this.#buffer += text;
    return this.#read(false);
  }
  end(): FileRow[] {
    const rows = this.#read(true);
    this.#buffer = '';
    return rows;
  }

  #read(last: boolean): FileRow[] {
    for (; this.#skip > 0; this.#skip -= 1) {
      const at = this.#buffer.indexOf('\n');
      if (at < 0) return [];
      this.#buffer = this.#buffer.slice(at + 1);
    }
    return this.dialect.shape === 'lines' ? this.#lines(last) : this.#table(last);
  }

  #lines(last: boolean): FileRow[] {
    const lines = this.#buffer.split('\n');
    this.#buffer = last ? '' : lines.pop()!;
    if (this.#buffer.length > LONGEST_ROW) {
      lines.push(this.#buffer.slice(0, LONGEST_ROW));
      this.#buffer = '';
    }
    return lines.flatMap((line) => {
      if (line.trim() === '') return [];
      const boxes = mailboxesIn(line);
      const cells = boxes ? boxes.map(({ name, address }) => [address, name]) : [[line]];
      return cells.map((one): FileRow => {
        this.#row += 1;
        return { row: this.#row, cells: one, broken: false };
      });
    });
  }

  #table(last: boolean): FileRow[] {
    const out: FileRow[] = [];
    const { delimiter, quote, columns } = this.dialect;
    const give = (cells: string[], broken = false) => {
      this.#row += 1;
      if (broken || cells.some((cell) => cell.trim() !== '')) out.push({ row: this.#row, cells, broken });
    };
    const parse = (text: string, one: boolean, whole: boolean) => {
      const parser = new Papa.Parser({
        delimiter,
        newline: '\n',
        quoteChar: quote,
        ...(one ? { preview: 1, fastMode: false } : {}),
      });
      return parser.parse(text, 0, !whole) as { data: string[][]; errors: { code: string }[]; meta: { cursor: number } };
    };
    // A cell with a line's end in a row of the wrong width: a quote may have gone on too far.
    const odd = (cells: string[]) => cells.length !== columns && cells.some((cell) => cell.includes('\n'));
    const all = parse(this.#buffer, false, false);
    if (!all.data.some(odd)) {
      for (const cells of all.data) give(cells);
      this.#buffer = this.#buffer.slice(all.meta.cursor);
    }
    const line = () => {
      const at = this.#buffer.indexOf('\n');
      const text = at < 0 ? this.#buffer : this.#buffer.slice(0, at);
      give([text.slice(0, LONGEST_ROW)], true);
      this.#buffer = at < 0 ? '' : this.#buffer.slice(at + 1);
    };
    // One by one: what is odd, and what is left at the end.
    while (this.#buffer !== '' && (last || all.data.some(odd) || this.#buffer.length > LONGEST_ROW)) {
      const { data, errors, meta } = parse(this.#buffer, true, last);
      const cells = data[0];
      const endless = errors.some((error) => error.code === 'MissingQuotes');
      if (cells && !endless && !odd(cells)) {
        give(cells);
        this.#buffer = this.#buffer.slice(meta.cursor);
      } else if (cells || endless || this.#buffer.length > LONGEST_ROW) line();
      else break;
    }
    return out;
  }
}

/** A cell that no spreadsheet takes for a formula. */
export const harmless = (cell: string): string => (/^[=+\-@\t\r]/.test(cell) ? `'${cell}` : cell);
/** A cell as it was before it was made harmless. */
export const asMeant = (cell: string): string => (/^'[=+\-@\t\r]/.test(cell) ? cell.slice(1) : cell);

/** A row as RFC 4180 has it, with its end, of harmless cells. */
export const csvRow = (cells: string[]): string =>
  `${cells.map((cell) => (/[",\r\n]|^\s|\s$/.test(harmless(cell)) ? `"${harmless(cell).replaceAll('"', '""')}"` : harmless(cell))).join(',')}\r\n`;

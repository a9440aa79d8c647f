import { Readable } from 'node:stream';
import { crc32 } from 'node:zlib';
import { type Entry, fromRandomAccessReader, RandomAccessReader, type ZipFile } from 'yauzl';
import { MOST_LINE } from '@/core/archive/sheets';
import { Fault } from '@/core/faults';
import type { Context } from '../context';
import { isAway } from '../db/connection';

/*
 * A zip that was kept in parts, from anybody: nothing in it is believed. What it says of sizes is held against what comes out, its sums against the bytes;
 * and what grows out of all measure is refused before it is read.
 */

const MOST_ENTRIES = 200_000;
/** Text of people becomes a tenth; what becomes less than a hundredth was made to burst. */
const MOST_RATIO = 100;
const SMALL = 10_000_000;

export const NO_ZIP = 'This is no file of a whole newsletter, as “Export” writes it. Nothing was brought.';
const broken = (what: string) => new Fault('invalid', `The file is damaged: ${what}. Nothing of it was brought.`);

type Part = { n: number; start: number; size: number };

/** Reads anywhere in a kept file, a part at a time. */
class KeptReader extends RandomAccessReader {
  #last: { n: number; bytes: Buffer } | null = null;
  constructor(
    readonly ctx: Pick<Context, 'db'>,
    readonly fileId: string,
    readonly parts: Part[],
  ) {
    super();
  }
  async #part(n: number): Promise<Buffer> {
    if (this.#last?.n === n) return this.#last.bytes;
    const row = await this.ctx.db
      .selectFrom('kept_parts')
      .select('bytes')
      .where('file_id', '=', this.fileId)
      .where('n', '=', n)
      .executeTakeFirst();
    if (!row) throw new Fault('expired', 'The file is no longer here. Send it again.');
    this.#last = { n, bytes: row.bytes };
    return row.bytes;
  }
  async *#between(start: number, end: number): AsyncGenerator<Buffer> {
    let at = this.parts.findLastIndex((part) => part.start <= start);
    for (let from = start; from < end && at >= 0 && at < this.parts.length; at += 1) {
      const part = this.parts[at]!;
      const bytes = await this.#part(part.n);
      yield bytes.subarray(from - part.start, Math.min(part.size, end - part.start));
      from = part.start + part.size;
    }
  }
  override _readStreamForRange(start: number, end: number): Readable {
    return Readable.from(this.#between(start, end), { objectMode: false });
  }
  override read(buffer: Buffer, offset: number, length: number, position: number, done: (error: Error | null) => void): void {
    const read = async () => {
      let at = offset;
      for await (const piece of this.#between(position, position + length)) at += piece.copy(buffer, at);
      if (at < offset + length) throw broken('it ends too early');
    };
    read().then(() => done(null), done);
  }
  override close(done: (error: Error | null) => void): void {
    done(null);
  }
}

export class KeptZip {
  private constructor(
    readonly zip: ZipFile,
    readonly entries: ReadonlyMap<string, Entry>,
  ) {}

  /** Opens a kept file as a zip. Throws "invalid" with a sentence for what is none, or is made to do harm. */
  static async open(ctx: Pick<Context, 'db'>, fileId: string): Promise<KeptZip> {
    const rows = await ctx.db
      .selectFrom('kept_parts')
      .select((eb) => ['n', eb.fn<number>('octet_length', ['bytes']).as('size')])
      .where('file_id', '=', fileId)
      .orderBy('n')
      .execute();
    let size = 0;
    const parts = rows.map((row): Part => {
      const part = { n: row.n, start: size, size: row.size };
      size += row.size;
      return part;
    });
    const zip = await new Promise<ZipFile>((resolve, reject) =>
      fromRandomAccessReader(
        new KeptReader(ctx, fileId, parts),
        size,
        { lazyEntries: true, autoClose: false, strictFileNames: true },
        (error, opened) => (opened ? resolve(opened) : reject(error instanceof Fault ? error : new Fault('invalid', NO_ZIP))),
      ),
    );
    if (zip.entryCount > MOST_ENTRIES) throw new Fault('invalid', NO_ZIP);
    const entries = new Map<string, Entry>();
    let packed = 0;
    await new Promise<void>((resolve, reject) => {
      zip.on('error', (error) => reject(faultOf(error, 'its list of files')));
      zip.on('end', resolve);
      zip.on('entry', (entry: Entry) => {
        packed += entry.compressedSize;
        if (entries.has(entry.fileName)) return reject(broken(`it holds “${entry.fileName.slice(0, 80)}” twice`));
        // Files that lie over one another would come to more than all of it.
        if (packed > size || (entry.uncompressedSize > SMALL && entry.uncompressedSize > entry.compressedSize * MOST_RATIO))
          return reject(
            new Fault(
              'invalid',
              'This file would grow out of all measure when it is opened. It was refused; nothing was brought.',
            ),
          );
        entries.set(entry.fileName, entry);
        zip.readEntry();
      });
      zip.readEntry();
    });
    return new KeptZip(zip, entries);
  }

  /** What a file in it holds, piece by piece; nothing where it is not there. Throws "invalid" where that is not what the zip says of it. */
  async *bytes(name: string): AsyncGenerator<Buffer> {
    const entry = this.entries.get(name);
    if (!entry) return;
    if (entry.isEncrypted() || !entry.canDecodeFileData()) throw broken(`“${name}” cannot be opened`);
    const stream = await new Promise<Readable>((resolve, reject) =>
      this.zip.openReadStream(entry, (error, opened) => (opened ? resolve(opened) : reject(faultOf(error, name)))),
    );
    let sum = 0;
    try {
      for await (const piece of stream as AsyncIterable<Buffer>) {
        sum = crc32(piece, sum);
        yield piece;
      }
    } catch (error) {
      throw faultOf(error, name);
    }
    if (sum !== entry.crc32) throw broken(`“${name}” is not as it was written`);
  }

  /** A small file of it, whole; null where it is not there or is larger. */
  async whole(name: string, most: number): Promise<Buffer | null> {
    const entry = this.entries.get(name);
    if (!entry || entry.uncompressedSize > most) return null;
    const pieces: Buffer[] = [];
    for await (const piece of this.bytes(name)) pieces.push(piece);
    return Buffer.concat(pieces);
  }

  /** The lines of a file in it. */
  async *lines(name: string): AsyncGenerator<string> {
    const utf8 = new TextDecoder('utf-8', { fatal: true });
    let begun = '';
    const decoded = (piece: Buffer | null) => {
      try {
        return utf8.decode(piece ?? new Uint8Array(), { stream: piece !== null });
      } catch {
        throw broken(`“${name}” is no text`);
      }
    };
    for await (const piece of this.bytes(name)) {
      const lines = decoded(piece).split('\n');
      lines[0] = begun + lines[0];
      begun = lines.pop()!;
      if (begun.length > MOST_LINE) throw broken(`“${name}” has a line that never ends`);
      yield* lines;
    }
    begun += decoded(null);
    if (begun) yield begun;
  }
}

function faultOf(error: unknown, name: string): unknown {
  // That the database is away says nothing of the file.
  if (error instanceof Fault || isAway(error)) return error;
  return broken(`“${name.slice(0, 80)}” cannot be opened`);
}

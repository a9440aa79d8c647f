import { Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { type Entry, fromBuffer, type ZipFile } from 'yauzl';
import { Fault } from '@/core/faults';

/** Unpacked, a report is no longer than this. */
const MOST_UNPACKED = 150_000_000;

const TOO_LARGE = 'Unpacked, this report is longer than any report is. It was not read.';
const BROKEN = 'This report is packed, and the pack is broken. Ask its sender for it again.';

/** The pieces of a report, whatever it is packed in (gzip, zip, nothing): told by its first bytes, never by what it is called. Throws a fault for a pack that is broken, or bursts. */
export async function* unpacked(bytes: Buffer): AsyncGenerator<Buffer> {
  let size = 0;
  for await (const piece of pieces(bytes)) {
    size += piece.length;
    if (size > MOST_UNPACKED) throw new Fault('invalid', TOO_LARGE);
    yield piece;
  }
}

async function* pieces(bytes: Buffer): AsyncGenerator<Buffer> {
  if (bytes[0] === 0x1f && bytes[1] === 0x8b) yield* guarded(Readable.from([bytes]).pipe(createGunzip()));
  else if (bytes.subarray(0, 2).toString('latin1') === 'PK') yield* guarded(await firstFile(bytes));
  else yield bytes;
}

async function* guarded(stream: Readable): AsyncGenerator<Buffer> {
  try {
    for await (const piece of stream) yield piece as Buffer;
  } catch {
    throw new Fault('invalid', BROKEN);
  } finally {
    stream.destroy();
  }
}

/** The first file of a zip that looks like a report. Its name leads nowhere: nothing is ever written under it. */
async function firstFile(bytes: Buffer): Promise<Readable> {
  const zip = await new Promise<ZipFile>((resolve, reject) =>
    fromBuffer(bytes, { lazyEntries: true, strictFileNames: false, decodeStrings: false }, (error, opened) =>
      opened ? resolve(opened) : reject(error ?? new Error('no zip')),
    ),
  ).catch(() => null);
  if (!zip) throw new Fault('invalid', BROKEN);
  return new Promise<Readable>((resolve, reject) => {
    let seen = 0;
    zip.on('error', () => reject(new Fault('invalid', BROKEN)));
    zip.on('end', () => reject(new Fault('invalid', 'There is no report in this zip.')));
    zip.on('entry', (entry: Entry) => {
      seen += 1;
      const name = String(entry.fileName);
      if (seen > 20 || !/\.(?:xml|json)$/i.test(name) || name.endsWith('/')) return seen > 20 ? zip.emit('end') : zip.readEntry();
      zip.openReadStream(entry, (error, stream) => (stream ? resolve(stream) : reject(error ?? new Fault('invalid', BROKEN))));
    });
    zip.readEntry();
  }).catch((error) => {
    throw error instanceof Fault ? error : new Fault('invalid', BROKEN);
  });
}

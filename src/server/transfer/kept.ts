import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';

/*
 * Files of a newsletter that are worked on or waited for. They stand in the database in parts, so that every process can read them, a crash leaves them
 * whole or not there, and nothing of them outlives their newsletter.
 */

export const PART_BYTES = 500_000;
/** So long a file is kept, whatever becomes of it. */
const KEPT_DAYS = 8;

type Kept = { id: string; size: number /** Its first part. */; head: Buffer; isUtf8: boolean };

/** Keeps what a stream brings. Throws "invalid" for more than `most` bytes, and keeps nothing of that, nor of a stream that breaks off. */
export async function keepFile(
  ctx: Context,
  newsletter: Pick<Newsletter, 'id'>,
  name: string,
  stream: AsyncIterable<Uint8Array>,
  most: number,
): Promise<Kept> {
  const id = newId();
  await ctx.db.insertInto('kept_files').values({ id, newsletter_id: newsletter.id, name, made_at: ctx.clock.now() }).execute();
  const utf8 = new TextDecoder('utf-8', { fatal: true });
  let [size, n, isUtf8] = [0, 0, true];
  let head: Buffer | null = null;
  let waiting: Uint8Array[] = [];
  let held = 0;
  const flush = async () => {
    const bytes = Buffer.concat(waiting);
    [waiting, held] = [[], 0];
    head ??= bytes;
    await ctx.db.insertInto('kept_parts').values({ file_id: id, n, bytes }).execute();
    n += 1;
  };
  try {
    for await (const chunk of stream) {
      size += chunk.length;
      if (size > most)
        throw new Fault('invalid', `This file is larger than ${Math.round(most / 1_000_000)} MB. Bring it in several parts.`);
      if (isUtf8) isUtf8 = decodes(utf8, chunk);
      waiting.push(chunk);
      held += chunk.length;
      if (held >= PART_BYTES) await flush();
    }
    if (held > 0) await flush();
    if (isUtf8) isUtf8 = decodes(utf8, null);
    await ctx.db
      .updateTable('kept_files')
      .set({ size: String(size), whole: true })
      .where('id', '=', id)
      .execute();
    return { id, size, head: head ?? Buffer.alloc(0), isUtf8 };
  } catch (error) {
    await dropFile(ctx, id).catch(() => undefined);
    throw error;
  }
}

function decodes(by: TextDecoder, chunk: Uint8Array | null): boolean {
  try {
    by.decode(chunk ?? new Uint8Array(), { stream: chunk !== null });
    return true;
  } catch {
    return false;
  }
}

/** A file's parts from the one with this number on, in order. */
export async function* partsOf(ctx: Pick<Context, 'db'>, fileId: string, from = 0): AsyncGenerator<Buffer> {
  for (let n = from; ; n += 1) {
    const part = await ctx.db
      .selectFrom('kept_parts')
      .select('bytes')
      .where('file_id', '=', fileId)
      .where('n', '=', n)
      .executeTakeFirst();
    if (!part) return;
    yield part.bytes;
  }
}

export async function dropFile(ctx: Pick<Context, 'db'>, id: string): Promise<void> {
  await ctx.db.deleteFrom('kept_files').where('id', '=', id).execute();
}

/** Forgets files that nobody works on any more. */
export async function forgetOldFiles(ctx: Context): Promise<void> {
  await sql`delete from kept_files where made_at <= ${new Date(ctx.clock.now().getTime() - KEPT_DAYS * 86_400_000)}`.execute(
    ctx.db,
  );
}

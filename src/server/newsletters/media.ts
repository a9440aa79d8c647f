import { mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import sharp from 'sharp';
import { Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';
import { guardedFetch } from '../fetch/guarded';
import { newId } from '../ids';
import { limit } from '../limits';

/** A photograph of forty megapixels is some ten of these. */
export const MOST_PICTURE_BYTES = 20_000_000;
/** A painting is kept as it is painted; a photograph of more than so many bytes is written as photographs are, if that is much smaller. */
const LARGE_BYTES = 150_000;
const ENDINGS: Record<string, string> = { 'image/png': 'png', 'image/jpeg': 'jpg', 'application/octet-stream': 'gift' };
/** A drawing can be made so that painting it never ends. */
const MOST_SECONDS = 5;
const LOGO_SIDE = 480;
const PICTURE_SIDE = 1200;

const painted = (bytes: Buffer, side: number) =>
  sharp(bytes, { limitInputPixels: 50_000_000 })
    .timeout({ seconds: MOST_SECONDS })
    .rotate()
    .resize(side, side, { fit: 'inside', withoutEnlargement: true })
    .png()
    .toBuffer({ resolveWithObject: true });

const asPhotograph = (png: Buffer) => sharp(png).jpeg({ quality: 84, mozjpeg: true }).toBuffer();

/** A picture that was kept elsewhere, painted anew as what it was. Throws "invalid" for what is none. */
export const repaint = (bytes: Buffer, contentType: string): Promise<Buffer> =>
  painted(bytes, PICTURE_SIDE).then(
    ({ data }) => (contentType === 'image/jpeg' ? asPhotograph(data) : data),
    () => {
      throw new Fault('invalid', 'One of its pictures is no picture we can read. Nothing was brought.');
    },
  );

/** Writes a file whole or not at all. Throws "unavailable" where the disk takes it not, as one that is full. */
async function lay(ctx: Pick<Context, 'config' | 'log'>, path: string, bytes: Buffer): Promise<void> {
  const part = `${path}.part`;
  try {
    await mkdir(ctx.config.mediaDir, { recursive: true, mode: 0o700 });
    await writeFile(part, bytes, { mode: 0o600 });
    await rename(part, path);
  } catch (error) {
    await rm(part, { force: true }).catch(() => undefined);
    ctx.log.error({ error, path }, 'a file could not be kept');
    throw new Fault(
      'unavailable',
      'The server cannot keep this file just now; perhaps its disk is full. Nothing was changed; try again later.',
    );
  }
}

/**
 * Keeps an uploaded picture: read by sharp (which refuses what is no picture), turned upright, made at most `side` pixels wide and high,
 * written anew, as PNG or, where that is much smaller, as JPEG, so that nothing of the file's insides survives. Returns its id and what the database is to
 * know of it.
 */
async function keepPainted(ctx: Context, newsletter: Newsletter, file: unknown, kind: 'logo' | 'picture', side: number) {
  if (!(file instanceof Blob) || file.size === 0)
    throw new Fault('invalid', 'Choose a picture first.', { [kind]: 'No picture.' });
  if (file.size > MOST_PICTURE_BYTES) throw new Fault('invalid', 'This picture is larger than 20 MB.', { [kind]: 'Too large.' });
  const bytes = Buffer.from(await file.arrayBuffer());
  const { data, info } = await painted(bytes, side).catch(() => {
    throw new Fault('invalid', 'This file is no picture we can read. PNG, JPEG, WebP, GIF, AVIF and SVG are.', {
      [kind]: 'Not a picture.',
    });
  });
  // A logo is a drawing, and stands on whatever ground it is put.
  const photograph =
    kind === 'picture' && data.length > LARGE_BYTES && (await sharp(data).stats()).isOpaque ? await asPhotograph(data) : null;
  const [kept, type] = photograph && photograph.length < data.length * 0.7 ? [photograph, 'image/jpeg'] : [data, 'image/png'];
  const id = newId();
  await lay(ctx, pathOf(ctx, id, type), kept);
  return {
    id,
    newsletter_id: newsletter.id,
    kind,
    content_type: type,
    width: info.width,
    height: info.height,
    created_at: ctx.clock.now(),
  };
}

/** Keeps an uploaded logo. The old one stays on disk, since letters already sent show it. */
export async function keepLogo(ctx: Context, newsletter: Newsletter, file: unknown): Promise<void> {
  const row = await keepPainted(ctx, newsletter, file, 'logo', LOGO_SIDE);
  await ctx.db.transaction().execute(async (trx) => {
    await trx.insertInto('media').values(row).execute();
    await trx.updateTable('newsletters').set({ logo_id: row.id }).where('id', '=', newsletter.id).execute();
  });
}

/** Keeps a picture for forms and returns the address that anybody can fetch it from. */
export async function keepPicture(ctx: Context, newsletter: Newsletter, file: unknown): Promise<{ url: string }> {
  const row = await keepPainted(ctx, newsletter, file, 'picture', PICTURE_SIDE);
  await ctx.db.insertInto('media').values(row).execute();
  return { url: mediaUrl(ctx, row.id, row.content_type) };
}

/** Fetches a picture from an address, once, and keeps it like one that was uploaded. Throws a sentence for an address that gives none. */
export async function takeInPicture(ctx: Context, newsletter: Newsletter, address: string): Promise<{ url: string }> {
  const { status, bytes, url } = await guardedFetch(
    address.trim(),
    ctx.config.allowLoopback,
    { accept: 'image/*' },
    { timeoutMs: 20_000, bytes: MOST_PICTURE_BYTES, redirects: 4 },
  );
  if (status >= 400)
    throw new Fault('unreachable', `${new URL(url).host} answers with ${status}, so there is no picture to take in.`);
  return keepPicture(ctx, newsletter, new Blob([new Uint8Array(bytes)]));
}

/** The same because somebody at a desk asks for it, so many times an hour and no more: nobody has us fetch addresses without end. */
export async function takeInAsked(ctx: Context, newsletter: Newsletter, address: string): Promise<{ url: string }> {
  await limit(ctx, `pictures:${newsletter.id}`, 1_000, 3_600, 'That were a thousand pictures in an hour. Please wait a while.');
  return takeInPicture(ctx, newsletter, address);
}

/** Takes the logo off letters and pages to come. */
export async function dropLogo(ctx: Context, newsletter: Newsletter): Promise<void> {
  await ctx.db.updateTable('newsletters').set({ logo_id: null }).where('id', '=', newsletter.id).execute();
}

/** Where a file lies, by its id and its type. */
export const pathOf = (ctx: Pick<Context, 'config'>, id: string, type: string): string =>
  join(ctx.config.mediaDir, `${id}.${ENDINGS[type] ?? 'gift'}`);

/** A kept picture, or null. The id is checked against its form before it comes near a path. */
export async function readMedia(ctx: Pick<Context, 'config'>, id: string): Promise<{ bytes: Buffer; type: string } | null> {
  if (!/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(id)) return null;
  for (const type of ['image/png', 'image/jpeg']) {
    const bytes = await readFile(pathOf(ctx, id, type)).catch(() => null);
    if (bytes) return { bytes, type };
  }
  return null;
}

/** Where a newsletter's logo is to be fetched by anybody; null where there is none. */
export const logoUrl = (ctx: Pick<Context, 'config'>, newsletter: { logo_id: string | null }): string | null =>
  newsletter.logo_id && mediaUrl(ctx, newsletter.logo_id, 'image/png');

const mediaUrl = (ctx: Pick<Context, 'config'>, id: string, type: string) =>
  `${ctx.config.linkOrigin}/e/media/${id}.${ENDINGS[type]}`;

const MOST_GIFT_BYTES = 20_000_000;

/** Keeps a file that a form gives away, as it is. Returns its id and name. */
export async function keepGift(ctx: Context, newsletter: Newsletter, file: unknown): Promise<{ id: string; name: string }> {
  if (!(file instanceof File) || file.size === 0) throw new Fault('invalid', 'Choose a file first.', { file: 'No file.' });
  if (file.size > MOST_GIFT_BYTES) throw new Fault('invalid', 'This file is larger than 20 MB.', { file: 'Too large.' });
  const id = newId();
  const name =
    file.name
      .replace(/[\u0000-\u001f\u007f/\\]+/g, ' ')
      .trim()
      .slice(0, 120) || 'gift';
  await lay(ctx, join(ctx.config.mediaDir, `${id}.gift`), Buffer.from(await file.arrayBuffer()));
  await ctx.db
    .insertInto('media')
    .values({
      id,
      newsletter_id: newsletter.id,
      kind: 'gift',
      content_type: 'application/octet-stream',
      name,
      width: 0,
      height: 0,
      created_at: ctx.clock.now(),
    })
    .execute();
  return { id, name };
}

/** A kept gift with its name, or null. */
export async function readGiftFile(
  ctx: Pick<Context, 'db' | 'config'>,
  newsletterId: string,
  id: string,
): Promise<{ bytes: Buffer; name: string } | null> {
  if (!/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(id)) return null;
  const row = await ctx.db
    .selectFrom('media')
    .select('name')
    .where('newsletter_id', '=', newsletterId)
    .where('id', '=', id)
    .where('kind', '=', 'gift')
    .executeTakeFirst();
  const bytes = row && (await readFile(join(ctx.config.mediaDir, `${id}.gift`)).catch(() => null));
  return bytes ? { bytes, name: row.name } : null;
}

/** Where the files of a newsletter lie, of whatever kind. */
export async function filesOf(ctx: Pick<Context, 'config' | 'db'>, newsletterId: string): Promise<string[]> {
  const rows = await ctx.db
    .selectFrom('media')
    .select(['id', 'content_type'])
    .where('newsletter_id', '=', newsletterId)
    .execute();
  return rows.map((row) => pathOf(ctx, row.id, row.content_type));
}

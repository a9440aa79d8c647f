import { mkdir, readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import sharp from 'sharp';
import { Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';

const MOST_BYTES = 5_000_000;
/** A drawing can be made so that painting it never ends. */
const MOST_SECONDS = 5;
const LOGO_SIDE = 480;
const PICTURE_SIDE = 1200;

/**
 * Keeps an uploaded picture: read by sharp (which refuses what is no picture), turned upright, made at most `side` pixels wide and high,
 * written anew as PNG so that nothing of the file's insides survives. Returns its id and what the database is to know of it.
 */
async function keepPng(ctx: Context, newsletter: Newsletter, file: unknown, kind: 'logo' | 'picture', side: number) {
  if (!(file instanceof Blob) || file.size === 0)
    throw new Fault('invalid', 'Choose a picture first.', { [kind]: 'No picture.' });
  if (file.size > MOST_BYTES) throw new Fault('invalid', 'This picture is larger than 5 MB.', { [kind]: 'Too large.' });
  const bytes = Buffer.from(await file.arrayBuffer());
  const { data, info } = await sharp(bytes, { limitInputPixels: 50_000_000 })
    .timeout({ seconds: MOST_SECONDS })
    .rotate()
    .resize(side, side, { fit: 'inside', withoutEnlargement: true })
    .png()
    .toBuffer({ resolveWithObject: true })
    .catch(() => {
      throw new Fault('invalid', 'This file is no picture we can read. PNG, JPEG, WebP, GIF, AVIF and SVG are.', {
        [kind]: 'Not a picture.',
      });
    });
  const id = newId();
  await mkdir(ctx.config.mediaDir, { recursive: true, mode: 0o700 });
  await writeFile(pathOf(ctx, id), data, { mode: 0o600 });
  return {
    id,
    newsletter_id: newsletter.id,
    kind,
    content_type: 'image/png',
    width: info.width,
    height: info.height,
    created_at: ctx.clock.now(),
  };
}

/** Keeps an uploaded logo. The old one stays on disk, since letters already sent show it. */
export async function keepLogo(ctx: Context, newsletter: Newsletter, file: unknown): Promise<void> {
  const row = await keepPng(ctx, newsletter, file, 'logo', LOGO_SIDE);
  await ctx.db.transaction().execute(async (trx) => {
    await trx.insertInto('media').values(row).execute();
    await trx.updateTable('newsletters').set({ logo_id: row.id }).where('id', '=', newsletter.id).execute();
  });
}

/** Keeps a picture for forms and returns the address that anybody can fetch it from. */
export async function keepPicture(ctx: Context, newsletter: Newsletter, file: unknown): Promise<{ url: string }> {
  const row = await keepPng(ctx, newsletter, file, 'picture', PICTURE_SIDE);
  await ctx.db.insertInto('media').values(row).execute();
  return { url: mediaUrl(ctx, row.id) };
}

/** Takes the logo off letters and pages to come. */
export async function dropLogo(ctx: Context, newsletter: Newsletter): Promise<void> {
  await ctx.db.updateTable('newsletters').set({ logo_id: null }).where('id', '=', newsletter.id).execute();
}

const pathOf = (ctx: Pick<Context, 'config'>, id: string) => join(ctx.config.mediaDir, `${id}.png`);

/** A kept picture, or null. The id is checked against its form before it comes near a path. */
export async function readMedia(ctx: Pick<Context, 'config'>, id: string): Promise<Buffer | null> {
  if (!/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(id)) return null;
  return readFile(pathOf(ctx, id)).catch(() => null);
}

/** Where a newsletter's logo is to be fetched by anybody; null where there is none. */
export const logoUrl = (ctx: Pick<Context, 'config'>, newsletter: { logo_id: string | null }): string | null =>
  newsletter.logo_id && mediaUrl(ctx, newsletter.logo_id);

const mediaUrl = (ctx: Pick<Context, 'config'>, id: string) => `${ctx.config.linkOrigin}/e/media/${id}.png`;

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
  await mkdir(ctx.config.mediaDir, { recursive: true, mode: 0o700 });
  await writeFile(join(ctx.config.mediaDir, `${id}.gift`), Buffer.from(await file.arrayBuffer()), { mode: 0o600 });
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
  const rows = await ctx.db.selectFrom('media').select(['id', 'kind']).where('newsletter_id', '=', newsletterId).execute();
  return rows.map(({ id, kind }) => (kind === 'gift' ? join(ctx.config.mediaDir, `${id}.gift`) : pathOf(ctx, id)));
}

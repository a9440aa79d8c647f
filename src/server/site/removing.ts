import { rm } from 'node:fs/promises';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';
import { filesOf } from '../newsletters/media';
import { moveLetter } from '../sending/letters';

/** So many readers are erased in one transaction. */
const PORTION = 500;

/**
 * Takes a newsletter away for good, once its name was typed: at once nobody can open it, nothing more of it leaves, its forms are closed and its
 * address is free; its rows go in portions afterwards (`eraseNewsletter`). Throws "invalid" for another name.
 */
export async function removeNewsletter(ctx: Context, newsletter: Newsletter, typed: unknown): Promise<void> {
  if (String(typed ?? '').trim() !== newsletter.name)
    throw new Fault('invalid', `Type “${newsletter.name}” to delete it. Nothing was changed.`, { name: 'This is not its name.' });
  const now = ctx.clock.now();
  await ctx.db.transaction().execute(async (trx) => {
    await trx
      .updateTable('newsletters')
      .set({ removed_at: now, slug: `removed-${newsletter.id}` })
      .where('id', '=', newsletter.id)
      .execute();
    const of = <T extends 'members' | 'invitations' | 'route_jobs'>(table: T) =>
      sql`delete from ${sql.table(table)} where newsletter_id = ${newsletter.id}`.execute(trx);
    await of('members');
    await of('invitations');
    const letters = await trx
      .selectFrom('letters')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('state', 'in', ['scheduled', 'held', 'starting', 'sending', 'paused'])
      .orderBy('id')
      .execute();
    for (const { id } of letters)
      (await moveLetter(ctx, trx, id, 'stop', 'Its newsletter was deleted')) ??
        (await moveLetter(ctx, trx, id, 'unschedule', 'Its newsletter was deleted'));
    await of('route_jobs');
    await sql`delete from mails where newsletter_id = ${newsletter.id} and state = 'queued'`.execute(trx);
    await trx.updateTable('auto_sends').set({ switched_on_at: null }).where('newsletter_id', '=', newsletter.id).execute();
    await trx.updateTable('forms').set({ archived_at: now }).where('newsletter_id', '=', newsletter.id).execute();
  });
  ctx.log.info({ newsletter: newsletter.id }, 'a newsletter was deleted; its rows go in portions');
}

/** Erases what is left of a deleted newsletter, some readers at a time, its files, and then itself. May end anywhere and be called again. */
export async function eraseNewsletter(ctx: Context, id: string): Promise<void> {
  const row = await ctx.db
    .selectFrom('newsletters')
    .select('id')
    .where('id', '=', id)
    .where('removed_at', 'is not', null)
    .executeTakeFirst();
  if (!row) return;
  for (;;) {
    const readers = await ctx.db.selectFrom('readers').select('id').where('newsletter_id', '=', id).limit(PORTION).execute();
    if (readers.length === 0) break;
    const ids = readers.map((reader) => reader.id);
    await ctx.db.transaction().execute(async (trx) => {
      await sql`delete from events where reader_id = any(${ids}::uuid[])`.execute(trx);
      await sql`delete from deliveries where reader_id = any(${ids}::uuid[])`.execute(trx);
      await sql`set local inkset.erasing = 'on'`.execute(trx);
      await sql`delete from consents where reader_id = any(${ids}::uuid[])`.execute(trx);
      await sql`delete from readers where id = any(${ids}::uuid[])`.execute(trx);
    });
  }
  // What readers left who were erased before: looked for once, through all months.
  await sql`delete from events where newsletter_id = ${id}`.execute(ctx.db);
  await sql`delete from deliveries where newsletter_id = ${id}`.execute(ctx.db);
  for (const path of await filesOf(ctx, id)) await rm(path, { force: true });
  await ctx.db.transaction().execute(async (trx) => {
    await sql`set local inkset.erasing = 'on'`.execute(trx);
    await trx.deleteFrom('newsletters').where('id', '=', id).where('removed_at', 'is not', null).execute();
    // Counts that were appended and not folded yet are of nobody now.
    for (const name of ['letter', 'people', 'source', 'day'])
      await sql`delete from ${sql.table(`${name}_changes`)} where newsletter_id = ${id}`.execute(trx);
  });
  ctx.log.info({ newsletter: id }, 'a deleted newsletter is erased');
}

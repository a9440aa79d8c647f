import { rm } from 'node:fs/promises';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { longDay } from '@/core/growth/times';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { oldEventsDir } from '../delivery/old-events';
import { mailOwners } from '../newsletters/alerts';
import { filesOf } from '../newsletters/media';
import { moveLetter, pauseFor } from '../sending/letters';

/** So many readers are erased in one transaction. */
const PORTION = 500;
/** So long a newsletter that is to be deleted can be kept. */
export const GRACE_DAYS = 7;

/**
 * Has a newsletter deleted in a week, once its name was typed. From this moment nothing of it leaves and its forms are closed; every owner is told, and any
 * of them may keep it. Throws "invalid" for another name.
 */
export async function closeNewsletter(ctx: Context, newsletter: Newsletter, typed: unknown, by: string): Promise<{ at: Date }> {
  if (String(typed ?? '').trim() !== newsletter.name)
    throw new Fault('invalid', `Type “${newsletter.name}” to delete it. Nothing was changed.`, { name: 'This is not its name.' });
  const now = ctx.clock.now();
  return inTransaction(ctx.db, async (trx) => {
    const row = await trx
      .updateTable('newsletters')
      .set((eb) => ({ closing_at: eb.fn.coalesce('closing_at', eb.val(new Date(now.getTime() + GRACE_DAYS * 86_400_000))) }))
      .where('id', '=', newsletter.id)
      .returning('closing_at')
      .executeTakeFirstOrThrow();
    const at = row.closing_at!;
    await quieten(ctx, trx, newsletter.id);
    if (!newsletter.closing_at)
      await mailOwners(
        ctx,
        trx,
        newsletter.id,
        newsletter,
        `${newsletter.name} will be deleted on ${longDay(at, newsletter.time_zone)}`,
        [
          `${by} has asked for it. Until then nothing of it is sent, its forms are closed, and all of it is still here: any owner may keep it, or take all of it out as a file.`,
          'After that its readers, letters, forms and figures are gone, and nobody can bring them back but from such a file.',
        ],
        '/settings',
        { told: 'must know' },
      );
    return { at };
  });
}

/** Stops what of a newsletter is on its way: letters pause, single mails are cancelled. Called again while it closes, for what began at the same moment. */
export async function quieten(ctx: Context, db: Db, id: string): Promise<void> {
  const letters = await db
    .selectFrom('letters')
    .select('id')
    .where('newsletter_id', '=', id)
    .where('state', '=', 'sending')
    .orderBy('id')
    .execute();
  for (const letter of letters) await pauseFor(ctx, db, letter.id, 'Its newsletter is to be deleted');
  await sql`update mails set state = 'cancelled' where newsletter_id = ${id} and state = 'queued'`.execute(db);
}

/** Does the same for every newsletter that closes, each second. */
export async function quietenClosing(ctx: Context): Promise<void> {
  const rows = await ctx.db
    .selectFrom('newsletters')
    .select('id')
    .where('closing_at', 'is not', null)
    .where('removed_at', 'is', null)
    .execute();
  for (const { id } of rows) await inTransaction(ctx.db, (trx) => quieten(ctx, trx, id));
}

/**
 * Keeps a newsletter that was to be deleted. Its forms are open again and new posts go out again; letters that were due meanwhile, and those that were
 * stopped on their way, wait for the writer. Throws "conflict" where it is too late.
 */
export async function keepNewsletter(ctx: Context, newsletter: Newsletter): Promise<void> {
  const now = ctx.clock.now();
  await inTransaction(ctx.db, async (trx) => {
    const row = await trx
      .updateTable('newsletters')
      .set({ closing_at: null })
      .where('id', '=', newsletter.id)
      .where('removed_at', 'is', null)
      .where('closing_at', '>', now)
      .returning('id')
      .executeTakeFirst();
    if (!row) throw new Fault('conflict', 'It was kept already, or it is too late.');
    const due = await trx
      .selectFrom('letters')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('state', 'in', ['scheduled', 'held'])
      .where('due_at', '<=', now)
      .orderBy('id')
      .execute();
    for (const { id } of due) await moveLetter(ctx, trx, id, 'unschedule', 'It was due while its newsletter was to be deleted');
  });
}

/** Takes a newsletter away whose week is over: nobody can open it any more and its address is free. Its rows go in portions afterwards. */
async function remove(ctx: Context, db: Db, id: string): Promise<void> {
  const now = ctx.clock.now();
  await db
    .updateTable('newsletters')
    .set({ removed_at: now, slug: `removed-${id}` })
    .where('id', '=', id)
    .execute();
  for (const table of ['members', 'invitations', 'route_jobs'])
    await sql`delete from ${sql.table(table)} where newsletter_id = ${id}`.execute(db);
  const letters = await db
    .selectFrom('letters')
    .select('id')
    .where('newsletter_id', '=', id)
    .where('state', 'in', ['scheduled', 'held', 'starting', 'sending', 'paused'])
    .orderBy('id')
    .execute();
  for (const letter of letters)
    (await moveLetter(ctx, db, letter.id, 'stop', 'Its newsletter was deleted')) ??
      (await moveLetter(ctx, db, letter.id, 'unschedule', 'Its newsletter was deleted'));
  await db.updateTable('auto_sends').set({ switched_on_at: null }).where('newsletter_id', '=', id).execute();
  await db.updateTable('feeds').set({ next_poll_at: null }).where('newsletter_id', '=', id).execute();
  await db.updateTable('forms').set({ archived_at: now }).where('newsletter_id', '=', id).execute();
  ctx.log.info({ newsletter: id }, 'a newsletter was deleted; its rows go in portions');
}

/** Takes a newsletter away whose week is over, and erases it: some readers at a time, its files, and then itself. May end anywhere and be called again. */
export async function eraseNewsletter(ctx: Context, id: string): Promise<void> {
  const there = await inTransaction(ctx.db, async (trx) => {
    const row = await trx
      .selectFrom('newsletters')
      .select(['removed_at', 'closing_at'])
      .where('id', '=', id)
      .forUpdate()
      .executeTakeFirst();
    if (!row) return false;
    if (row.removed_at) return true;
    if (!row.closing_at || row.closing_at > ctx.clock.now()) return false;
    await remove(ctx, trx, id);
    return true;
  });
  if (!there) return;
  for (;;) {
    const readers = await ctx.db
      .selectFrom('readers')
      .select(['id', 'address'])
      .where('newsletter_id', '=', id)
      .limit(PORTION)
      .execute();
    if (readers.length === 0) break;
    const ids = readers.map((reader) => reader.id);
    await ctx.db.transaction().execute(async (trx) => {
      await sql`delete from events where reader_id = any(${ids}::uuid[])`.execute(trx);
      await sql`delete from deliveries where reader_id = any(${ids}::uuid[])`.execute(trx);
      await sql`set local inkset.erasing = 'on'`.execute(trx);
      await sql`delete from consents where reader_id = any(${ids}::uuid[])`.execute(trx);
      // Complaints that came by mail name whom they are about.
      await sql`delete from reports where kind in ('complaint', 'postmaster') and exists (
        select 1 from unnest(${readers.map((reader) => reader.address)}::text[]) as a where position(convert_to(a, 'UTF8') in bytes) > 0)`.execute(
        trx,
      );
      await sql`delete from readers where id = any(${ids}::uuid[])`.execute(trx);
    });
  }
  // What readers left who were erased before: looked for once, through all months.
  await sql`delete from events where newsletter_id = ${id}`.execute(ctx.db);
  await sql`delete from deliveries where newsletter_id = ${id}`.execute(ctx.db);
  await sql`delete from reports where domain_id in (select id from domains where newsletter_id = ${id})`.execute(ctx.db);
  for (const path of await filesOf(ctx, id)) await rm(path, { force: true });
  await rm(oldEventsDir(ctx, id), { recursive: true, force: true });
  await ctx.db.transaction().execute(async (trx) => {
    await sql`set local inkset.erasing = 'on'`.execute(trx);
    // Why one could not be brought back is told to whoever tried; all else that is known of it goes with it.
    await sql`delete from restores where newsletter_id = ${id} and state <> 'failed'`.execute(trx);
    await trx.deleteFrom('newsletters').where('id', '=', id).where('removed_at', 'is not', null).execute();
    // Counts that were appended and not folded yet are of nobody now.
    for (const name of ['letter', 'people', 'source', 'day', 'reason', 'list'])
      await sql`delete from ${sql.table(`${name}_changes`)} where newsletter_id = ${id}`.execute(trx);
  });
  // Once more: a file of old events may have been under way.
  await rm(oldEventsDir(ctx, id), { recursive: true, force: true });
  ctx.log.info({ newsletter: id }, 'a deleted newsletter is erased');
}

import { createHmac, randomBytes } from 'node:crypto';
import { sql } from 'kysely';
import type { SuppressionReason } from '@/core/readers/state';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { seal, unseal } from '../secrets';

/*
 * Who may not be written to, whoever asks. An address stands here as it is until its reader is erased; then only a keyed hash of it is left, which an
 * import can be held against and nobody can read.
 */

/** The newsletter's own key for hashes of addresses, made at the first need. */
async function hashKey(ctx: Pick<Context, 'config'>, db: Db, newsletterId: string): Promise<Buffer> {
  const kept = await db.selectFrom('newsletters').select('hash_key').where('id', '=', newsletterId).executeTakeFirstOrThrow();
  if (kept.hash_key) return Buffer.from(unseal(kept.hash_key, ctx.config.keys), 'hex');
  const made = seal(randomBytes(32).toString('hex'), ctx.config.keys);
  const { rows } = await sql<{ hash_key: Buffer }>`
    update newsletters set hash_key = coalesce(hash_key, ${made}) where id = ${newsletterId} returning hash_key`.execute(db);
  return Buffer.from(unseal(rows[0]!.hash_key, ctx.config.keys), 'hex');
}

/** The same, in hex, for a newsletter that is taken out whole; null where nobody was erased yet. */
export const erasedKey = (ctx: Pick<Context, 'config'>, newsletter: { hash_key: Buffer | null }): string | null =>
  newsletter.hash_key && unseal(newsletter.hash_key, ctx.config.keys);

/** The hash under which addresses of erased readers stand among the suppressed. */
async function hasher(ctx: Pick<Context, 'config'>, db: Db, newsletterId: string): Promise<(addressKey: string) => string> {
  const key = await hashKey(ctx, db, newsletterId);
  return (addressKey) => createHmac('sha256', key).update(addressKey).digest('hex');
}

const anyHashed = async (db: Db, newsletterId: string): Promise<boolean> =>
  (await db
    .selectFrom('suppressions')
    .select('hashed')
    .where('newsletter_id', '=', newsletterId)
    .where('hashed', '=', true)
    .limit(1)
    .executeTakeFirst()) !== undefined;

/** Which of these addresses may not be written to, and why. */
export async function suppressedAmong(
  ctx: Pick<Context, 'config'>,
  db: Db,
  newsletterId: string,
  addressKeys: string[],
): Promise<Map<string, SuppressionReason>> {
  const hashOf = (await anyHashed(db, newsletterId)) ? await hasher(ctx, db, newsletterId) : null;
  const asked = new Map(addressKeys.flatMap((key) => [[key, key] as const, ...(hashOf ? [[hashOf(key), key] as const] : [])]));
  const rows = await db
    .selectFrom('suppressions')
    .select(['address_key', 'reason'])
    .where('newsletter_id', '=', newsletterId)
    .where(sql<boolean>`address_key = any(${[...asked.keys()]}::text[])`)
    .execute();
  return new Map(rows.map((row) => [asked.get(row.address_key)!, row.reason]));
}

/** Puts the keyed hash in the place of addresses whose readers are erased; what had suppressed them stays the reason. */
export async function suppressErased(
  ctx: Pick<Context, 'config' | 'clock'>,
  db: Db,
  newsletterId: string,
  addressKeys: string[],
): Promise<void> {
  const hashOf = await hasher(ctx, db, newsletterId);
  const now = ctx.clock.now();
  await sql`
    with gone as (delete from suppressions where newsletter_id = ${newsletterId} and address_key = any(${addressKeys}::text[]) returning address_key, reason, at)
    insert into suppressions (newsletter_id, address_key, hashed, reason, at)
    select ${newsletterId}::uuid, n.hash, true, coalesce(g.reason, 'erased'), coalesce(g.at, ${now}::timestamptz)
    from unnest(${addressKeys}::text[], ${addressKeys.map(hashOf)}::text[]) as n(key, hash) left join gone g on g.address_key = n.key
    on conflict (newsletter_id, address_key) do nothing`.execute(db);
}

/** Lets an address be written to again, whichever way it stands here: by its owner's own act, or a member's where a member had suppressed it. */
export async function allowAgain(ctx: Pick<Context, 'config'>, db: Db, newsletterId: string, addressKey: string): Promise<void> {
  const { rows } = await sql<{ hashed: boolean }>`
    delete from suppressions where newsletter_id = ${newsletterId} and address_key = ${addressKey} returning hashed`.execute(db);
  if (rows.length) return;
  if (!(await anyHashed(db, newsletterId))) return;
  const hash = (await hasher(ctx, db, newsletterId))(addressKey);
  await db.deleteFrom('suppressions').where('newsletter_id', '=', newsletterId).where('address_key', '=', hash).execute();
}

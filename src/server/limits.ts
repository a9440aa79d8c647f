import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Context } from './context';

/**
 * Counts one use of `key` in its window and throws "too-many" beyond `most`. Kept in PostgreSQL, so that all processes count
 * together. Windows are by the machine's time: a moved demo clock opens no gate.
 */
export async function limit(
  ctx: Pick<Context, 'db'>,
  key: string,
  most: number,
  seconds: number,
  sentence: string,
): Promise<void> {
  if (!(await within(ctx, key, most, seconds))) throw new Fault('too-many', sentence);
}

/** Counts one use of `key` in its window and says whether it is still within `most`. */
export async function within(ctx: Pick<Context, 'db'>, key: string, most: number, seconds: number): Promise<boolean> {
  const window = new Date(Math.floor(Date.now() / 1000 / seconds) * seconds * 1000);
  const row = await ctx.db
    .insertInto('rate_limits')
    .values({ key, window_start: window, count: 1 })
    .onConflict((c) => c.columns(['key', 'window_start']).doUpdateSet({ count: sql`rate_limits.count + 1` }))
    .returning('count')
    .executeTakeFirstOrThrow();
  return row.count <= most;
}

/** Drops windows that no rule looks at any more. */
export async function forgetOldLimits(ctx: Pick<Context, 'db'>): Promise<void> {
  await ctx.db
    .deleteFrom('rate_limits')
    .where('window_start', '<', new Date(Date.now() - 2 * 86_400_000))
    .execute();
}

import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Context } from './context';
import { insertRows } from './db/rows';

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
  return (await countUses(ctx, [{ key, seconds }]))[0]! <= most;
}

export type Use = { key: string; seconds: number };

/**
 * Counts these uses in one statement and returns for each which one of its window it was, from 1. The same key may come several times:
 * they are numbered in their order.
 */
export async function countUses(ctx: Pick<Context, 'db'>, uses: Use[]): Promise<number[]> {
  if (uses.length === 0) return [];
  const sums = new Map<string, { key: string; seconds: number; count: number }>();
  for (const { key, seconds } of uses) {
    const sum = sums.get(key);
    if (sum) sum.count += 1;
    else sums.set(key, { key, seconds, count: 1 });
  }
  const rows = [...sums.values()]
    // In one order always, so that two statements at once wait for each other instead of blocking for ever.
    .sort((a, b) => (a.key < b.key ? -1 : 1))
    .map(({ key, seconds, count }) => ({
      key,
      window_start: new Date(Math.floor(Date.now() / 1000 / seconds) * seconds * 1000),
      count,
    }));
  const { rows: counted } = await sql<{ key: string; count: number }>`
    ${insertRows('rate_limits', ['key', 'window_start', 'count'], rows)}
    on conflict (key, window_start) do update set count = rate_limits.count + excluded.count returning key, count`.execute(
    ctx.db,
  );
  const next = new Map(counted.map((row) => [row.key, row.count - sums.get(row.key)!.count]));
  return uses.map(({ key }) => {
    const number = next.get(key)! + 1;
    next.set(key, number);
    return number;
  });
}

/** Drops windows that no rule looks at any more. */
export async function forgetOldLimits(ctx: Pick<Context, 'db'>): Promise<void> {
  await ctx.db
    .deleteFrom('rate_limits')
    .where('window_start', '<', new Date(Date.now() - 2 * 86_400_000))
    .execute();
}

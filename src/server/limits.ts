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

export type Rule = { key: string; most: number; seconds: number };

/** Counts one use of each of these keys in one statement; throws "too-many" if any is beyond its `most`. */
export async function limitAll(ctx: Pick<Context, 'db'>, rules: Rule[], sentence: string): Promise<void> {
  const counted = await count(ctx, rules);
  if (rules.some((rule) => (counted.get(rule.key) ?? 0) > rule.most)) throw new Fault('too-many', sentence);
}

/** Counts one use of `key` in its window and says whether it is still within `most`. */
export async function within(ctx: Pick<Context, 'db'>, key: string, most: number, seconds: number): Promise<boolean> {
  return ((await count(ctx, [{ key, most, seconds }])).get(key) ?? 0) <= most;
}

async function count(ctx: Pick<Context, 'db'>, rules: Rule[]): Promise<Map<string, number>> {
  const rows = await ctx.db
    .insertInto('rate_limits')
    .values(
      // In one order always, so that two statements at once wait for each other instead of blocking for ever.
      [...rules]
        .sort((a, b) => (a.key < b.key ? -1 : 1))
        .map(({ key, seconds }) => ({
          key,
          window_start: new Date(Math.floor(Date.now() / 1000 / seconds) * seconds * 1000),
          count: 1,
        })),
    )
    .onConflict((c) => c.columns(['key', 'window_start']).doUpdateSet({ count: sql`rate_limits.count + 1` }))
    .returning(['key', 'count'])
    .execute();
  return new Map(rows.map((row) => [row.key, row.count]));
}

/** Drops windows that no rule looks at any more. */
export async function forgetOldLimits(ctx: Pick<Context, 'db'>): Promise<void> {
  await ctx.db
    .deleteFrom('rate_limits')
    .where('window_start', '<', new Date(Date.now() - 2 * 86_400_000))
    .execute();
}

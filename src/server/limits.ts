import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
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

const HOUR = 3_600;
const TO_ONE = { anHour: 6, aDay: 20 };

/**
 * May one more mail go to somebody who has not asked this installation for any: a sender's proof, an invitation, a writer's try, a mail about an
 * account? Counted for each mailbox over all newsletters and kinds, so that nobody is pelted through us.
 */
export async function mayMailTo(ctx: Pick<Context, 'db'>, address: string): Promise<boolean> {
  const key = `mail-to:${parseAddress(address)?.key ?? address.trim().toLowerCase()}`;
  const [hour, day] = await countUses(ctx, [
    { key: `${key} hour`, seconds: HOUR },
    { key: `${key} day`, seconds: 24 * HOUR },
  ]);
  return hour! <= TO_ONE.anHour && day! <= TO_ONE.aDay;
}

/** The same, throwing "too-many". */
export async function limitMailTo(ctx: Pick<Context, 'db'>, address: string): Promise<void> {
  if (!(await mayMailTo(ctx, address)))
    throw new Fault(
      'too-many',
      `${address} has been sent several mails from here just now. Try again later today or tomorrow; nothing was lost.`,
    );
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

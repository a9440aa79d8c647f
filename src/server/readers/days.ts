import { sql } from 'kysely';
import { localDay } from '@/core/growth/days';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';

export type Scope = { id: string; time_zone: string };
type DayCount = { newsletter: Scope; field: 'asked' | 'joined' | 'left_count'; by?: number };

/** Sums of what is counted, one row a key. In one order always, so that two writers at once wait for each other instead of blocking for ever. */
export function summed<T extends { field: string; by?: number }>(
  counts: T[],
  fields: readonly string[],
  keyOf: (one: T) => Record<string, string>,
) {
  const rows = new Map<string, Record<string, string | number>>();
  for (const one of counts) {
    const keys = keyOf(one);
    const name = Object.values(keys).join(' ');
    const row = rows.get(name) ?? { ...Object.fromEntries(fields.map((field) => [field, 0])), ...keys };
    row[one.field] = Number(row[one.field]) + (one.by ?? 1);
    rows.set(name, row);
  }
  return [...rows].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, row]) => row as Record<string, unknown>);
}

/** What of an upsert adds each field to what is there. */
export const added = (table: string, fields: readonly string[]) =>
  sql.join(fields.map((field) => sql`${sql.ref(field)} = ${sql.ref(`${table}.${field}`)} + ${sql.ref(`excluded.${field}`)}`));

const DAY_FIELDS = ['asked', 'joined', 'left_count'] as const;
/** Adds to newsletters' counts of their local day in one statement, in the caller's transaction. */
export async function countDays(ctx: Pick<Context, 'clock'>, db: Db, counts: DayCount[]): Promise<void> {
  if (counts.length === 0) return;
  const now = ctx.clock.now();
  const rows = summed(counts, DAY_FIELDS, ({ newsletter }) => ({
    newsletter_id: newsletter.id,
    day: localDay(now, newsletter.time_zone),
  }));
  await sql`${insertRows('daily_counts', ['newsletter_id', 'day', ...DAY_FIELDS], rows)}
    on conflict (newsletter_id, day) do update set ${added('daily_counts', DAY_FIELDS)}`.execute(db);
}

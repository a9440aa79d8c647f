import { sql } from 'kysely';

export type Scope = { id: string; time_zone: string };

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

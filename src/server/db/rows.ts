import { type RawBuilder, sql } from 'kysely';
import type { Schema } from './schema';

/**
 * `insert into table (columns) select …` for any number of rows with one parameter: the text of the statement does not grow with
 * the rows, which is what makes many rows cheap. Values are as JSON has them (dates ISO 8601, bytes as `\x…`). Add `on conflict`
 * and `returning` behind it.
 */
export function insertRows<T extends keyof Schema & string, C extends keyof Schema[T] & string>(
  table: T,
  columns: readonly C[],
  rows: Partial<Record<C, unknown>>[],
  returning?: keyof Schema[T] & string,
): RawBuilder<unknown> {
  const names = sql.join(columns.map((column) => sql.ref(column)));
  return sql`insert into ${sql.table(table)} (${names}) select ${names} from json_populate_recordset(null::${sql.table(table)}, ${JSON.stringify(rows)}::json)${returning ? sql` returning ${sql.ref(returning)}` : sql``}`;
}

/** Bytes as `insertRows` takes them. */
export const hexBytes = (bytes: Buffer): string => `\\x${bytes.toString('hex')}`;

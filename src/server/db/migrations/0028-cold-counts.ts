import { type Kysely, sql } from 'kysely';

/** How many were cold for long when that was last counted: of many readers it is not counted each time somebody looks. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql.raw('alter table warmings add cold jsonb').execute(db);
}

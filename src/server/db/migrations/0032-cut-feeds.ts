import { type Kysely, sql } from 'kysely';

/** Whether a feed broke off in the middle when it was read last. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql.raw('alter table feeds add cut boolean not null default false;').execute(db);
}

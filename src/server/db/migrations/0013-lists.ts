import { type Kysely, sql } from 'kysely';

/** A list's own welcome letter; readers by how warm they are. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table lists add welcome jsonb;  -- its subject and words; null for none
-- How many of each warmth read, counted along the index alone.
create index readers_degree on readers (newsletter_id, standing, warmth);
`)
    .execute(db);
}

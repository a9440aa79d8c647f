import { type Kysely, sql } from 'kysely';

/** Since when a feed cannot be read, and whether its newsletter's owners were told. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table auto_sends
  add failing_since timestamptz,
  add told_at timestamptz;      -- its owners, that it is silent or gone; once each time
create index letters_undrawn on letters (started_at) where figures_at is null and first_copy is not null;
create index letters_tried on letters (decide_at) where test is not null and verdict is null;
create index letters_recent on letters (started_at) where first_copy is not null;
`)
    .execute(db);
}

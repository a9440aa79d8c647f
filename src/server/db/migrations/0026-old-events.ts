import { type Kysely, sql } from 'kysely';

/** Which months of events are put away into files. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table event_months (
  month date primary key,       -- its first day
  put_away bigint not null,     -- how many events are in files
  kept bigint not null,         -- how many of them stand here too
  at timestamptz not null
);
`)
    .execute(db);
}

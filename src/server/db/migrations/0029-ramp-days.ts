import { type Kysely, sql } from 'kysely';

/** When it was last counted what came of the copies that left on each day of a ramp-up. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw('alter table domains add ramp_counted_at timestamptz; create index on domains (ramp_counted_at) where ramp is not null;')
    .execute(db);
}

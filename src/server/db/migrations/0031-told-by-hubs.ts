import { type Kysely, sql } from 'kysely';

/** When somebody began to read a feed, and when its hub told of something new since, so that being told ends no reading and no news is missed for one. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql.raw('alter table feeds add claimed_at timestamptz, add told_new_at timestamptz;').execute(db);
}

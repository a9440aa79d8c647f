import { type Kysely, sql } from 'kysely';

/**
 * A digest of each post as its feed has it, so that one that was read before is known without making nodes of what it says anew; and a print only of those of which
 * nodes were made, for of the back catalogue nobody needs them.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
      alter table feed_items add source text not null default '', alter print drop not null;
      alter table feed_items alter source drop default;`)
    .execute(db);
}

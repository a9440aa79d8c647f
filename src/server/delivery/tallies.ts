import { sql } from 'kysely';
import type { Db } from '../db/connection';

export type Tally = Partial<
  Record<
    | 'recipients'
    | 'delivered'
    | 'bounced'
    | 'refused'
    | 'opened_people'
    | 'opened_machines'
    | 'clicked'
    | 'left_count'
    | 'complained',
    number
  >
>;

/** Adds to a letter's counts, in the caller's transaction. */
export async function bumpLetter(db: Db, letterId: string, tally: Tally): Promise<void> {
  const entries = Object.entries(tally).filter(([, by]) => by !== 0);
  if (entries.length === 0) return;
  await db
    .updateTable('letter_counts')
    .set(Object.fromEntries(entries.map(([field, by]) => [field, sql`${sql.ref(field)} + ${by}`])))
    .where('letter_id', '=', letterId)
    .execute();
}

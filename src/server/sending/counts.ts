import { sql } from 'kysely';
import type { Db } from '../db/connection';
import type { LetterCounts } from '../db/schema';

export type LetterChange = { newsletterId: string; letterId: string; domainId: number } & Partial<LetterCounts>;

const FIELDS = [
  'recipients',
  'delivered',
  'bounced',
  'refused',
  'given_up',
  'cancelled',
  'opened_people',
  'opened_machines',
  'clicked',
  'left_count',
  'complained',
  'hidden',
] as const;

/**
 * Adds to letters' counts, in the caller's transaction, by appending: whoever counts waits for nobody. A domain that is not among the largest of its
 * letter is counted under 0.
 */
export async function countLetters(db: Db, changes: LetterChange[]): Promise<void> {
  const sums = new Map<string, LetterChange>();
  for (const change of changes) {
    const key = `${change.letterId} ${change.domainId}`;
    const sum = sums.get(key) ?? { newsletterId: change.newsletterId, letterId: change.letterId, domainId: change.domainId };
    for (const field of FIELDS) if (change[field]) sum[field] = (sum[field] ?? 0) + change[field];
    sums.set(key, sum);
  }
  const rows = [...sums.values()].filter((sum) => FIELDS.some((field) => sum[field]));
  if (rows.length === 0) return;
  const fields = sql.join(FIELDS.map((field) => sql.ref(field)));
  await sql`
    insert into letter_changes (newsletter_id, letter_id, domain_id, ${fields})
    select c.newsletter_id, c.letter_id, coalesce(s.domain_id, 0), ${sql.join(FIELDS.map((field) => sql`coalesce(${sql.ref(`c.${field}`)}, 0)`))}
    from json_populate_recordset(null::letter_changes, ${JSON.stringify(
      rows.map(({ newsletterId, letterId, domainId, ...counts }) => ({
        newsletter_id: newsletterId,
        letter_id: letterId,
        domain_id: domainId,
        ...counts,
      })),
    )}::json) c
    left join letter_sums s on s.newsletter_id = c.newsletter_id and s.letter_id = c.letter_id and s.domain_id = c.domain_id`.execute(
    db,
  );
}

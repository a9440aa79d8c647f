import { sql } from 'kysely';
import type { Reason } from '@/core/delivery/reason';
import type { Db } from '../db/connection';

export type ReasonChange = {
  newsletterId: string;
  letterId: string;
  domainId: number;
  reason: Reason;
  /** Copies that were put off, and that came to an end. */
  putOff?: number;
  ended?: number;
};

/**
 * Counts why copies did not arrive, by their newsletter's local day, in the caller's transaction, by appending. A domain that is not among the largest of its
 * letter is counted under 0.
 */
export async function countReasons(db: Db, at: Date, changes: ReasonChange[]): Promise<void> {
  const sums = new Map<string, ReasonChange>();
  for (const change of changes) {
    const key = `${change.letterId} ${change.domainId} ${change.reason}`;
    const sum = sums.get(key) ?? { ...change, putOff: 0, ended: 0 };
    sum.putOff = (sum.putOff ?? 0) + (change.putOff ?? 0);
    sum.ended = (sum.ended ?? 0) + (change.ended ?? 0);
    sums.set(key, sum);
  }
  const all = [...sums.values()];
  if (all.length === 0) return;
  await sql`
    insert into reason_changes (newsletter_id, domain_id, reason, day, put_off, ended)
    select c.newsletter_id, coalesce(s.domain_id, 0), c.reason, (${at}::timestamptz at time zone n.time_zone)::date, sum(c.put_off), sum(c.ended)
    from unnest(${all.map((one) => one.newsletterId)}::uuid[], ${all.map((one) => one.letterId)}::uuid[], ${all.map((one) => one.domainId)}::int[], ${all.map((one) => one.reason)}::text[],
                ${all.map((one) => one.putOff ?? 0)}::int[], ${all.map((one) => one.ended ?? 0)}::int[]) as c(newsletter_id, letter_id, domain_id, reason, put_off, ended)
    join newsletters n on n.id = c.newsletter_id
    left join letter_sums s on s.newsletter_id = c.newsletter_id and s.letter_id = c.letter_id and s.domain_id = c.domain_id group by 1, 2, 3, 4`.execute(
    db,
  );
}

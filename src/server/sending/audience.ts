import { type RawBuilder, sql } from 'kysely';
import type { Condition, Known, Missing, Moment } from '@/core/readers/condition';
import { type Audience, conditionsIn, expandAudience, type Part } from '@/core/sending/audience';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { conditionSql, knownOf, momentOf } from '../readers/conditions';

/** An audience that can be asked for: its saved segments put in, and when it is asked. */
export type Ready = { audience: Audience; moment: Moment; known: Known; missing: Missing[] };

/** Makes an audience ready to be asked for, in SQL or of one reader. */
export async function readyAudience(
  ctx: Pick<Context, 'clock'>,
  db: Db,
  newsletter: Pick<Newsletter, 'id' | 'time_zone'>,
  audience: Audience,
): Promise<Ready> {
  const known = await knownOf(db, newsletter.id, conditionsIn(audience));
  return { ...expandAudience(audience, known), known, moment: momentOf(ctx, newsletter) };
}

/**
 * The ids of everyone in an audience as one query: a union minus a union, each once. Who may not be written to or reads nothing is left out by
 * whoever joins it to `readers` (`standing = 'reading'`).
 */
export function audienceSql(newsletterId: string, { audience, moment, known }: Ready): RawBuilder<{ id: string }> {
  const those = (condition: Condition) =>
    sql`select r.id from readers r where r.newsletter_id = ${newsletterId}::uuid and ${conditionSql(condition, moment, known)}`;
  const part = (one: Part): RawBuilder<unknown> => {
    switch (one.kind) {
      case 'list':
        return sql`select reader_id as id from memberships where list_id = ${one.id}::uuid and newsletter_id = ${newsletterId}::uuid and state = 'reading'`;
      case 'tag':
        return sql`select reader_id as id from reader_tags where newsletter_id = ${newsletterId}::uuid and tag = ${one.tag}`;
      case 'readers':
        return sql`select distinct unnest(${one.ids}::uuid[]) as id`;
      case 'segment':
        return those(one);
      case 'those':
        return those(one.condition);
    }
  };
  const union = (parts: Part[]) =>
    sql.join(
      parts.map((one) => sql`(${part(one)})`),
      sql` union `,
    );
  const to = sql`(${union(audience.to)})`;
  return audience.without.length ? sql`${to} except (${union(audience.without)})` : sql`${union(audience.to)}`;
}

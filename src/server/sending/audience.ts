import { type RawBuilder, sql } from 'kysely';
import type { Lane } from '@/core/autosend/lanes';
import type { Condition, Known, Missing, Moment } from '@/core/readers/condition';
import { type Audience, conditionsIn, expandAudience, type Part } from '@/core/sending/audience';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { conditionSql, knownOf, momentOf } from '../readers/conditions';

/** An audience that can be asked for: its saved segments put in, and when it is asked. */
export type Ready = {
  audience: Audience;
  moment: Moment;
  known: Known;
  missing: Missing[];
  /** Whether it is for a reader `r` at their rhythm, where it is of a rule's letter. */
  lane: RawBuilder<boolean>;
  /** Is it for everybody in it, at whatever rhythm? */
  whole: boolean;
};

/** What of a letter says at which rhythm of which rule it comes. */
export type LaneOf = { id: string; auto_send_id: string | null; lane: Lane | null; joining: boolean };

/** At which rhythm a letter comes; null for one that is not there. */
export const laneOf = (db: Db, newsletter: Pick<Newsletter, 'id'>, id: string): Promise<LaneOf | undefined> =>
  db
    .selectFrom('letters')
    .select(['id', 'auto_send_id', 'lane', 'joining'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();

/**
 * Whether a letter of a rule is for a reader `r` at their rhythm (core/autosend/lanes): whoever chose none is in the usual lane, and whoever has just come into one is not
 * of its people until a letter has let them join.
 */
function laneSql({ id, auto_send_id, lane, joining }: LaneOf): RawBuilder<boolean> {
  const theirs = sql`select 1 from reader_rhythms x where x.auto_send_id = ${auto_send_id}::uuid and x.reader_id = r.id`;
  if (joining) return sql<boolean>`exists (${theirs} and x.lane = ${lane} and x.joins = ${id}::uuid)`;
  return lane === 'usual'
    ? sql<boolean>`not exists (${theirs} and (x.lane <> 'usual' or (x.since is not null and x.joins is distinct from ${id}::uuid)))`
    : sql<boolean>`exists (${theirs} and x.lane = ${lane} and (x.since is null or x.joins = ${id}::uuid))`;
}

/** Makes an audience ready to be asked for, in SQL or of one reader; `of` is the letter that it is for, where that is of a rule. */
export async function readyAudience(
  ctx: Pick<Context, 'clock'>,
  db: Db,
  newsletter: Pick<Newsletter, 'id' | 'time_zone'>,
  audience: Audience,
  of?: LaneOf,
): Promise<Ready> {
  const known = await knownOf(db, newsletter.id, conditionsIn(audience));
  const whole = !of?.auto_send_id || !of.lane;
  const lane = whole ? sql<boolean>`true` : laneSql(of);
  return { ...expandAudience(audience, known), known, moment: momentOf(ctx, newsletter), lane, whole };
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

import { type RawBuilder, sql } from 'kysely';
import type { Condition, ReaderFacts } from '@/core/readers/condition';
import type { Audience, Part } from '@/core/sending/audience';
import type { Db } from '../db/connection';
import { conditionSql } from '../readers/conditions';

/** The conditions of the saved segments that an audience names. */
export async function segmentsOf(db: Db, newsletterId: string, audience: Audience): Promise<Map<string, Condition>> {
  const ids = [...audience.to, ...audience.without].flatMap((part) => (part.kind === 'segment' ? [part.id] : []));
  if (ids.length === 0) return new Map();
  const rows = await db
    .selectFrom('segments')
    .select(['id', 'condition'])
    .where('newsletter_id', '=', newsletterId)
    .where('id', 'in', ids)
    .execute();
  return new Map(rows.map((row) => [row.id, row.condition]));
}

/**
 * The ids of everyone in an audience as one query: a union minus a union, each once. Who may not be written to or reads nothing is left out by
 * whoever joins it to `readers` (`standing = 'reading'`).
 */
export function audienceSql(
  newsletterId: string,
  audience: Audience,
  segments: ReadonlyMap<string, Condition>,
  now: Date,
): RawBuilder<{ id: string }> {
  const those = (condition: Condition) =>
    sql`select r.id from readers r where r.newsletter_id = ${newsletterId}::uuid and ${conditionSql(condition, now)}`;
  const part = (one: Part): RawBuilder<unknown> => {
    switch (one.kind) {
      case 'list':
        return sql`select reader_id as id from memberships where list_id = ${one.id}::uuid and newsletter_id = ${newsletterId}::uuid and state = 'reading'`;
      case 'tag':
        return sql`select reader_id as id from reader_tags where newsletter_id = ${newsletterId}::uuid and tag = ${one.tag}`;
      case 'readers':
        return sql`select distinct unnest(${one.ids}::uuid[]) as id`;
      case 'segment':
        return segments.has(one.id) ? those(segments.get(one.id)!) : sql`select null::uuid as id where false`;
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

/** What conditions ask of these readers, as they stand now. */
export async function factsOf(db: Db, readerIds: string[], now: Date): Promise<Map<string, ReaderFacts>> {
  const { rows } = await sql<{
    id: string;
    reading: string[];
    tags: string[];
    source: string;
    came: Date;
    read: Date | null;
    clicked: Date | null;
  }>`
    select r.id, r.source_name as source, r.created_at as came, r.last_read_at as read, r.last_clicked_at as clicked,
      array(select m.list_id from memberships m where m.reader_id = r.id and m.state = 'reading')::uuid[] as reading,
      array(select t.tag from reader_tags t where t.reader_id = r.id) as tags
    from readers r where r.id = any(${readerIds}::uuid[])`.execute(db);
  return new Map(
    rows.map((row) => [
      row.id,
      {
        id: row.id,
        reading: row.reading,
        tags: row.tags,
        source: row.source,
        cameAt: row.came,
        lastReadAt: row.read,
        lastClickedAt: row.clicked,
        now,
      },
    ]),
  );
}

import { type RawBuilder, sql } from 'kysely';
import type { Condition } from '@/core/readers/condition';

const yes = sql<boolean>`true`;
const no = sql<boolean>`false`;

/** A condition as SQL on a row `r` of `readers`: the other half of `core/readers/condition`, held equal to it by a test. `now` is the context's. */
export function conditionSql(condition: Condition, now: Date): RawBuilder<boolean> {
  const since = (days: number) => new Date(now.getTime() - days * 86_400_000);
  switch (condition.kind) {
    case 'all':
      return condition.of.length
        ? sql`(${sql.join(
            condition.of.map((one) => conditionSql(one, now)),
            sql` and `,
          )})`
        : yes;
    case 'any':
      return condition.of.length
        ? sql`(${sql.join(
            condition.of.map((one) => conditionSql(one, now)),
            sql` or `,
          )})`
        : no;
    case 'none':
      return sql`not ${conditionSql({ kind: 'any', of: condition.of }, now)}`;
    case 'tag':
      return sql`exists (select 1 from reader_tags t where t.reader_id = r.id and t.tag = ${condition.tag})`;
    case 'on list':
      return sql`exists (select 1 from memberships m where m.reader_id = r.id and m.list_id = ${condition.id}::uuid and m.state = 'reading')`;
    case 'source':
      return sql`r.source_name = ${condition.name}`;
    case 'came':
      return sql`(${condition.from ? sql`r.created_at >= ${new Date(condition.from)}` : yes} and ${condition.until ? sql`r.created_at < ${new Date(condition.until)}` : yes})`;
    case 'read within':
      return sql`(r.last_read_at is not null and r.last_read_at >= ${since(condition.days)})`;
    case 'clicked within':
      return sql`(r.last_clicked_at is not null and r.last_clicked_at >= ${since(condition.days)})`;
  }
}

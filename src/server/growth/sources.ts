import { sql } from 'kysely';
import { lastDays } from '@/core/growth/days';
import type { Context, Newsletter } from '../context';

/** By what readers are counted. */
export const DIMENSIONS = [
  'form',
  'placement',
  'page',
  'source',
  'kind of source',
  'medium',
  'campaign',
  'first source',
] as const;
export type Dimension = (typeof DIMENSIONS)[number];
export type SourceCount = {
  name: string;
  /** Who asked, confirmed, and reads now. */
  asked: number;
  confirmed: number;
  reading: number;
};
/** All who signed up by a form, and those counted by what is known of them. */
export type Sources = { asked: number; confirmed: number; by: Record<Dimension, SourceCount[]> };

const MOST = 10;

/** Where the readers of the last days came from, counted by everything that is known of it; the largest ten of each. By the newsletter's local day on which they came. */
export async function sourcesOf(ctx: Context, newsletter: Newsletter, days: number): Promise<Sources> {
  const since = lastDays(ctx.clock.now(), newsletter.time_zone, days)[0]!;
  const { rows } = await sql<SourceCount & { dimension: Dimension | 'all' }>`
    with counted as (
      select dimension, name, sum(asked)::int as asked, sum(confirmed)::int as confirmed, sum(reading)::int as reading
      from source_since(${newsletter.id}, ${since}::date) group by 1, 2
    ), ranked as (
      select *, row_number() over (partition by dimension order by confirmed desc, asked desc, name) as place from counted
    )
    select 'all' as dimension, '' as name, coalesce(sum(asked), 0)::int as asked, coalesce(sum(confirmed), 0)::int as confirmed, coalesce(sum(reading), 0)::int as reading
    from counted where dimension = 'form'
    union all (select r.dimension, coalesce(f.name, r.name) as name, r.asked, r.confirmed, r.reading from ranked r
    left join forms f on r.dimension = 'form' and f.newsletter_id = ${newsletter.id} and f.id::text = r.name
    where r.place <= ${MOST} and r.dimension <> 'all' order by r.dimension, r.place)`.execute(ctx.db);
  const all = rows.find((row) => row.dimension === 'all');
  const by = Object.fromEntries(
    DIMENSIONS.map((dimension) => [
      dimension,
      rows
        .filter((row) => row.dimension === dimension)
        .map(({ name, asked, confirmed, reading }) => ({ name, asked, confirmed, reading })),
    ]),
  ) as Record<Dimension, SourceCount[]>;
  return { asked: all?.asked ?? 0, confirmed: all?.confirmed ?? 0, by };
}

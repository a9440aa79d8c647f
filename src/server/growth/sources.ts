import { sql } from 'kysely';
import { asOneSource } from '@/core/growth/attribution';
import { daysWithin } from '@/core/growth/days';
import type { Within } from '@/core/growth/periods';
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
  'referrer',
  'search words',
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
/** Sources under several spellings are one; these are looked for among so many. */
const MOST_SPELT = 500;
const SPELT: ReadonlySet<string> = new Set<Dimension>(['source', 'first source']);

const added = (a: SourceCount, b: SourceCount): SourceCount => ({
  ...a,
  asked: a.asked + b.asked,
  confirmed: a.confirmed + b.confirmed,
  reading: a.reading + b.reading,
});

/** Where the readers of some days came from, counted by everything that is known of it; the largest ten of each. By the newsletter's local day on which they came. */
export async function sourcesOf(ctx: Context, newsletter: Newsletter, within: Within): Promise<Sources> {
  const { from, to } = daysWithin(within, ctx.clock.now(), newsletter.time_zone);
  const { rows } = await sql<SourceCount & { dimension: Dimension | 'all' }>`
    with counted as (
      select dimension, name, sum(asked)::int as asked, sum(confirmed)::int as confirmed, sum(reading)::int as reading
      from source_between(${newsletter.id}, ${from}::date, ${to}::date) group by 1, 2
    ), ranked as (
      select *, row_number() over (partition by dimension order by confirmed desc, asked desc, name) as place from counted
    )
    select 'all' as dimension, '' as name, coalesce(sum(asked), 0)::int as asked, coalesce(sum(confirmed), 0)::int as confirmed, coalesce(sum(reading), 0)::int as reading
    from counted where dimension = 'form'
    union all (select r.dimension, coalesce(f.name, r.name) as name, r.asked, r.confirmed, r.reading from ranked r
    left join forms f on r.dimension = 'form' and f.newsletter_id = ${newsletter.id} and f.id::text = r.name
    where r.place <= case when r.dimension = any(${[...SPELT]}::text[]) then ${MOST_SPELT}::int else ${MOST}::int end and r.dimension <> 'all' order by r.dimension, r.place)`.execute(
    ctx.db,
  );
  const all = rows.find((row) => row.dimension === 'all');
  const by = Object.fromEntries(
    DIMENSIONS.map((dimension) => {
      const own = rows
        .filter((row) => row.dimension === dimension)
        .map(({ name, asked, confirmed, reading }) => ({ name, asked, confirmed, reading }));
      const one = SPELT.has(dimension) ? asOneSource(own, (row) => row.confirmed + row.asked / 1e9, added) : own;
      return [dimension, one.slice(0, MOST)];
    }),
  ) as Record<Dimension, SourceCount[]>;
  return { asked: all?.asked ?? 0, confirmed: all?.confirmed ?? 0, by };
}

/** Of each list: who began to read it in some days and reads it now, and who left it in them. */
export type ListCount = { id: string; name: string; joined: number; left: number; reading: number };

/** How each list grew, by the day on which each of its people took the state that they have. */
export async function listsGrown(ctx: Context, newsletter: Newsletter, within: Within): Promise<ListCount[]> {
  const { from, to } = daysWithin(within, ctx.clock.now(), newsletter.time_zone);
  const { rows } = await sql<ListCount>`
    select l.id, l.name, coalesce(d.reading, 0)::int as joined, coalesce(d.gone, 0)::int as left, coalesce(t.reading, 0)::int as reading
    from lists l
    left join (select list_id, sum(reading) as reading, sum(gone) as gone from list_parts
      where newsletter_id = ${newsletter.id}::uuid and day >= ${from}::date and day <= ${to}::date group by 1) d on d.list_id = l.id
    left join people_totals t on t.newsletter_id = ${newsletter.id}::uuid and t.kind = 'list' and t.key = l.id::text
    where l.newsletter_id = ${newsletter.id}::uuid and l.archived_at is null order by l.position`.execute(ctx.db);
  return rows;
}

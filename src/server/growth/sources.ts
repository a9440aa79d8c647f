import { sql } from 'kysely';
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
export type Sources = { asked: number; confirmed: number; by: Record<Dimension, SourceCount[]> };

const MOST = 10;

/** Where the readers of the last days came from, counted by everything that is known of it; the largest ten of each. */
export async function sourcesOf(ctx: Context, newsletter: Newsletter, lastDays: number): Promise<Sources> {
  const since = new Date(ctx.clock.now().getTime() - lastDays * 86_400_000);
  const { rows } = await sql<SourceCount & { dimension: Dimension | 'all' }>`
    with people as (
      select r.id, f.name as form, r.source_placement as placement, regexp_replace(r.source_page, '^https?://|[?].*$', '', 'g') as page,
             r.source_name as source, r.source_class as class, r.source_medium as medium, r.source_campaign as campaign,
             coalesce(nullif(r.first_touch->>'source', ''), substring(r.first_touch->>'referrer' from '^https?://(?:www\\.)?([^/:]+)'), 'direct') as first,
             bool_or(m.joined_at is not null) as confirmed, bool_or(m.state = 'reading' and r.address_state = 'fine') as reading
      from readers r join memberships m on m.reader_id = r.id left join forms f on f.id = r.source_form_id
      where r.newsletter_id = ${newsletter.id} and r.trial_id is null and r.created_at >= ${since}
      group by r.id, f.name
    ), counted as (
      select d.dimension, d.name, count(*)::int as asked, count(*) filter (where confirmed)::int as confirmed,
             count(*) filter (where reading)::int as reading
      from people cross join lateral (values ('all', 'all'), ('form', form), ('placement', placement), ('page', page), ('source', source),
        ('kind of source', class), ('medium', medium), ('campaign', campaign), ('first source', first)) d (dimension, name)
      where d.name <> '' group by 1, 2
    ), ranked as (
      select *, row_number() over (partition by dimension order by confirmed desc, asked desc, name) as place from counted
    )
    select dimension, name, asked, confirmed, reading from ranked where place <= ${MOST} order by dimension, place`.execute(
    ctx.db,
  );
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

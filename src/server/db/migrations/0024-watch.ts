import { type Kysely, sql } from 'kysely';

/** What its owners are told without having looked: a summary each week, and whatever is out of the usual, once. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table newsletters
  add weekly_summary boolean not null default true,
  add tell_unusual boolean not null default true,
  add summary_due_at timestamptz,
  add watched_at timestamptz;
create index on newsletters (summary_due_at);
create index on newsletters (watched_at);

create table warnings (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  kind text not null check (kind in ('complaints', 'refuses', 'few confirm', 'few join')),
  about text not null,          -- the provider that it is about
  heading text not null,
  words text[] not null,
  path text not null,
  began_at timestamptz not null,
  ended_at timestamptz
);
create index on warnings (newsletter_id, began_at desc);
create unique index warnings_open on warnings (newsletter_id, kind, about) where ended_at is null;

-- Readers are counted by the page that led to them, and by the words they searched for, too.
create or replace function reader_ways(r readers) returns table (day date, dimension text, name text) language sql stable as $$
  select case when d.dimension like '% of %-%' then date '1970-01-01' else r.created_on end, d.dimension, left(d.name, 200) from (values
    ('page of ' || r.source_form_id, regexp_replace(r.source_page, '^https?://[^/]+|[?#].*$', '', 'g')), ('source of ' || r.source_form_id, r.source_name),
    ('campaign of ' || r.source_form_id, r.source_campaign),
    ('all', 'all'), ('form', r.source_form_id::text), ('placement', r.source_placement),
    ('page', regexp_replace(r.source_page, '^https?://|[?#].*$', '', 'g')), ('source', r.source_name), ('kind of source', r.source_class),
    ('medium', r.source_medium), ('campaign', r.source_campaign),
    ('first source', coalesce(nullif(r.first_touch->>'source', ''), substring(r.first_touch->>'referrer' from '^https?://(?:www\\.)?([^/:]+)'), 'direct')),
    ('referrer', regexp_replace(r.source_referrer, '^https?://(www\\.)?|/?([?#].*)?$', '', 'g')), ('search words', lower(r.last_touch->>'term'))
  ) d (dimension, name) where d.name <> '' and d.dimension <> ''
$$;
select recount_sources(id) from newsletters;

-- Counts of sources of any days: of whole months where these lie within, and day by day beside them.
drop function source_since(uuid, date);
create function source_between(of uuid, since date, until date) returns table (dimension text, name text, asked int, confirmed int, reading int) language sql stable as $$
  with edge as (select (date_trunc('month', since - 1) + interval '1 month')::date as first, date_trunc('month', until + 1)::date as after)
  select dimension, name, asked, confirmed, reading from source_months where newsletter_id = of and month >= (select first from edge) and month < (select after from edge)
  union all select dimension, name, asked, confirmed, reading from source_sums where newsletter_id = of and day >= since and day <= until and day < (select first from edge)
  union all select dimension, name, asked, confirmed, reading from source_sums where newsletter_id = of and day >= (select greatest(first, after) from edge) and day <= until
  union all select dimension, name, asked, confirmed, reading from source_changes where newsletter_id = of and day >= since and day <= until
$$;
`)
    .execute(db);
}

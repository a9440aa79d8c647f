import { type Kysely, sql } from 'kysely';

/** Forms widened: drafts and versions, fields and answers, tags, where readers came from, versions shown at random, where forms were seen. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table forms
  add draft jsonb,                 -- what is being written; null when it is what is live
  add draft_list_ids uuid[],
  add draft_saved_at timestamptz,
  add version int not null default 1,
  add archived_at timestamptz;
-- Definitions of the first kind become whole ones; parts that they lack are given their starting values when they are read.
update forms set definition = jsonb_set(definition, '{fields}', coalesce((
  select jsonb_agg((f - 'name') || jsonb_build_object('key', f->>'name')) from jsonb_array_elements(definition->'fields') f), '[]'));
create table form_versions (
  form_id uuid not null references forms on delete cascade,
  version int not null,
  definition jsonb not null,
  list_ids uuid[] not null,
  published_at timestamptz not null,
  primary key (form_id, version)
);
insert into form_versions (form_id, version, definition, list_ids, published_at) select id, 1, definition, list_ids, updated_at from forms;

create table fields (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  key text not null,
  label text not null,
  kind text not null,
  options jsonb not null default '[]',
  created_at timestamptz not null,
  unique (newsletter_id, key)
);
create table reader_answers (
  reader_id uuid not null references readers on delete cascade,
  field_id uuid not null references fields on delete cascade,
  value jsonb not null,
  at timestamptz not null,
  primary key (reader_id, field_id)
);
create table reader_tags (
  reader_id uuid not null references readers on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  tag text not null,
  at timestamptz not null,
  primary key (reader_id, tag)
);
create index on reader_tags (newsletter_id, tag);

alter table readers
  add first_touch jsonb,
  add last_touch jsonb,
  add source_class text not null default 'direct',
  add source_name text not null default 'direct',
  add source_placement text,
  add source_variant text,
  add source_language text;
update readers set source_class = case when source_referrer is null then 'direct' else 'link' end,
  source_name = coalesce(substring(source_referrer from '^https?://(?:www\\.)?([^/:]+)'), 'direct');
create index on readers (newsletter_id, source_name);

alter table form_days drop constraint form_days_pkey;
alter table form_days
  add variant text not null default '',
  add seen int not null default 0,
  add started int not null default 0,
  add primary key (form_id, day, variant);

-- Where a form was really loaded, and when last.
create table form_places (
  form_id uuid not null references forms on delete cascade,
  host text not null,
  path text not null,
  first_at timestamptz not null,
  last_at timestamptz not null,
  loads bigint not null default 1,
  primary key (form_id, host, path)
);

create table form_tests (
  id uuid primary key,
  form_id uuid not null references forms on delete cascade,
  definition jsonb not null,       -- version b; version a is the form itself
  started_at timestamptz not null,
  ended_at timestamptz,
  kept text check (kept in ('a', 'b'))
);
create unique index form_tests_one on form_tests (form_id) where ended_at is null;

alter table confirmations add variant text not null default '', add reminded_at timestamptz;
create index confirmations_waiting on confirmations (sent_at) where used_at is null and reminded_at is null;

alter table media drop constraint media_kind_check;
alter table media add constraint media_kind_check check (kind in ('logo', 'gift'));
alter table media add name text not null default '';
`)
    .execute(db);
}

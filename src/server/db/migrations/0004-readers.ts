import { type Kysely, sql } from 'kysely';

/** Forms, readers, where they stand on each list, the record of every consent, answers and tags, and tries of forms. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create extension if not exists pg_trgm;

create table forms (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  public_id text not null unique,
  name text not null,
  definition jsonb not null,
  list_ids uuid[] not null,
  hosted boolean not null default false,  -- the one that stands on the newsletter's own sign-up page
  draft jsonb,                            -- what is being written; null when it is what is live
  draft_list_ids uuid[],
  draft_saved_at timestamptz,
  version int not null default 1,
  archived_at timestamptz,
  created_at timestamptz not null,
  updated_at timestamptz not null
);
create index on forms (newsletter_id);
create table form_versions (
  form_id uuid not null references forms on delete cascade,
  version int not null,
  definition jsonb not null,
  list_ids uuid[] not null,
  published_at timestamptz not null,
  primary key (form_id, version)
);
create table form_tests (
  id uuid primary key,
  form_id uuid not null references forms on delete cascade,
  definition jsonb not null,              -- version b; version a is the form itself
  started_at timestamptz not null,
  ended_at timestamptz,
  kept text check (kept in ('a', 'b'))
);
create unique index form_tests_one on form_tests (form_id) where ended_at is null;
create index on form_tests (form_id);
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
create table form_days (
  form_id uuid not null references forms on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  day date not null,
  variant text not null default '',
  loaded int not null default 0,
  seen int not null default 0,
  started int not null default 0,
  sent_in int not null default 0,
  confirmed int not null default 0,
  primary key (form_id, day, variant)
);
create index on form_days (newsletter_id, day);
-- Sign-ups that looked like a machine's and showed no work: kept for the writer to look at, until their sender shows it or a month has passed.
create table held_back (
  form_id uuid not null references forms on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  address_key text not null,
  address text not null,
  reason text not null check (reason in ('quick', 'trap', 'busy', 'often')),
  sent jsonb not null,
  network text not null,
  agent text not null,
  at timestamptz not null,
  primary key (form_id, address_key)
);
create index on held_back (newsletter_id);
create index on held_back (at);
create table trials (
  id uuid primary key,
  form_id uuid not null references forms on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  address text not null,
  token_hash bytea not null unique,
  started_at timestamptz not null,
  sent_in_at timestamptz,
  ended_at timestamptz
);
create index trials_open on trials (started_at) where ended_at is null;
create index on trials (newsletter_id);

create table readers (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  address text not null,
  address_key text not null,
  domain_id int not null references mail_domains,
  first_name text,
  -- May they be written to? 'unreachable': their domain does not exist at the moment.
  address_state text not null default 'fine' check (address_state in ('fine', 'bouncing', 'unreachable', 'suppressed')),
  soft_evidence real not null default 0,  -- what speaks against the mailbox without proving it (core/delivery/evidence)
  soft_at timestamptz,
  lists_reading smallint not null default 0,
  lists_waiting smallint not null default 0,
  lists_left smallint not null default 0,
  standing text not null generated always as (case
    when lists_reading > 0 then case when address_state = 'fine' then 'reading' else 'unreachable' end
    when lists_waiting > 0 then 'waiting' when lists_left > 0 then 'left' else 'none' end) stored,
  confirmed boolean not null default false,  -- did they ever read any list?
  last_sent_at timestamptz,
  last_read_at timestamptz,
  last_clicked_at timestamptz,
  source_form_id uuid references forms on delete set null,
  source_page text,
  source_referrer text,
  source_class text not null default 'direct',
  source_name text not null default 'direct',
  source_placement text,
  source_variant text,
  source_language text,
  first_touch jsonb,
  last_touch jsonb,
  source_medium text generated always as (nullif(last_touch->>'medium', '')) stored,
  source_campaign text generated always as (nullif(last_touch->>'campaign', '')) stored,
  created_on date not null,               -- the newsletter's local day
  created_at timestamptz not null,
  unique (newsletter_id, address_key)
) with (fillfactor = 85);
create index readers_newest on readers (newsletter_id, created_at desc, id desc);
create index readers_standing on readers (newsletter_id, standing, created_at desc, id desc);
create index readers_prefix on readers (newsletter_id, address_key text_pattern_ops);
create index readers_like on readers using gin (address_key gin_trgm_ops, lower(first_name) gin_trgm_ops);
create index readers_domain on readers (domain_id);
create index readers_bouncing on readers (soft_at) where address_state = 'bouncing';

create function reader_gets_domain() returns trigger language plpgsql as $$
begin
  new.domain_id := coalesce(new.domain_id, mail_domain(new.address));
  new.created_on := coalesce(new.created_on, (select (new.created_at at time zone n.time_zone)::date from newsletters n where n.id = new.newsletter_id));
  return new;
end $$;
create trigger reader_gets_domain before insert on readers for each row
  when (new.domain_id is null or new.created_on is null) execute function reader_gets_domain();

create table memberships (
  reader_id uuid not null references readers on delete cascade,
  list_id uuid not null references lists on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  state text not null check (state in ('waiting', 'reading', 'left')),
  since timestamptz not null,
  joined_at timestamptz,
  primary key (reader_id, list_id)
);
create index on memberships (list_id, state, reader_id);
create index on memberships (newsletter_id);

create table consents (
  id bigint generated always as identity primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  reader_id uuid not null references readers on delete cascade,
  list_id uuid not null references lists on delete cascade,
  act text not null check (act in ('ask', 'confirm', 'leave', 'return', 'bounce', 'complaint')),
  state text not null,
  at timestamptz not null,
  form_id uuid references forms on delete set null,
  page text,
  referrer text,
  wording text,
  network text,
  agent text
);
create index on consents (reader_id, at);

create table confirmations (
  token_hash bytea primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  reader_id uuid not null references readers on delete cascade,
  list_ids uuid[] not null,
  form_id uuid references forms on delete set null,
  variant text not null default '',
  sent_at timestamptz not null,
  expires_at timestamptz not null,
  reminded_at timestamptz,
  used_at timestamptz
);
create index on confirmations (reader_id, sent_at desc);
create index confirmations_waiting on confirmations (sent_at) where used_at is null and reminded_at is null;

create table suppressions (
  newsletter_id uuid not null references newsletters on delete cascade,
  address_key text not null,
  reason text not null check (reason in ('hard bounce', 'complaint', 'erased')),
  at timestamptz not null,
  detail text,
  primary key (newsletter_id, address_key)
);

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
create index on reader_tags (newsletter_id, tag, reader_id);

-- The writer's own tries of a form: the same tables under other roofs, so that no query of the house can meet those people by mistake.
-- Whoever works for a try puts this schema first in the search path of their transaction (server/db/rehearsal.ts).
create schema rehearsal;
create table rehearsal.readers (like public.readers including defaults including generated including constraints including indexes);
create table rehearsal.memberships (like public.memberships including all);
create table rehearsal.consents (like public.consents including all);
create table rehearsal.confirmations (like public.confirmations including all);
create table rehearsal.suppressions (like public.suppressions including all);
create table rehearsal.reader_answers (like public.reader_answers including all);
create table rehearsal.reader_tags (like public.reader_tags including all);
create table rehearsal.form_days (like public.form_days including all);
create trigger reader_gets_domain before insert on rehearsal.readers for each row
  when (new.domain_id is null or new.created_on is null) execute function reader_gets_domain();
`)
    .execute(db);
}

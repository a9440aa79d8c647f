import { type Kysely, sql } from 'kysely';

/** Lists, forms, readers, where they stand on each list, and the record of every consent. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table lists (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  public_name text not null,
  double_opt_in boolean not null default true,
  position int not null default 0,
  created_at timestamptz not null,
  unique (newsletter_id, name)
);

create table forms (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  public_id text not null unique,
  name text not null,
  definition jsonb not null,
  list_ids uuid[] not null,
  hosted boolean not null default false,  -- the one that stands on the newsletter's own sign-up page
  created_at timestamptz not null,
  updated_at timestamptz not null
);
create index on forms (newsletter_id);

create table readers (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  address text not null,
  address_key text not null,
  provider text not null,
  first_name text,
  address_state text not null default 'fine' check (address_state in ('fine', 'bouncing', 'suppressed')),
  source_form_id uuid references forms on delete set null,
  source_page text,
  source_referrer text,
  created_at timestamptz not null,
  unique (newsletter_id, address_key)
);
create index on readers (newsletter_id, created_at desc, id desc);

create table memberships (
  reader_id uuid not null references readers on delete cascade,
  list_id uuid not null references lists on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  state text not null check (state in ('waiting', 'reading', 'left')),
  since timestamptz not null,
  joined_at timestamptz,
  primary key (reader_id, list_id)
);
create index on memberships (list_id, state);
create index on memberships (newsletter_id, state);

create table consents (
  id bigint generated always as identity primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  reader_id uuid not null references readers on delete cascade,
  list_id uuid not null references lists on delete cascade,
  act text not null check (act in ('ask', 'confirm', 'leave', 'bounce', 'complaint')),
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
create index on consents (newsletter_id, at);

create table confirmations (
  token_hash bytea primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  reader_id uuid not null references readers on delete cascade,
  list_ids uuid[] not null,
  form_id uuid references forms on delete set null,
  sent_at timestamptz not null,
  expires_at timestamptz not null,
  used_at timestamptz
);
create index on confirmations (reader_id, sent_at desc);

create table suppressions (
  newsletter_id uuid not null references newsletters on delete cascade,
  address_key text not null,
  reason text not null check (reason in ('hard bounce', 'complaint', 'erased')),
  at timestamptz not null,
  detail text,
  primary key (newsletter_id, address_key)
);

-- Counted as things happen, so that the screens never count rows of big tables. Days are the newsletter's local days.
create table daily_counts (
  newsletter_id uuid not null references newsletters on delete cascade,
  day date not null,
  asked int not null default 0,
  joined int not null default 0,
  left_count int not null default 0,
  primary key (newsletter_id, day)
);
create table form_days (
  form_id uuid not null references forms on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  day date not null,
  loaded int not null default 0,
  sent_in int not null default 0,
  confirmed int not null default 0,
  primary key (form_id, day)
);
create index on form_days (newsletter_id, day);
`)
    .execute(db);
}

import { type Kysely, sql } from 'kysely';

/** Files that come in and go out, and imports of readers. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
-- Files of a newsletter that are worked on or waited for, in parts: every process can read them, and they go with the newsletter.
create table kept_files (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  size bigint not null default 0,
  made_at timestamptz not null,
  whole boolean not null default false    -- all of it is here
);
create index on kept_files (newsletter_id);
create index kept_files_old on kept_files (made_at);
create table kept_parts (
  file_id uuid not null references kept_files on delete cascade,
  n int not null,
  bytes bytea not null,
  primary key (file_id, n)
);
alter table kept_parts alter bytes set storage external;

create table imports (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,                     -- of the file, as the writer knows it
  file_id uuid references kept_files on delete set null,
  state text not null default 'asking' check (state in ('asking', 'looking', 'looked', 'bringing', 'done', 'stopped', 'failed', 'undoing', 'undone')),
  cause text,                             -- why it failed, in words
  dialect jsonb not null,                 -- how the file is read (core/importing/dialect)
  columns jsonb not null,                 -- its columns, and what each is (core/importing/columns)
  plan jsonb,                             -- what the writer said: how it is read, onto which list, how they agreed
  found jsonb,                            -- how many rows of which kind, and whether it looks bought
  read_bytes bigint not null default 0,
  upto int not null default 0,            -- rows up to this one are brought, or taken back
  result jsonb not null default '{}',     -- how many rows came to which end
  by_name text not null,
  began_at timestamptz not null,
  brought_at timestamptz,
  ended_at timestamptz
);
create index on imports (newsletter_id, began_at desc);
create index imports_open on imports (began_at) where state in ('looking', 'bringing', 'undoing');
create index on imports (file_id);
create table import_rows (
  import_id uuid not null references imports on delete cascade,
  row int not null,
  kind text not null,
  why text,                               -- of a row that cannot be brought
  cells jsonb,                            -- the same row as it came, to be mended
  reader_id uuid,                         -- whom it makes, or who is here already
  address text,
  address_key text,
  domain text,
  first_name text,
  name_key text,
  state text,
  agreed_at timestamptz,
  tags text[],
  answers jsonb,
  note text,
  language text,
  zone text,
  at timestamptz,                         -- when something changed for somebody who was here
  named boolean not null default false,   -- they had no name before
  primary key (import_id, row)
);
create index import_rows_kind on import_rows (import_id, kind, row) where kind <> 'new';

alter table readers add source_import_id uuid;
alter table rehearsal.readers add source_import_id uuid;
create index readers_imported on readers (source_import_id, id) where source_import_id is not null;

-- Readers by how they came, in the order of the table.
create index readers_source on readers (newsletter_id, source_name, standing, created_at desc, id desc);
create index readers_form on readers (newsletter_id, source_form_id, standing, created_at desc, id desc) where source_form_id is not null;

-- They go with their reader; that a newsletter is there need not be asked once more for each of a million.
alter table memberships drop constraint memberships_newsletter_id_fkey;
alter table reader_tags drop constraint reader_tags_newsletter_id_fkey;

-- Whom an act is for stands in portions: a row for each of half a million people would cost more than what is done to them.
drop table bulk_people;
create table bulk_people (
  act_id uuid not null references bulk_acts on delete cascade,
  n int not null,
  reader_ids uuid[] not null,
  changed_ids uuid[],                     -- for whom something changed; null until it was their turn, and once it was taken back
  changed_at timestamptz,
  primary key (act_id, n)
);
alter table bulk_acts add portions int not null default 0;  -- so many of them are done

alter table suppressions add import_id uuid, drop constraint suppressions_reason_check,
  add constraint suppressions_reason_check check (reason in ('hard bounce', 'complaint', 'erased', 'by hand', 'left'));
alter table rehearsal.suppressions add import_id uuid, drop constraint suppressions_reason_check,
  add constraint suppressions_reason_check check (reason in ('hard bounce', 'complaint', 'erased', 'by hand', 'left'));
create index suppressions_imported on suppressions (import_id) where import_id is not null;

-- Whoever brings very many readers counts them itself, many at a time.
${['insert', 'delete']
  .map(
    (act) => `drop trigger memberships_${act} on memberships;
create trigger memberships_${act} after ${act} on memberships referencing ${act === 'insert' ? 'new table as new_rows' : 'old table as old_rows'} for each statement
  when (coalesce(current_setting('inkset.bringing', true), '') <> 'on') execute function memberships_${act}();`,
  )
  .join('\n')}
drop trigger readers_arrived on readers;
create trigger readers_arrived after insert on readers referencing new table as new_rows for each statement
  when (coalesce(current_setting('inkset.bringing', true), '') <> 'on') execute function readers_arrived();
`)
    .execute(db);
}

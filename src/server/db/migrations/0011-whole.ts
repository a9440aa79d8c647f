import { type Kysely, sql } from 'kysely';

/** Whole newsletters that are taken out and brought back. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table exports drop constraint exports_kind_check, add constraint exports_kind_check check (kind in ('csv', 'json lines', 'newsletter'));

-- Being brought back: nobody can open it, and nothing is done for it yet.
alter table newsletters add coming boolean not null default false;
create table restores (
  id uuid primary key,
  user_id text not null references "user" ("id") on delete cascade,
  newsletter_id uuid references newsletters on delete set null,
  file_id uuid references kept_files on delete set null,
  whole jsonb not null,                   -- what the file says of itself (core/archive/newsletter)
  state text not null default 'asking' check (state in ('asking', 'bringing', 'done', 'failed')),
  cause text,                             -- why it failed, in words
  sheet int not null default 0,           -- so many sheets are brought, and so many lines of the next
  line int not null default 0,
  done int not null default 0,            -- lines of all
  by_email text not null,
  began_at timestamptz not null,
  ended_at timestamptz
);
create index on restores (user_id);
create index on restores (newsletter_id);
create index on restores (file_id);
create index restores_open on restores (began_at) where state = 'bringing';
`)
    .execute(db);
}

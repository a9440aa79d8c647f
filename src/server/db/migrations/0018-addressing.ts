import { type Kysely, sql } from 'kysely';

/** When and at what pace a letter leaves, how long it can be called back, and audiences that are kept under a name. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table letters add departure jsonb;    -- as its writer said it (core/sending/departure); null: at due_at, all at once
alter table newsletters
  add call_back_seconds integer not null default 30 check (call_back_seconds between 0 and 600),
  add calendar_open boolean not null default false,
  add calendar_turn integer not null default 0;     -- how often its address was made anew: each ends the one before

create table audiences (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  audience jsonb not null,
  created_at timestamptz not null
);
create unique index audiences_name on audiences (newsletter_id, lower(name));
create index readers_paused on readers (newsletter_id, paused_until) where paused_until is not null;
create index readers_zone on readers (newsletter_id, zone) where zone is not null;
`)
    .execute(db);
}

import { type Kysely, sql } from 'kysely';

/** What a newsletter's growth is held against: a goal, and what its writer notes of days. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table newsletters add reader_goal int check (reader_goal between 1 and 100000000);
create table growth_notes (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  day date not null,
  words text not null,
  created_at timestamptz not null
);
create index on growth_notes (newsletter_id, day);
-- Why people read nothing any more: few beside all that is recorded.
create index consents_endings on consents (newsletter_id, at) where act in ('leave', 'complaint', 'bounce', 'suppress', 'take off', 'erase');
`)
    .execute(db);
}

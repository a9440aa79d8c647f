import { type Kysely, sql } from 'kysely';

/** Posts that are written here: who is writing at the moment, and how they stood before. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table posts
  add writer_key text,                    -- the window in which it is being written, so long as that says so
  add writer_name text,
  add writer_until timestamptz;
-- What is taken from the title and the subtitle until the writer says otherwise.
alter table letters add own_subject boolean not null default true, add own_preview boolean not null default true;
create table post_versions (
  post_id uuid not null references posts on delete cascade,
  revision int not null,
  title text not null,
  subtitle text not null,
  document jsonb not null,
  by_name text not null,
  at timestamptz not null,
  primary key (post_id, revision)
);
`)
    .execute(db);
}

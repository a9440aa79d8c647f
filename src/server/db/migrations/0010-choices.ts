import { type Kysely, sql } from 'kysely';

/** What readers choose for themselves: a pause, letters as text, another address. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table readers
  add paused_until timestamptz,           -- letters that begin before then do not go to them
  add text_alone boolean not null default false;
alter table rehearsal.readers add paused_until timestamptz, add text_alone boolean not null default false;
alter table consents drop constraint consents_act_check,
  add constraint consents_act_check check (act in ('ask', 'confirm', 'leave', 'return', 'bounce', 'complaint', 'add', 'take off', 'suppress', 'allow', 'erase', 'pause', 'go on', 'move'));
alter table rehearsal.consents drop constraint consents_act_check;

-- Whoever gives very many readers a tag counts them itself, as whoever brings them does.
drop trigger tags_insert on reader_tags;
create trigger tags_insert after insert on reader_tags referencing new table as new_rows for each statement
  when (coalesce(current_setting('inkset.bringing', true), '') <> 'on') execute function tags_insert();

-- A new address that its owner has not confirmed yet.
create table address_changes (
  token_hash bytea primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  reader_id uuid not null references readers on delete cascade,
  address text not null,
  address_key text not null,
  sent_at timestamptz not null,
  expires_at timestamptz not null
);
create index on address_changes (reader_id);
create index on address_changes (expires_at);
`)
    .execute(db);
}

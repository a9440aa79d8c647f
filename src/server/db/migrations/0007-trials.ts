import { type Kysely, sql } from 'kysely';

/** A writer's try of their own form, mails that know their reader, sources by medium and campaign, pictures of forms, cheaper limits and mails. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
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

-- A reader of a trial is the writer in a visitor's place: in no list, no count and no letter, and gone when the trial ends.
alter table readers
  add trial_id uuid references trials on delete cascade,
  add source_medium text generated always as (nullif(last_touch->>'medium', '')) stored,
  add source_campaign text generated always as (nullif(last_touch->>'campaign', '')) stored;
create index readers_trial on readers (trial_id) where trial_id is not null;

alter table outbox
  add reader_id uuid references readers on delete cascade,
  add left_at timestamptz;
create index outbox_reader on outbox (reader_id) where reader_id is not null;

-- A mail keeps what it says; its HTML and text, several times as long, are made when it leaves.
delete from outbox;
alter table outbox drop html, drop text, add notice jsonb not null;

-- Uses are worth less than the time of a commit that reaches the disk: after a crash of the database they begin anew.
alter table rate_limits set unlogged;

alter table media drop constraint media_kind_check;
alter table media add constraint media_kind_check check (kind in ('logo', 'gift', 'picture'));
`)
    .execute(db);
}

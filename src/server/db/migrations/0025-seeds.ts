import { type Kysely, sql } from 'kysely';

/** A writer's own mailboxes at several providers, and where letters landed in them. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table seed_boxes (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  address text not null,
  created_at timestamptz not null,
  unique (newsletter_id, address)
);
create table seed_tests (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  letter_id uuid references letters on delete set null,
  subject text not null,
  by_name text not null,
  at timestamptz not null
);
create index on seed_tests (newsletter_id, at desc);
create index on seed_tests (letter_id);
create table seed_copies (
  test_id uuid not null references seed_tests on delete cascade,
  address text not null,
  mail_id bigint not null,      -- of mails, for as long as it is kept there
  place text check (place in ('inbox', 'aside', 'junk', 'nowhere')), -- where its owner found it
  said_at timestamptz,
  primary key (test_id, address)
);
`)
    .execute(db);
}

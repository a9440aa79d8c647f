import { type Kysely, sql } from 'kysely';

/** Asking readers who have been cold for long whether they want to go on, and letting go of who says nothing. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table cleanups (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  days int not null,                      -- cold for so long
  letter_id uuid references letters on delete set null,
  by_name text not null,
  began_at timestamptz not null,
  told_at timestamptz,                    -- when owners were told that the time to answer is over
  ended_at timestamptz
);
create unique index cleanups_one on cleanups (newsletter_id) where ended_at is null;
create index on cleanups (letter_id);
alter table bulk_acts drop constraint bulk_acts_act_check,
  add constraint bulk_acts_act_check check (act in ('tag', 'untag', 'add', 'take off', 'let go', 'suppress', 'erase'));
alter table consents drop constraint consents_act_check,
  add constraint consents_act_check check (act in ('ask', 'confirm', 'leave', 'return', 'bounce', 'complaint', 'add', 'take off', 'suppress', 'allow', 'erase', 'pause', 'go on', 'move', 'stay'));
`)
    .execute(db);
}

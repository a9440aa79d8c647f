import { type Kysely, sql } from 'kysely';
import { fold, LETTER, letterView, MARKED, recountLetters, views } from './0006-totals';

const KEYS = ['newsletter_id uuid', 'letter_id uuid', 'domain_id int'];
const FIELDS = [...LETTER, 'hidden'];

/**
 * What became of a letter, to be understood: one subject each, with other versions that are tried on a part of its readers; letters sent again to those
 * who did not read; where its copies stand and how fast it leaves; and whose reading is hidden by a machine that opened it for them.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table letters add subject text not null default '';
update letters set subject = coalesce(subjects->>0, '');
alter table letters alter subject drop default;
alter table letters drop subjects,
  add again_of uuid references letters on delete set null,   -- is that letter, once more, to those who did not read it
  add test jsonb,                -- how its versions are tried (core/sending/letter-test); null: it has but one
  add decide_at timestamptz,     -- when the test is decided, once it began
  add verdict jsonb,             -- what came of the test
  add winner smallint,           -- the version that the rest gets; null: not decided
  add first_copy bigint,         -- its deliveries have numbers between these, both within
  add last_copy bigint,
  add last_due_at timestamptz,   -- when the last of its copies is due
  add told_causes text[] not null default '{}',   -- the causes of being held of which its owners were told
  add figures jsonb,             -- its first two days by the hour, and by version, as they were at figures_at
  add figures_at timestamptz,
  add figures_ms int not null default 0;   -- how long it took to make them
create unique index letters_again on letters (again_of);

-- Beside the letter itself, which is version 0.
create table letter_versions (
  letter_id uuid not null references letters on delete cascade,
  n smallint not null check (n between 1 and 3),
  subject text not null default '',
  sender_id uuid references senders on delete set null,
  beginning text not null default '',
  from_name text,                -- as they were when it began, like the letter's own
  from_address text,
  reply_to text,
  html text,
  text text,
  primary key (letter_id, n)
);

-- How many of its copies were done with at which moment, while a letter is on its way.
create table letter_progress (
  letter_id uuid not null references letters on delete cascade,
  at timestamptz not null,
  done int not null,
  primary key (letter_id, at)
);

-- 'kept': waits until the test of its letter is decided.
alter table deliveries drop constraint deliveries_state_check;
alter table deliveries add constraint deliveries_state_check
  check (state in ('kept', 'queued', 'claimed', 'delivered', 'bounced', 'refused', 'given up', 'cancelled'));
create index deliveries_kept on deliveries (letter_id, id) where state = 'kept';
-- Told to come again later: few beside those that were not tried yet.
create index deliveries_deferred on deliveries (letter_id, domain_id) where state = 'queued' and tried_at is not null;
update letters l set first_copy = d.first, last_copy = d.last from (
  select sent_on, letter_id, min(id) as first, max(id) as last from deliveries group by 1, 2) d where d.letter_id = l.id and d.sent_on = l.sent_on;

-- Opened by a machine and by no person: whether they read it cannot be seen.
drop view letter_counts;
drop view letter_domain_counts;
drop view letter_parts;
drop function fold_letter();
drop function recount_letters(uuid, date);
alter table letter_changes add hidden int not null default 0;
alter table letter_sums add hidden int not null default 0;
${views('letter', 'letter_domain_counts', KEYS, FIELDS)}
${letterView(FIELDS)}
${fold('letter', KEYS, FIELDS)}
${recountLetters({ ...MARKED, hidden: 'count(*) filter (where opened_by_machine_at is not null and opened_at is null)' })}
insert into letter_changes (newsletter_id, letter_id, domain_id, hidden)
select d.newsletter_id, d.letter_id, coalesce(s.domain_id, 0), count(*) from deliveries d
left join letter_sums s on s.newsletter_id = d.newsletter_id and s.letter_id = d.letter_id and s.domain_id = d.domain_id
where d.opened_by_machine_at is not null and d.opened_at is null group by 1, 2, 3;
`)
    .execute(db);
}

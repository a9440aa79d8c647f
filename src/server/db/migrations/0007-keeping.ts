import { type Kysely, sql } from 'kysely';

/** What conditions and segments ask of readers, the record of consent as a ledger that outlives them, and acts on many readers at once. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table newsletters add hash_key bytea;          -- sealed: what addresses of erased readers are hashed with
-- When the warmth of a newsletter's readers was last worked out. Not on its row: whatever is written there makes its forms be read anew.
create table warmings (newsletter_id uuid primary key references newsletters on delete cascade, at timestamptz not null);
alter table lists add description text not null default '', add public boolean not null default true, add archived_at timestamptz;

alter table readers
  add name_key text,                      -- the name as it is looked for (core/readers/condition, folded)
  -- The letters they got: how many, and of the last sixty one bit each, the newest lowest: read, followed a link of, opened by a machine alone.
  add letters_got int not null default 0,
  add recent_read bigint not null default 0,
  add recent_clicked bigint not null default 0,
  add recent_hidden bigint not null default 0,
  add warmth smallint not null default -1 check (warmth between -1 and 100),  -- -1: too little is known
  add warmth_at timestamptz,              -- when it was last worked out
  add zone text,                          -- their time zone, as their browser said
  add note text not null default '';      -- the writer's own
update readers set name_key = lower(normalize(first_name, nfc)) where first_name is not null;
drop index readers_like;
create index readers_like on readers using gin (address_key gin_trgm_ops, name_key gin_trgm_ops);
create index readers_warmth on readers (newsletter_id, warmth desc, id desc);
-- What readers' copies say of their last letters; returns of how many readers that was not what was kept.
create function recount_recent(of uuid) returns int language plpgsql as $$
declare differing int;
begin
  with got as (
    select reader_id, opened_at, opened_by_machine_at, clicked_at, row_number() over (partition by reader_id order by delivered_at desc, sent_on desc, id desc) - 1 as place
    from deliveries where newsletter_id = of and state = 'delivered'
  ), sums as (
    select reader_id, count(*)::int as n, coalesce(bit_or(1::bigint << place::int) filter (where place < 60 and opened_at is not null), 0) as read,
      coalesce(bit_or(1::bigint << place::int) filter (where place < 60 and clicked_at is not null), 0) as clicked,
      coalesce(bit_or(1::bigint << place::int) filter (where place < 60 and opened_by_machine_at is not null), 0) as hidden from got group by 1
  ), mended as (
    update readers r set letters_got = s.n, recent_read = s.read, recent_clicked = s.clicked, recent_hidden = s.hidden from sums s
    where r.id = s.reader_id and (r.letters_got, r.recent_read & ((1::bigint << 60) - 1), r.recent_clicked & ((1::bigint << 60) - 1), r.recent_hidden & ((1::bigint << 60) - 1))
      is distinct from (s.n, s.read, s.clicked, s.hidden) returning 1
  ) select count(*) into differing from mended;
  return differing;
end $$;
select recount_recent(id) from newsletters;

-- Every act of consent, appended and never changed: it outlives the reader, the list and the form that it tells of. Of somebody who was erased it
-- keeps what was done and when, under an id that leads to nobody (server/keeping/erase).
alter table consents
  drop constraint consents_reader_id_fkey, drop constraint consents_list_id_fkey, drop constraint consents_form_id_fkey, drop constraint consents_act_check,
  alter list_id drop not null,            -- null where it is about all of them
  add list_name text,
  add actor text check (actor in ('reader', 'member', 'import', 'api', 'mail')),
  add actor_name text,                    -- of a member
  add constraint consents_act_check check (act in ('ask', 'confirm', 'leave', 'return', 'bounce', 'complaint', 'add', 'take off', 'suppress', 'allow', 'erase'));
update consents c set actor = case when act in ('bounce', 'complaint') then 'mail' else 'reader' end, list_name = (select name from lists l where l.id = c.list_id);
alter table consents alter actor set not null;
create index consents_newsletter on consents (newsletter_id);
create function consents_stay() returns trigger language plpgsql as $$
begin
  if current_setting('inkset.erasing', true) = 'on' then return coalesce(new, old); end if;
  raise exception 'the record of consent is only added to';
end $$;
create trigger consents_stay before update or delete on consents for each row execute function consents_stay();
alter table rehearsal.consents alter list_id drop not null, add list_name text, add actor text not null default 'reader', add actor_name text;
alter table rehearsal.readers add name_key text, add letters_got int not null default 0, add recent_read bigint not null default 0, add recent_clicked bigint not null default 0,
  add recent_hidden bigint not null default 0, add warmth smallint not null default -1, add warmth_at timestamptz, add zone text, add note text not null default '';

-- Who may not be written to, whoever asks. Once a reader is erased only a keyed hash of their address is left (server/readers/suppressed).
alter table suppressions add hashed boolean not null default false, drop constraint suppressions_reason_check,
  add constraint suppressions_reason_check check (reason in ('hard bounce', 'complaint', 'erased', 'by hand'));
create index suppressions_hashed on suppressions (newsletter_id) where hashed;
alter table rehearsal.suppressions add hashed boolean not null default false;

alter table reader_answers add folded text;          -- of a text: as it is compared and looked for
update reader_answers set folded = lower(normalize(value #>> '{}', nfc)) where jsonb_typeof(value) = 'string';
create index reader_answers_said on reader_answers (field_id, left(folded, 60));
create index reader_answers_like on reader_answers using gin (folded gin_trgm_ops);
alter table rehearsal.reader_answers add folded text;
create table tags (
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  created_at timestamptz not null default now(),
  primary key (newsletter_id, name)
);
insert into tags (newsletter_id, name) select distinct newsletter_id, tag from reader_tags;
create or replace function tags_insert() returns trigger language plpgsql as $$
begin
  insert into tags (newsletter_id, name) select distinct newsletter_id, tag from new_rows order by 1, 2 on conflict do nothing;
  perform people_change(r.newsletter_id, 'tag', t.tag, r.standing, count(*)::int) from new_rows t join readers r on r.id = t.reader_id group by r.newsletter_id, t.tag, r.standing;
  return null;
end $$;

-- Whoever is erased is counted nowhere any more. Their memberships and tags are deleted before them.
create function readers_gone() returns trigger language plpgsql as $$
begin
  insert into source_changes (newsletter_id, day, dimension, name, asked, confirmed, reading)
  select n.newsletter_id, w.day, w.dimension, w.name, -count(*), -count(*) filter (where n.confirmed), -count(*) filter (where n.standing = 'reading')
  from old_rows n cross join lateral reader_ways(n) w group by 1, 2, 3, 4;
  return null;
end $$;
create trigger readers_gone after delete on readers referencing old table as old_rows for each statement execute function readers_gone();

alter table segments add updated_at timestamptz;
update segments set updated_at = created_at;
alter table segments alter updated_at set not null;
-- How many a segment held, by the newsletter's local day: counted each night, and when it is looked at.
create table segment_sizes (
  segment_id uuid not null references segments on delete cascade,
  day date not null,
  people int not null,
  primary key (segment_id, day)
);
-- Who read a letter, and who followed which of its links: a fraction of its copies, found without the others.
create index deliveries_read on deliveries (letter_id, reader_id) where opened_at is not null;
create index events_clicked on events (letter_id, link_position, reader_id) where kind = 'click' and not machine;

-- Something done to many readers: whom it is for is fixed when it begins, and it goes on from where it stood, whoever works on it.
create table bulk_acts (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  act text not null check (act in ('tag', 'untag', 'add', 'take off', 'suppress', 'erase')),
  what jsonb not null default '{}',       -- the tag, the list, how they agreed
  whom jsonb not null,                    -- a condition and words, or ids
  by_name text not null,
  state text not null default 'waiting' check (state in ('waiting', 'working', 'done', 'stopped', 'failed', 'undoing', 'undone')),
  cause text,                             -- why it failed, in words
  people int,                             -- null until it is fixed whom it is for
  done int not null default 0,
  changed int not null default 0,
  began_at timestamptz not null,
  ended_at timestamptz
);
create index on bulk_acts (newsletter_id, began_at desc);
create index bulk_acts_open on bulk_acts (began_at) where state in ('waiting', 'working', 'undoing');
create table bulk_people (
  act_id uuid not null references bulk_acts on delete cascade,
  reader_id uuid not null,
  done boolean not null default false,    -- it was their turn
  changed_at timestamptz,                 -- when something changed for them; null where nothing did, or where it was taken back
  primary key (act_id, reader_id)
);
create index bulk_people_waiting on bulk_people (act_id, reader_id) where not done;
create index bulk_people_changed on bulk_people (act_id, changed_at) where changed_at is not null;
`)
    .execute(db);
}

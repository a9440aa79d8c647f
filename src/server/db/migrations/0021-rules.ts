import { type Kysely, sql } from 'kysely';

/** Feeds apart from the rules that mail their posts; rules with a rhythm, whose readers may choose another; and every run with what it held. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table letters drop constraint letters_auto_send_id_fkey;
drop table feed_items;
drop table auto_sends;

-- Where posts come from: a feed, or the newsletter's own pages (url null).
create table feeds (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  url text,
  title text not null,
  etag text,
  last_modified text,
  read_at timestamptz,                    -- when it was read first; what stood there then is its back catalogue
  next_poll_at timestamptz,               -- null: no rule that is on asks for it, or it is gone
  polled_at timestamptz,
  failures int not null default 0,
  fault text,
  failing_since timestamptz,
  told_at timestamptz,                    -- its owners, that it is silent or gone; once each time
  emptied_at timestamptz,                 -- it had posts, and had none when it was read then
  quiet_told_at timestamptz,              -- its owners, that it has had no post for long
  hub text,                               -- who tells of new posts (W3C WebSub)
  topic text,                             -- and by which address the feed is known there
  hub_token text,
  hub_until timestamptz,
  hub_asked_at timestamptz,
  created_at timestamptz not null,
  unique nulls not distinct (newsletter_id, url)
);
create index feeds_due on feeds (next_poll_at) where next_poll_at is not null;
create index feeds_hubs on feeds (hub_asked_at) where hub is not null;
create unique index feeds_token on feeds (hub_token) where hub_token is not null;

create table feed_items (
  id uuid primary key,
  feed_id uuid not null references feeds on delete cascade,
  item_key text not null,
  title text not null,
  link text not null,
  author text not null default '',
  topics text[] not null default '{}',
  summary text not null default '',
  document jsonb,                         -- what it says; null of the back catalogue
  picture text,
  pictures jsonb not null default '{}',   -- those of it that are kept here, by their addresses elsewhere
  words text not null default '',         -- the same as plain text
  print text not null,                    -- of what it says, to see that it was edited
  published_at timestamptz,
  first_seen_at timestamptz not null,
  changed_at timestamptz not null,
  gone_at timestamptz,
  place bigint generated always as identity,  -- among those of one moment, as the feed has them: the newer later
  unique (feed_id, item_key)
);
create index on feed_items (feed_id, coalesce(published_at, first_seen_at) desc);

create table auto_sends (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  settings jsonb not null,                -- core/autosend/rule
  audience jsonb not null,                -- a tree (core/sending/audience)
  sender_id uuid not null references senders,
  layout_id uuid not null references layouts,
  intro text not null default '',         -- a note for the next letter, once
  switched_on_at timestamptz,
  paused_at timestamptz,
  created_at timestamptz not null
);
create index on auto_sends (newsletter_id);
alter table letters add foreign key (auto_send_id) references auto_sends on delete set null;

create table auto_send_feeds (
  auto_send_id uuid not null references auto_sends on delete cascade,
  feed_id uuid not null references feeds on delete cascade,
  since timestamptz not null,             -- what was published before is of its back catalogue
  begun_at timestamptz,                   -- its first reading after the rule was switched on; nothing is mailed before that
  primary key (auto_send_id, feed_id)
);
create index on auto_send_feeds (feed_id);

-- A post as a rule has it. Ready ones stand in one row by their place (core/autosend/lanes).
create table rule_posts (
  auto_send_id uuid not null references auto_sends on delete cascade,
  item_id uuid not null references feed_items on delete cascade,
  state text not null check (state in ('before', 'waiting', 'held', 'ready', 'left out', 'no match')),
  place int,
  bundle uuid,
  ready_at timestamptz,                   -- when it is to be looked at again, while it waits
  filed_at timestamptz not null,
  primary key (auto_send_id, item_id)
);
create index on rule_posts (item_id);
create unique index rule_posts_place on rule_posts (auto_send_id, place) where place is not null;
create index rule_posts_due on rule_posts (ready_at) where state = 'waiting';
create index rule_posts_open on rule_posts (auto_send_id) where state in ('waiting', 'held');

create table rule_lanes (
  auto_send_id uuid not null references auto_sends on delete cascade,
  lane text not null check (lane in ('usual', 'each', 'daily', 'weekly')),
  upto int not null default 0,            -- how far in the row it has come
  next_at timestamptz,                    -- when it is to be run
  skipped_at timestamptz,                 -- the hour that is skipped
  primary key (auto_send_id, lane)
);
create index rule_lanes_due on rule_lanes (next_at) where next_at is not null;

-- Every run: its letter to whom the lane is the usual of, and others of those who came into it and need other posts.
create table rule_runs (
  id uuid primary key,
  auto_send_id uuid not null references auto_sends on delete cascade,
  lane text not null,
  at timestamptz not null,
  upto int not null,
  state text not null check (state in ('draft', 'going', 'done', 'nothing', 'skipped', 'dropped')),
  words text not null default '',         -- why, where it sent nothing
  approve_by timestamptz,
  grouped boolean not null default false  -- whoever came into the lane has been looked at
);
create index on rule_runs (auto_send_id, at desc);
create index rule_runs_draft on rule_runs (approve_by) where state = 'draft';
create index rule_runs_open on rule_runs (auto_send_id, lane) where state in ('draft', 'going');

alter table letters add run_id uuid references rule_runs on delete set null;
alter table letters add lane text;        -- of its rule, to whose people alone it goes
alter table letters add joining boolean not null default false;  -- to those alone who came into the lane and need just these posts
create index letters_run on letters (run_id) where run_id is not null;

create table letter_posts (
  letter_id uuid not null references letters on delete cascade,
  auto_send_id uuid not null references auto_sends on delete cascade,
  item_id uuid not null references feed_items on delete cascade,
  place int not null,
  primary key (letter_id, place)
);
create index on letter_posts (auto_send_id, place);
create index on letter_posts (item_id);

-- Whoever chose another rhythm than the usual one, or came back to it. 'since' is set until the lane's next run has told what they need.
create table reader_rhythms (
  auto_send_id uuid not null references auto_sends on delete cascade,
  reader_id uuid not null references readers on delete cascade,
  newsletter_id uuid not null references newsletters on delete cascade,
  lane text not null check (lane in ('usual', 'each', 'daily', 'weekly')),
  since int,
  joins uuid references letters on delete set null,
  chosen_at timestamptz not null,
  primary key (auto_send_id, reader_id)
);
create index on reader_rhythms (reader_id);
create index on reader_rhythms (newsletter_id);
create index reader_rhythms_moved on reader_rhythms (auto_send_id, lane) where since is not null;
create index reader_rhythms_joins on reader_rhythms (joins) where joins is not null;
`)
    .execute(db);
}

import { type Kysely, sql } from 'kysely';

/** Posts, letters and one person's copy of each: deliveries and events, partitioned by month. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table layouts (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  layout jsonb not null,
  updated_at timestamptz not null
);
create index on layouts (newsletter_id);

-- What somebody writes or a feed brings: a versioned document, never HTML.
create table posts (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  slug text not null,
  title text not null,
  subtitle text not null default '',
  document jsonb not null,
  revision int not null default 1,
  link text,                              -- where it stands on the writer's site
  picture text,
  created_at timestamptz not null,
  updated_at timestamptz not null,
  unique (newsletter_id, slug)
);
create table segments (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  condition jsonb not null,
  created_at timestamptz not null,
  unique (newsletter_id, name)
);

create table auto_sends (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  feed_url text not null,
  sender_id uuid not null references senders,
  list_id uuid not null references lists,
  layout_id uuid not null references layouts,
  switched_on_at timestamptz,
  baseline_at timestamptz,                -- when the back catalogue was filed; nothing is mailed before that
  etag text,
  last_modified text,
  next_poll_at timestamptz,
  polled_at timestamptz,
  failures int not null default 0,
  fault text,
  feed_title text,
  created_at timestamptz not null
);
create index on auto_sends (newsletter_id);
create index on auto_sends (next_poll_at) where switched_on_at is not null;

-- One sending: of a post, a digest, a step of a series, a proof. Its states and what moves it: core/sending/letter-state.
create table letters (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  kind text not null check (kind in ('post', 'digest', 'series', 'proof')),
  post_id uuid references posts on delete set null,
  auto_send_id uuid references auto_sends on delete set null,
  layout_id uuid references layouts on delete set null,
  audience jsonb not null,                -- a tree (core/sending/audience)
  sender_id uuid references senders on delete set null,
  subjects jsonb not null,                -- one, or the variants of a subject test
  preview_line text not null,
  counts_opens boolean not null default true,  -- as its newsletter wished when it started
  counts_clicks boolean not null default true,
  state text not null check (state in ('draft', 'scheduled', 'held', 'starting', 'sending', 'paused', 'stopped', 'sent')),
  cause text,                             -- why it is in this state, in words
  state_at timestamptz not null,
  due_at timestamptz not null,
  started_at timestamptz,
  finished_at timestamptz,
  sent_on date,                           -- the partition its deliveries stand in, fixed when it starts
  html text,
  text text,
  chips jsonb not null default '[]',      -- its merge chips, whose values each delivery keeps
  from_name text,
  from_address text,
  reply_to text,
  domain_id uuid references domains on delete set null,
  created_at timestamptz not null
);
create index on letters (newsletter_id, due_at desc);
create index letters_open on letters (due_at) where state in ('scheduled', 'held', 'starting', 'sending', 'paused');
create index on letters (post_id);
create index on letters (auto_send_id);
create index on letters (domain_id);

create table letter_links (
  letter_id uuid not null references letters on delete cascade,
  position int not null,
  url text not null,
  clicks int not null default 0,
  primary key (letter_id, position)
);

create table feed_items (
  auto_send_id uuid not null references auto_sends on delete cascade,
  item_key text not null,
  title text not null,
  link text not null,
  published_at timestamptz,
  first_seen_at timestamptz not null,
  place bigint generated always as identity,              -- among those of one moment, as the feed has them: the newer later
  letter_id uuid references letters on delete set null,
  state text not null default 'before' check (state in ('before', 'mailed', 'held', 'left out')),  -- before: of the back catalogue, never mailed
  held_post_id uuid references posts on delete set null, -- came with too many others at once: waits for somebody to say that it goes
  primary key (auto_send_id, item_key)
);
create index on feed_items (letter_id);
create index feed_items_held on feed_items (auto_send_id) where held_post_id is not null;

-- One letter on one route: what a claim is made of. A row stands as long as deliveries wait there.
create table route_jobs (
  route_id int not null references routes on delete cascade,
  letter_id uuid not null references letters on delete cascade,
  newsletter_id uuid not null,
  sent_on date not null,
  next_due timestamptz not null,
  turn double precision not null default 0,   -- its virtual time: who has been served less goes first
  resting boolean not null default false,     -- its letter is paused
  primary key (route_id, letter_id)
);
create index on route_jobs (letter_id);

create table deliveries (
  id bigint generated by default as identity,
  sent_on date not null,
  newsletter_id uuid not null,
  letter_id uuid not null,
  reader_id uuid not null,
  address text not null,
  domain_id int not null,
  route_id int,                           -- null until the route of its domain is known
  variant smallint not null default 0,
  chips jsonb,
  state text not null default 'queued' check (state in ('queued', 'claimed', 'delivered', 'bounced', 'refused', 'given up', 'cancelled')),
  due_at timestamptz not null,
  attempts smallint not null default 0,   -- what the mailbox itself was asked; tries of the way are the route's
  faults smallint not null default 0,     -- times that something of ours failed
  claimed_by uuid,
  tried_at timestamptz,                   -- first try, from which its lifetime counts
  delivered_at timestamptz,
  opened_at timestamptz,
  opened_by_machine_at timestamptz,
  clicked_at timestamptz,
  left_at timestamptz,
  response text,
  primary key (sent_on, id)
) partition by range (sent_on);
create unique index deliveries_once on deliveries (reader_id, letter_id, sent_on);
create index deliveries_waiting on deliveries (letter_id, route_id, due_at, id) where state = 'queued';
create index deliveries_unrouted on deliveries (domain_id) where route_id is null and state = 'queued';
create index deliveries_claimed on deliveries (claimed_by) where state = 'claimed';
create index deliveries_failed on deliveries (letter_id, id) where state in ('bounced', 'refused', 'given up');

create table events (
  id bigint generated by default as identity,
  day date not null,
  at timestamptz not null,
  newsletter_id uuid not null,
  letter_id uuid not null,
  delivery_id bigint not null,
  reader_id uuid not null,
  kind text not null check (kind in ('open', 'click', 'leave', 'bounce', 'complaint')),
  machine boolean not null default false,
  link_position int,
  agent text,
  primary key (day, id)
) partition by range (day);
create index events_reader on events (reader_id, at);

-- Makes the month's partitions of both tables if they are not there. Safe to call at any time, from anyone.
create function ensure_month(day date) returns void language plpgsql as $$
declare
  first date := date_trunc('month', day);
  last date := first + interval '1 month';
  suffix text := to_char(first, 'YYYY_MM');
begin
  if to_regclass('events_' || suffix) is not null then return; end if;
  perform pg_advisory_xact_lock(hashtext('ensure_month'));
  execute format('create table if not exists deliveries_%s partition of deliveries for values from (%L) to (%L)', suffix, first, last);
  execute format('create table if not exists events_%s partition of events for values from (%L) to (%L)', suffix, first, last);
end $$;
`)
    .execute(db);
}

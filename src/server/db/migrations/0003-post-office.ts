import { type Kysely, sql } from 'kysely';

/** Ways out for mail, who works on them, and single mails on their way. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
-- A way out for mail: the domains that share their mail hosts, or a newsletter's relay. All its workers share what it has learnt.
create table routes (
  id int generated always as identity primary key,
  kind text not null check (kind in ('hosts', 'relay')),
  newsletter_id uuid unique references newsletters on delete cascade,  -- whose relay it is
  name text not null,
  hosts jsonb not null default '[]',          -- names, ranks and addresses as last looked up
  domain text,                                -- the domain whose mail hosts were looked up
  verified boolean not null default false,    -- only over TLS with a certificate that names the host: its domains' policies demand it
  look_at timestamptz not null default '-infinity',
  lanes real not null default 5,              -- how many connections it may have (whole ones count, the fraction is the hysteresis)
  lanes_most real,                            -- what it was refused at
  failed_rounds real not null default 0,      -- rounds of tries that met nothing but failures of the way
  failing_since timestamptz,
  proven_at timestamptz,                      -- when it last took a mail
  paused_until timestamptz,
  paused_for text,
  filled_until timestamptz,                   -- a relay that has had its fill of letters; what somebody waits for still goes
  mails_a_line real,                          -- how many mails it takes on one connection before it hangs up
  per_minute real,                            -- its pace where it asked for one
  served_at timestamptz not null default '-infinity',
  due_at timestamptz                          -- of the first letter that waits for it; null when none does
);
create index routes_turn on routes (served_at) where due_at is not null;
-- By which names a route is found again: the list of its mail hosts, and the addresses of the best of them.
create table route_names (
  name text primary key,
  route_id int not null references routes on delete cascade
);
create index on route_names (route_id);

-- Every domain that mail goes to, resolved to its route once and kept for a while.
create table mail_domains (
  id int generated always as identity primary key,
  name text not null unique,
  route_id int references routes on delete set null,
  state text not null default 'new' check (state in ('new', 'fine', 'unanswered', 'gone', 'no mail')),
  said text,
  look_at timestamptz not null default '-infinity',
  failing_since timestamptz,
  tries int not null default 0,
  policy jsonb,                               -- what it demands of whoever brings it mail (MTA-STS), and until when that holds
  wanted int not null default 0               -- how many letters wait for its route to be found
);
create index on mail_domains (route_id);
create index mail_domains_wanted on mail_domains (look_at) where wanted > 0;
create index mail_domains_gone on mail_domains (look_at) where state in ('gone', 'new');
create function mail_domain(address text) returns int language plpgsql as $$
declare
  domain text := lower(substring(address from '[^@]*$'));
  found int;
begin
  select id into found from mail_domains where name = domain;
  if found is null then
    insert into mail_domains (name) values (domain) on conflict (name) do nothing returning id into found;
    if found is null then select id into found from mail_domains where name = domain; end if;
  end if;
  return found;
end $$;

create table relays (
  newsletter_id uuid primary key references newsletters on delete cascade,
  host text not null,
  port int not null,
  tls text not null check (tls in ('required', 'implicit', 'none')),
  user_name text not null,
  password bytea not null,                    -- sealed
  per_hour int not null,
  per_day int not null,
  switched_on boolean not null default false,
  probed_at timestamptz,
  probe_fault text
);
-- What went over a relay each hour, for its limits.
create table relay_hours (
  newsletter_id uuid not null references newsletters on delete cascade,
  hour timestamptz not null,
  mails int not null,
  primary key (newsletter_id, hour)
);

-- Who works: the lanes and claims of a worker that has fallen silent are given back. Times are the database's own, not the context's.
create table workers (
  id uuid primary key,
  seen_at timestamptz not null default now()
);
create table lanes (
  route_id int not null references routes on delete cascade,
  worker_id uuid not null references workers on delete cascade,
  held int not null,
  primary key (route_id, worker_id)
);
create index on lanes (worker_id);

-- Single mails: confirmations, proofs, account mails, test letters. A row stands before its cause is answered, so none is lost.
create table mails (
  id bigint generated always as identity primary key,
  newsletter_id uuid references newsletters on delete cascade,
  reader_id uuid,
  kind text not null,
  waited_for boolean not null,                -- somebody waits for it
  from_name text not null,
  from_address text not null,
  reply_to text,
  return_local text,                          -- a return path of its own; else one that names the mail
  to_address text not null,
  domain_id int not null references mail_domains,
  route_id int references routes on delete set null,
  subject text not null,
  content jsonb not null,
  leave boolean not null default false,       -- carries a leave link of its reader
  state text not null default 'queued' check (state in ('queued', 'claimed', 'delivered', 'bounced', 'refused', 'given up', 'aside', 'cancelled')),
  attempts int not null default 0,
  faults int not null default 0,              -- times that something of ours failed
  claimed_by uuid,
  due_at timestamptz not null,
  created_at timestamptz not null,
  left_at timestamptz,
  delivered_at timestamptz,
  response text
);
create index mails_due on mails (route_id, waited_for, due_at) where state = 'queued';
create index mails_unrouted on mails (domain_id) where state = 'queued' and route_id is null;
create index mails_claimed on mails (claimed_by) where state = 'claimed';
create index mails_reader on mails (reader_id) where reader_id is not null;
create index mails_aside on mails (created_at) where state = 'aside';
create index on mails (newsletter_id);
-- A mail's route: its newsletter's relay where that is in use, else its domain's, if that is known still.
create function mail_gets_route() returns trigger language plpgsql as $$
begin
  new.domain_id := mail_domain(new.to_address);
  select r.id into new.route_id from relays y join routes r on r.newsletter_id = y.newsletter_id where y.newsletter_id = new.newsletter_id and y.switched_on;
  if new.route_id is null then
    select d.route_id into new.route_id from mail_domains d where d.id = new.domain_id and d.state = 'fine' and d.look_at > new.created_at;
  end if;
  return new;
end $$;
create trigger mail_gets_route before insert on mails for each row when (new.domain_id is null) execute function mail_gets_route();

-- What has come to an end says nothing any more: the links in it are secrets that are kept as hashes elsewhere.
create function mail_ends() returns trigger language plpgsql as $$
begin
  new.content := '{"kind":"gone"}';
  return new;
end $$;
create trigger mail_ends before update of state on mails for each row
  when (new.state in ('delivered', 'bounced', 'refused', 'given up', 'cancelled')) execute function mail_ends();

-- What others report to us, as it came: of our policies, of encryption, of complaints, and letters to the postmaster.
create table reports (
  id bigint generated always as identity primary key,
  kind text not null check (kind in ('dmarc', 'tls', 'complaint', 'postmaster')),
  to_local text not null,
  domain_id uuid,                             -- whose domain it is about, where its address says so
  received_at timestamptz not null,
  bytes bytea not null
);
create index on reports (received_at);
create index on reports (domain_id) where domain_id is not null;

-- Mailboxes that a route refused as dead, by the words it used: many in an hour are a matter of the way.
create table refusals (
  route_id int not null references routes on delete cascade,
  words text not null,
  address_key text not null,
  newsletter_id uuid not null references newsletters on delete cascade,
  reader_id uuid not null,
  at timestamptz not null,
  primary key (route_id, words, newsletter_id, address_key)
);
create index on refusals (at);
`)
    .execute(db);
}

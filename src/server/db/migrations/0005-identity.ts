import { type Kysely, sql } from 'kysely';

/** Identity widened: pictures, social links, alerts, members and invitations; several keys a domain; every check; relay; ramp-up; test letters. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table media (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  kind text not null check (kind in ('logo')),
  content_type text not null,
  width int not null,
  height int not null,
  created_at timestamptz not null
);

alter table newsletters
  add logo_id uuid references media on delete set null,
  add accent text not null default '#17645c',
  add site text not null default '',
  add social_links jsonb not null default '[]',
  add alert_joins text not null default 'off' check (alert_joins in ('off', 'at once', 'daily')),
  add alert_leaves text not null default 'off' check (alert_leaves in ('off', 'at once', 'daily')),
  add alerts_due_at timestamptz,
  add default_sender_id uuid references senders on delete set null;
create index on newsletters (alerts_due_at) where alerts_due_at is not null;

alter table members drop constraint members_role_check;
alter table members add constraint members_role_check check (role in ('owner', 'editor', 'reader-only'));
create table invitations (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  email text not null,
  role text not null check (role in ('owner', 'editor', 'reader-only')),
  token_hash bytea not null unique,
  sent_at timestamptz not null,
  expires_at timestamptz not null,
  unique (newsletter_id, email)
);

create table domain_keys (
  id uuid primary key,
  domain_id uuid not null references domains on delete cascade,
  selector text not null,
  algorithm text not null check (algorithm in ('rsa', 'ed25519')),
  role text not null check (role in ('active', 'next', 'second', 'retired')),
  public_key text not null,
  private_key bytea not null,  -- AES-256-GCM, see server/secrets.ts
  created_at timestamptz not null,
  unique (domain_id, selector)
);
create unique index domain_keys_one on domain_keys (domain_id, role) where role <> 'retired';
insert into domain_keys (id, domain_id, selector, algorithm, role, public_key, private_key, created_at)
  select gen_random_uuid(), id, selector, 'rsa', 'active', public_key, private_key, created_at from domains;
alter table domains drop column selector, drop column public_key, drop column private_key;
alter table domains
  add zone text,                 -- the zone its DNS host manages, learnt from its name servers
  add name_servers text[] not null default '{}',
  add steady_since timestamptz,  -- since when every needed record has been right without a break
  add facts jsonb not null default '{}',
  add keys_by_alias boolean not null default false,  -- the writer publishes aliases; we serve the keys (processes/names.ts)
  add ramp jsonb;

create table domain_checks (
  id bigint generated always as identity primary key,
  domain_id uuid not null references domains on delete cascade,
  at timestamptz not null,
  state text not null,
  verdicts jsonb not null,
  changed boolean not null,
  took_ms int not null
);
create index on domain_checks (domain_id, at desc);

-- What left a domain each local day: the ramp-up's memory.
create table domain_days (
  domain_id uuid not null references domains on delete cascade,
  day date not null,
  planned int not null default 0,
  delivered int not null default 0,
  bounced int not null default 0,
  complained int not null default 0,
  primary key (domain_id, day)
);

create table relays (
  newsletter_id uuid primary key references newsletters on delete cascade,
  host text not null,
  port int not null,
  tls text not null check (tls in ('required', 'implicit', 'none')),
  user_name text not null,
  password bytea not null,       -- AES-256-GCM
  per_hour int not null,
  per_day int not null,
  switched_on boolean not null default false,
  probed_at timestamptz,
  probe_fault text
);

-- By which way a delivery leaves: its mailbox provider's own hosts, or the newsletter's relay.
alter table deliveries add route text;
update deliveries set route = provider;
alter table deliveries alter route set not null;
drop index deliveries_due;
create index deliveries_due on deliveries (route, due_at) where state = 'queued';

create table test_letters (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  domain_id uuid not null references domains on delete cascade,
  token text not null unique,
  from_address text not null,
  to_address text not null,
  sent_at timestamptz not null,
  response text not null,
  verdicts jsonb,
  answered_at timestamptz
);
create index on test_letters (domain_id, sent_at desc);
`)
    .execute(db);
}

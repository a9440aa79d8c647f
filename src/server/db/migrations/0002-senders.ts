import { type Kysely, sql } from 'kysely';

/** From-addresses and their proof, domains with their keys and every check, what left them each day, test letters. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
-- The installation's own mail identity, for account mails: one row.
create table installation (
  only_one boolean primary key default true check (only_one),
  selector text not null,
  public_key text not null,
  private_key bytea not null
);

create table senders (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  address text not null,
  domain text not null,
  reply_to text,
  confirmed_at timestamptz,
  proof_hash bytea,
  proof_sent_at timestamptz,
  proof_expires_at timestamptz,
  created_at timestamptz not null,
  unique (newsletter_id, address)
);
create index on senders (proof_hash);
alter table newsletters add foreign key (default_sender_id) references senders on delete set null;

create table domains (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  reports_token text not null unique,
  state text not null default 'unknown' check (state in ('unknown', 'incomplete', 'authenticated')),
  judgements jsonb not null default '[]',
  facts jsonb not null default '{}',
  zone text,                                  -- the zone its DNS host manages, learnt from its name servers
  name_servers text[] not null default '{}',
  keys_by_alias boolean not null default false,  -- the writer publishes aliases; we serve the keys (processes/names.ts)
  ramp jsonb,
  steady_since timestamptz,                   -- since when every needed record has been right without a break
  checked_at timestamptz,
  next_check_at timestamptz not null,
  checks_since_change int not null default 0,
  created_at timestamptz not null,
  unique (newsletter_id, name)
);
create index on domains (next_check_at);
create index on domains (name);
create table domain_keys (
  id uuid primary key,
  domain_id uuid not null references domains on delete cascade,
  selector text not null,
  algorithm text not null check (algorithm in ('rsa', 'ed25519')),
  role text not null check (role in ('active', 'next', 'second', 'retired')),
  public_key text not null,
  private_key bytea not null,                 -- sealed, see server/secrets.ts
  created_at timestamptz not null,
  unique (domain_id, selector)
);
create unique index domain_keys_one on domain_keys (domain_id, role) where role <> 'retired';
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
create table test_letters (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  domain_id uuid not null references domains on delete cascade,
  token text not null unique,
  from_address text not null,
  to_address text not null,
  sent_at timestamptz not null,
  own_mail_id bigint,                         -- the copy to the writer
  probe_mail_id bigint,                       -- the copy to the test mailbox, where there is one
  verdicts jsonb,
  answered_at timestamptz
);
create index on test_letters (domain_id, sent_at desc);
`)
    .execute(db);
}

import { type Kysely, sql } from 'kysely';

/** From-addresses and their proof, domains and their last check, and single mails on their way out. */
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

create table domains (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  selector text not null,
  public_key text not null,
  private_key bytea not null,  -- AES-256-GCM, see server/secrets.ts
  reports_token text not null unique,
  state text not null default 'unknown' check (state in ('unknown', 'incomplete', 'authenticated')),
  judgements jsonb not null default '[]',
  checked_at timestamptz,
  next_check_at timestamptz not null,
  checks_since_change int not null default 0,
  created_at timestamptz not null,
  unique (newsletter_id, name)
);
create index on domains (next_check_at);

-- Single mails: confirmations, proofs, account mails. A row stands before its cause is answered, so none is lost.
create table outbox (
  id bigint generated always as identity primary key,
  newsletter_id uuid references newsletters on delete cascade,
  kind text not null,
  from_name text not null,
  from_address text not null,
  reply_to text,
  to_address text not null,
  subject text not null,
  html text not null,
  text text not null,
  leave_url text,
  state text not null default 'queued' check (state in ('queued', 'sent', 'failed')),
  attempts int not null default 0,
  due_at timestamptz not null,
  response text,
  created_at timestamptz not null,
  sent_at timestamptz
);
create index outbox_due on outbox (due_at) where state = 'queued';

create table rate_limits (
  key text not null,
  window_start timestamptz not null,
  count int not null,
  primary key (key, window_start)
);
create index on rate_limits (window_start);

-- Who works: a claim whose worker has fallen silent is given back. Times are the database's own, not the context's.
create table workers (
  id uuid primary key,
  seen_at timestamptz not null default now()
);
`)
    .execute(db);
}

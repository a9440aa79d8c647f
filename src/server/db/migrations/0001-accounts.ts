import { type Kysely, sql } from 'kysely';

/** Accounts, as the account library lays them out; newsletters, their people, pictures and lists. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table "user" ("id" text primary key, "name" text not null, "email" text not null unique, "emailVerified" boolean not null,
  "image" text, "createdAt" timestamptz not null default current_timestamp, "updatedAt" timestamptz not null default current_timestamp);
create table "session" ("id" text primary key, "expiresAt" timestamptz not null, "token" text not null unique,
  "createdAt" timestamptz not null default current_timestamp, "updatedAt" timestamptz not null, "ipAddress" text, "userAgent" text,
  "userId" text not null references "user" ("id") on delete cascade);
create table "account" ("id" text primary key, "accountId" text not null, "providerId" text not null,
  "userId" text not null references "user" ("id") on delete cascade, "accessToken" text, "refreshToken" text, "idToken" text,
  "accessTokenExpiresAt" timestamptz, "refreshTokenExpiresAt" timestamptz, "scope" text, "password" text,
  "createdAt" timestamptz not null default current_timestamp, "updatedAt" timestamptz not null);
create table "verification" ("id" text primary key, "identifier" text not null, "value" text not null, "expiresAt" timestamptz not null,
  "createdAt" timestamptz not null default current_timestamp, "updatedAt" timestamptz not null default current_timestamp);
create table "rateLimit" ("id" text primary key, "key" text not null unique, "count" integer not null, "lastRequest" bigint not null);
create index on "session" ("userId");
create index on "account" ("userId");
create index on "verification" ("identifier");

create table newsletters (
  id uuid primary key,
  slug text not null unique,
  name text not null,
  description text not null,
  postal_address text not null,
  reason_line text not null,
  time_zone text not null,
  language text not null,
  colour text not null,
  accent text not null default '#17645c',
  site text not null default '',
  social_links jsonb not null default '[]',
  logo_id uuid,
  default_sender_id uuid,
  count_opens boolean not null default true,
  count_clicks boolean not null default true,
  encrypted_only boolean not null default false,  -- mail to readers goes over encrypted connections or not at all
  alert_joins text not null default 'off' check (alert_joins in ('off', 'at once', 'daily')),
  alert_leaves text not null default 'off' check (alert_leaves in ('off', 'at once', 'daily')),
  alerts_due_at timestamptz,
  removed_at timestamptz,      -- deleted; its rows are on their way out
  recounted_at timestamptz,    -- when its totals were last held against a count of the rows
  created_at timestamptz not null
);
create index on newsletters (alerts_due_at) where alerts_due_at is not null;
create table members (
  newsletter_id uuid not null references newsletters on delete cascade,
  user_id text not null references "user" ("id") on delete cascade,
  role text not null check (role in ('owner', 'editor', 'reader-only')),
  created_at timestamptz not null,
  primary key (newsletter_id, user_id)
);
create index on members (user_id);
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
create table media (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  kind text not null check (kind in ('logo', 'gift', 'picture')),
  name text not null default '',
  content_type text not null,
  width int not null,
  height int not null,
  created_at timestamptz not null
);
create index on media (newsletter_id);
alter table newsletters add foreign key (logo_id) references media on delete set null;

create table lists (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  name text not null,
  public_name text not null,
  double_opt_in boolean not null default true,
  position int not null default 0,
  created_at timestamptz not null,
  unique (newsletter_id, name)
);

-- Uses are worth less than the time of a commit that reaches the disk: after a crash of the database they begin anew.
create unlogged table rate_limits (
  key text not null,
  window_start timestamptz not null,
  count int not null,
  primary key (key, window_start)
);
create index on rate_limits (window_start);
`)
    .execute(db);
}

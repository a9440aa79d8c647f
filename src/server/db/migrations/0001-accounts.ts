import { type Kysely, sql } from 'kysely';

/** Accounts, as the account library lays them out, and newsletters with their members. */
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
  created_at timestamptz not null
);
create table members (
  newsletter_id uuid not null references newsletters on delete cascade,
  user_id text not null references "user" ("id") on delete cascade,
  role text not null check (role in ('owner')),
  created_at timestamptz not null,
  primary key (newsletter_id, user_id)
);
create index on members (user_id);
`)
    .execute(db);
}

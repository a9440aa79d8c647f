import { type Kysely, sql } from 'kysely';

/** Exports: what is taken out, as a file that a worker writes part by part. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
create table exports (
  id uuid primary key,
  newsletter_id uuid not null references newsletters on delete cascade,
  kind text not null check (kind in ('csv', 'json lines')),
  columns jsonb not null,                 -- the chosen ones, in their order
  whom jsonb not null,                    -- a condition and words, or ids
  state text not null default 'waiting' check (state in ('waiting', 'working', 'done', 'stopped', 'failed')),
  cause text,
  file_id uuid references kept_files on delete set null,
  people int not null,                    -- how many fitted when it began
  done int not null default 0,
  parts int not null default 0,
  upto uuid,                              -- readers up to this one are in it
  by_name text not null,
  by_email text not null,
  began_at timestamptz not null,
  ended_at timestamptz
);
create index on exports (newsletter_id, began_at desc);
create index exports_open on exports (began_at) where state in ('waiting', 'working');
create index on exports (file_id);

-- A cell of a CSV (RFC 4180), in which no spreadsheet finds a formula: the other half of core/importing/rows, csvRow.
create function csv_cell(said text) returns text language sql immutable parallel safe as $$
  select case when said is null then '' when said !~ '[",\\r\\n]|^[=+\\-@\\s]|\\s$' then said
    else '"' || replace(case when said ~ '^[=+\\-@\\t\\r]' then '''' || said else said end, '"', '""') || '"' end
$$;
`)
    .execute(db);
}

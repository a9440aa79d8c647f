import { type Kysely, sql } from 'kysely';
import { counted } from './0006-totals';

/** Why copies did not arrive; what readers and providers report of letters; and what others saw of our domains, by their reports. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table deliveries add reason text;   -- why its server said no (core/delivery/reason), as it last did
alter table events add why text;        -- why it is taken for a machine's (core/delivery/machine)
create index deliveries_reasons on deliveries (newsletter_id, reason, sent_on, id) where reason is not null and state in ('bounced', 'refused', 'given up');

-- How often copies were put off, and came to an end, for each reason, by the newsletter's local day.
${counted('reason', 'reason_days', ['newsletter_id uuid', 'domain_id int', 'reason text', 'day date'], ['put_off', 'ended'])}
create index on reason_sums (newsletter_id, day);
create index on reason_months (newsletter_id, month);
create index on reason_changes (newsletter_id, day);
alter table reason_sums add foreign key (newsletter_id) references newsletters on delete cascade;
alter table reason_months add foreign key (newsletter_id) references newsletters on delete cascade;

-- Holds what came to an end, by reason, against the copies themselves; what differs is put right on today.
create function recount_reasons(newsletter uuid, today date) returns int language plpgsql as $$
declare differing int;
begin
  with truth as (
    select coalesce(s.domain_id, 0) as domain_id, d.reason, count(*)::int as ended from deliveries d
    left join letter_sums s on s.newsletter_id = newsletter and s.letter_id = d.letter_id and s.domain_id = d.domain_id
    where d.newsletter_id = newsletter and d.reason is not null and d.state in ('bounced', 'refused', 'given up') group by 1, 2
  ), kept as (
    select domain_id, reason, sum(ended)::int as ended from reason_days where newsletter_id = newsletter group by 1, 2
  ), mended as (
    insert into reason_changes (newsletter_id, domain_id, reason, day, ended)
    select newsletter, coalesce(t.domain_id, k.domain_id), coalesce(t.reason, k.reason), today, coalesce(t.ended, 0) - coalesce(k.ended, 0)
    from truth t full join kept k on k.domain_id = t.domain_id and k.reason = t.reason where coalesce(t.ended, 0) <> coalesce(k.ended, 0) returning 1
  ) select count(*) into differing from mended;
  return differing;
end $$;

-- What readers and providers report of a letter (RFC 5965 and what followed it).
create table feedback (
  id bigint generated always as identity primary key,
  newsletter_id uuid references newsletters on delete cascade,   -- null: nobody knows of which letter it speaks
  letter_id uuid,
  sent_on date,
  delivery_id bigint,
  reader_id uuid,
  kind text not null check (kind in ('complaint', 'not spam', 'opt-out', 'not authenticated', 'other')),
  type text not null,                     -- as the report has it
  reporter text not null,
  known_by text not null check (known_by in ('return path', 'message', 'letter', 'nothing')),
  failure text not null default '',
  source text not null default '',
  at timestamptz not null
);
create unique index feedback_once on feedback (sent_on, delivery_id, kind) where delivery_id is not null;
create index on feedback (newsletter_id, at);
create index on feedback (reader_id) where reader_id is not null;

alter table reports
  add handled_at timestamptz,             -- when it was read
  add fault text,                         -- why it could not be
  add file_name text;                     -- as it was uploaded; null for what came by mail
create index reports_waiting on reports (id) where handled_at is null and kind in ('dmarc', 'tls');

-- What a mailbox provider saw of a domain in some hours (RFC 7489, appendix C).
create table dmarc_reports (
  id bigint generated always as identity primary key,
  domain_id uuid not null references domains on delete cascade,
  reporter text not null,
  report_id text not null,
  from_at timestamptz not null,
  to_at timestamptz not null,
  policy jsonb not null,
  mails int not null,
  aligned int not null,
  received_at timestamptz not null,
  unique (domain_id, reporter, report_id)
);
create index on dmarc_reports (domain_id, to_at);
-- Its mails by where they came from and what they are, with what was done to them.
create table dmarc_sources (
  report bigint not null references dmarc_reports on delete cascade,
  n int not null,
  ip inet,                                -- null: all the small ones of a very large report
  kind text not null check (kind in ('ours', 'ours, broken', 'others of yours', 'forwarded', 'stranger')),
  who text not null,                      -- by whose signature or return path it is known
  mails int not null,
  aligned int not null,
  quarantined int not null,
  rejected int not null,
  detail jsonb not null,
  primary key (report, n)
);
-- What an address is called, asked once and now and then again.
create table source_hosts (
  ip inet primary key,
  name text,
  looked_at timestamptz not null
);

-- What others saw of encryption on their way to us (RFC 8460).
create table tls_reports (
  id bigint generated always as identity primary key,
  domain_id uuid not null references domains on delete cascade,
  reporter text not null,
  report_id text not null,
  from_at timestamptz not null,
  to_at timestamptz not null,
  good int not null,
  failed int not null,
  failures jsonb not null,
  received_at timestamptz not null,
  unique (domain_id, reporter, report_id)
);
create index on tls_reports (domain_id, to_at);
`)
    .execute(db);
}

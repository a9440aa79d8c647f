import { type Kysely, sql } from 'kysely';

/** By whose signature a report is believed, and when one is looked at again whose key could not be asked for. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table reports
  drop column file_name,
  add due_at timestamptz,                 -- null: at once
  add unsigned boolean not null default false; -- nothing shows whose it is: it waits until somebody says that it counts
alter table dmarc_reports
  add signed_by text not null default '', -- the domain whose signature held; empty for what was uploaded, or let in by hand
  drop constraint dmarc_reports_domain_id_reporter_report_id_key,
  add unique (domain_id, reporter, report_id, signed_by);
alter table tls_reports
  add signed_by text not null default '',
  drop constraint tls_reports_domain_id_reporter_report_id_key,
  add unique (domain_id, reporter, report_id, signed_by);
`)
    .execute(db);
}

import { type Kysely, sql } from 'kysely';

/** Newsletters that are to be deleted have a week in which nothing of them leaves, and in which that can be taken back. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table newsletters add closing_at timestamptz;  -- deleted then, unless somebody keeps it
create index newsletters_closing on newsletters (closing_at) where closing_at is not null;

-- A single mail's route; and none of a newsletter that is to be deleted, whoever posts it.
create or replace function mail_gets_route() returns trigger language plpgsql as $$
begin
  new.domain_id := mail_domain(new.to_address);
  if new.newsletter_id is not null and exists (select 1 from newsletters n where n.id = new.newsletter_id and (n.closing_at is not null or n.removed_at is not null)) then
    new.state := 'cancelled';
    new.content := '{"kind":"gone"}';
    new.subject := '';
    return new;
  end if;
  select r.id into new.route_id from relays y join routes r on r.newsletter_id = y.newsletter_id where y.newsletter_id = new.newsletter_id and y.switched_on;
  if new.route_id is null then
    select d.route_id into new.route_id from mail_domains d where d.id = new.domain_id and d.state = 'fine' and d.look_at > new.created_at;
  end if;
  return new;
end $$;

-- What has come to an end says nothing any more, in its subject neither: some name a reader, who may be erased.
create or replace function mail_ends() returns trigger language plpgsql as $$
begin
  new.content := '{"kind":"gone"}';
  new.subject := '';
  return new;
end $$;
`)
    .execute(db);
}

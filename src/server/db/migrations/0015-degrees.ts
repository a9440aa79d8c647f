import { type Kysely, sql } from 'kysely';

/** How many are how warm, kept like all that stands beside a filter; tags without a look at their reader for each. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
-- What a warmth is called (core/readers/warmth; a test holds the two together).
create function degree(warmth smallint) returns text language sql immutable parallel safe as $$
  select case when warmth < 0 then 'unknown' when warmth < 10 then 'cold' when warmth < 30 then 'cool' when warmth < 60 then 'mild' else 'warm' end
$$;
create or replace function reader_moved() returns trigger language plpgsql as $$
begin
  if new.standing is distinct from old.standing then
    insert into people_changes (newsletter_id, kind, key, reading, waiting, left_count, unreachable)
    select new.newsletter_id, p.kind, p.key,
           (new.standing = 'reading')::int - (old.standing = 'reading')::int, (new.standing = 'waiting')::int - (old.standing = 'waiting')::int,
           (new.standing = 'left')::int - (old.standing = 'left')::int, (new.standing = 'unreachable')::int - (old.standing = 'unreachable')::int
    from (select 'all' as kind, 'all' as key union all select 'source', new.source_name union all select 'form', new.source_form_id::text where new.source_form_id is not null
          union all select 'tag', t.tag from reader_tags t where t.reader_id = new.id
          union all select 'warmth', degree(new.warmth)) p;
  end if;
  if (new.standing = 'reading') <> (old.standing = 'reading') or new.confirmed <> old.confirmed then
    insert into source_changes (newsletter_id, day, dimension, name, confirmed, reading)
    select new.newsletter_id, w.day, w.dimension, w.name, new.confirmed::int - old.confirmed::int,
           (new.standing = 'reading')::int - (old.standing = 'reading')::int
    from reader_ways(new) w;
  end if;
  if (new.address_state = 'fine') <> (old.address_state = 'fine') then
    insert into people_changes (newsletter_id, kind, key, reading, unreachable)
    select new.newsletter_id, 'list', m.list_id::text, case when new.address_state = 'fine' then 1 else -1 end, case when new.address_state = 'fine' then -1 else 1 end
    from memberships m where m.reader_id = new.id and m.state = 'reading';
  end if;
  return null;
end $$;
create or replace function recount_people(newsletter uuid) returns int language plpgsql as $$
declare differing int;
begin
  with truth as (
    select 'all' as kind, 'all' as key, standing, count(*)::int as n from readers where newsletter_id = newsletter group by 3
    union all select 'source', source_name, standing, count(*)::int from readers where newsletter_id = newsletter group by 2, 3
    union all select 'form', source_form_id::text, standing, count(*)::int from readers where newsletter_id = newsletter and source_form_id is not null group by 2, 3
    union all select 'tag', t.tag, r.standing, count(*)::int from reader_tags t join readers r on r.id = t.reader_id where t.newsletter_id = newsletter group by 2, 3
    union all select 'warmth', degree(warmth), standing, count(*)::int from readers where newsletter_id = newsletter group by 2, 3
    union all select 'list', m.list_id::text, case when m.state = 'reading' and r.address_state <> 'fine' then 'unreachable' else m.state end, count(*)::int
      from memberships m join readers r on r.id = m.reader_id where m.newsletter_id = newsletter group by 2, 3
  ), wide as (
    select kind, key, coalesce(sum(n) filter (where standing = 'reading'), 0) as reading, coalesce(sum(n) filter (where standing = 'waiting'), 0) as waiting,
      coalesce(sum(n) filter (where standing = 'left'), 0) as left_count, coalesce(sum(n) filter (where standing = 'unreachable'), 0) as unreachable
    from truth group by 1, 2
  ), kept as (select * from people_totals t where t.newsletter_id = newsletter), apart as (
    select coalesce(w.kind, k.kind) as kind, coalesce(w.key, k.key) as key, coalesce(w.reading, 0) - coalesce(k.reading, 0) as reading,
      coalesce(w.waiting, 0) - coalesce(k.waiting, 0) as waiting, coalesce(w.left_count, 0) - coalesce(k.left_count, 0) as left_count,
      coalesce(w.unreachable, 0) - coalesce(k.unreachable, 0) as unreachable
    from wide w full join kept k on k.kind = w.kind and k.key = w.key
  ), mended as (
    insert into people_changes (newsletter_id, kind, key, reading, waiting, left_count, unreachable)
    select newsletter, kind, key, reading, waiting, left_count, unreachable from apart
    where reading <> 0 or waiting <> 0 or left_count <> 0 or unreachable <> 0 returning 1
  ) select count(*) into differing from mended;
  return differing;
end $$;
drop index readers_degree;
select recount_people(id) from newsletters;

-- Whoever gives readers a tag locks them so that nobody deletes them meanwhile, many at once; tags of whoever is deleted go with them.
alter table reader_tags drop constraint reader_tags_reader_id_fkey;
create function readers_tags_gone() returns trigger language plpgsql as $$
begin
  delete from reader_tags where reader_id in (select id from old_rows);
  return null;
end $$;
create trigger readers_tags_gone after delete on readers referencing old table as old_rows for each statement execute function readers_tags_gone();
`)
    .execute(db);
}

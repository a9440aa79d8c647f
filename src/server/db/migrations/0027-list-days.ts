import { type Kysely, sql } from 'kysely';
import { counted } from './0006-totals';

/**
 * Of each list: who reads it, and who left it, by the newsletter's local day on which they took that state. Kept by whatever changes a membership, however it came.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
${counted('list', 'list_days', ['newsletter_id uuid', 'list_id uuid', 'day date'], ['reading', 'gone'])}
create index on list_sums (newsletter_id, day);
create index on list_changes (newsletter_id, day);
alter table list_sums add foreign key (newsletter_id) references newsletters on delete cascade;
alter table list_months add foreign key (newsletter_id) references newsletters on delete cascade;
${(['insert', 'update', 'delete'] as const)
  .map((act) => {
    const rows = [
      act !== 'insert' ? 'select newsletter_id, list_id, state, since, -1 as n from old_rows' : '',
      act !== 'delete' ? 'select newsletter_id, list_id, state, since, 1 as n from new_rows' : '',
    ]
      .filter(Boolean)
      .join(' union all ');
    return `
create function list_days_${act}() returns trigger language plpgsql as $$
begin
  insert into list_changes (newsletter_id, list_id, day, reading, gone)
  select n.id, m.list_id, (m.since at time zone n.time_zone)::date, coalesce(sum(m.n) filter (where m.state = 'reading'), 0), coalesce(sum(m.n) filter (where m.state = 'left'), 0)
  from (${rows}) m join newsletters n on n.id = m.newsletter_id where m.state in ('reading', 'left') group by 1, 2, 3
  having coalesce(sum(m.n) filter (where m.state = 'reading'), 0) <> 0 or coalesce(sum(m.n) filter (where m.state = 'left'), 0) <> 0;
  return null;
end $$;
create trigger list_days_${act} after ${act} on memberships
  referencing ${act !== 'insert' ? 'old table as old_rows ' : ''}${act !== 'delete' ? 'new table as new_rows ' : ''}for each statement execute function list_days_${act}();`;
  })
  .join('\n')}

-- Holds them against the memberships; what differs is put right. Returns how many figures did.
create function recount_lists(newsletter uuid) returns int language plpgsql as $$
declare differing int;
begin
  with truth as (
    select m.list_id, (m.since at time zone n.time_zone)::date as day, count(*) filter (where m.state = 'reading') as reading, count(*) filter (where m.state = 'left') as gone
    from memberships m join newsletters n on n.id = m.newsletter_id where m.newsletter_id = newsletter and m.state in ('reading', 'left') group by 1, 2
  ), kept as (select * from list_days d where d.newsletter_id = newsletter), apart as (
    select coalesce(t.list_id, k.list_id) as list_id, coalesce(t.day, k.day) as day, coalesce(t.reading, 0) - coalesce(k.reading, 0) as reading, coalesce(t.gone, 0) - coalesce(k.gone, 0) as gone
    from truth t full join kept k on k.list_id = t.list_id and k.day = t.day
  ), mended as (
    insert into list_changes (newsletter_id, list_id, day, reading, gone)
    select newsletter, list_id, day, reading, gone from apart where reading <> 0 or gone <> 0 returning 1
  ) select count(*) into differing from mended;
  return differing;
end $$;
select recount_lists(id) from newsletters;
`)
    .execute(db);
}

import { type Kysely, sql } from 'kysely';

export const LETTER = [
  'recipients',
  'delivered',
  'bounced',
  'refused',
  'given_up',
  'cancelled',
  'opened_people',
  'opened_machines',
  'clicked',
  'left_count',
  'complained',
];
/** Those of a letter's counts that its copies say themselves: by their states, and by their marks. */
const RECOUNTED = ['delivered', 'bounced', 'refused', 'given_up', 'cancelled'];
const PEOPLE = ['reading', 'waiting', 'left_count', 'unreachable'];
const SOURCE = ['asked', 'confirmed', 'reading'];

const ints = (names: string[]) => names.map((name) => `${name} int not null default 0`).join(', ');
const sums = (names: string[]) => names.map((name) => `sum(${name})::int as ${name}`).join(', ');
const adds = (table: string, names: string[]) => names.map((name) => `${name} = ${table}.${name} + excluded.${name}`).join(', ');

/** What a letter's copies say of it by their marks, as SQL on a row of `deliveries`. */
export const MARKED: Record<string, string> = {
  opened_people: 'count(opened_at)',
  opened_machines: 'count(opened_by_machine_at)',
  clicked: 'count(clicked_at)',
};

const namesOf = (keys: string[]) => keys.map((key) => key.split(' ')[0]!);

/** The parts of a count and their sum, as views. */
export const views = (name: string, view: string, keys: string[], fields: string[]) => {
  const names = namesOf(keys).join(', ');
  return `create view ${name}_parts as select ${names}, ${fields.join(', ')} from ${name}_sums union all select ${names}, ${fields.join(', ')} from ${name}_changes;
create view ${view} as select ${names}, ${sums(fields)} from ${name}_parts group by ${names};`;
};
/** A letter's counts over all domains; those of a domain that is not among its largest stand under domain 0. */
export const letterView = (fields: string[]) =>
  `create view letter_counts as select newsletter_id, letter_id, ${sums(fields)} from letter_domain_counts group by newsletter_id, letter_id;`;

/** What folds a count's changes into its sums. */
export const fold = (name: string, keys: string[], fields: string[]) => {
  const all = namesOf(keys);
  const names = all.join(', ');
  const byDay = all.at(-1) === 'day';
  const others = all.slice(0, -1).join(', ');
  return `create function fold_${name}() returns int language plpgsql as $$
declare folded int;
begin
  with gone as (delete from ${name}_changes where ctid = any (array(select ctid from ${name}_changes limit 50000)) returning *),
  ${
    byDay
      ? `monthly as (insert into ${name}_months (${others}, month, ${fields.join(', ')}) select ${others}, date_trunc('month', day)::date, ${fields.map((field) => `sum(${field})`).join(', ')}
    from gone group by ${others}, date_trunc('month', day) on conflict (${others}, month) do update set ${adds(`${name}_months`, fields)}),`
      : ''
  }
  kept as (insert into ${name}_sums (${names}, ${fields.join(', ')}) select ${names}, ${fields.map((field) => `sum(${field})`).join(', ')} from gone group by ${names}
    on conflict (${names}) do update set ${adds(`${name}_sums`, fields)})
  select count(*) into folded from gone;
  return folded;
end $$;`;
};

/**
 * One count: changes are appended by whoever makes them, so that nobody waits for anybody; a worker folds them into sums; the view adds both,
 * so that what is read is right at any moment. The parts are for those who add up more of them than one key's, and need no sum in between. Where the
 * last key is a day, whole months are summed too, and `<name>_since` adds up from a day on out of months and the days before the first of them.
 */
export const counted = (name: string, view: string, keys: string[], fields: string[]) => {
  const all = namesOf(keys);
  const names = all.join(', ');
  const byDay = all.at(-1) === 'day';
  const others = all.slice(0, -1).join(', ');
  return `
create table ${name}_changes (${keys.map((key) => `${key} not null`).join(', ')}, ${ints(fields)});
create table ${name}_sums (${keys.map((key) => `${key} not null`).join(', ')}, ${ints(fields)}, primary key (${names}));
${views(name, view, keys, fields)}
${
  byDay
    ? `create table ${name}_months (${keys
        .slice(0, -1)
        .map((key) => `${key} not null`)
        .join(', ')}, month date not null, ${ints(fields)}, primary key (${others}, month));
create function ${name}_since(of uuid, since date) returns table (${keys
        .slice(1, -1)
        .join(', ')}, ${fields.map((field) => `${field} int`).join(', ')}) language sql stable as $$
  with first as (select (date_trunc('month', since - 1) + interval '1 month')::date as month)
  select ${[...all.slice(1, -1), ...fields].join(', ')} from ${name}_months where newsletter_id = of and month >= (select month from first)
  union all select ${[...all.slice(1, -1), ...fields].join(', ')} from ${name}_sums where newsletter_id = of and day >= since and day < (select month from first)
  union all select ${[...all.slice(1, -1), ...fields].join(', ')} from ${name}_changes where newsletter_id = of and day >= since
$$;`
    : ''
}
${fold(name, keys, fields)}`;
};

/** Holds the counts of letters that began since a day against their copies. One that is being started is not whole yet. */
export const recountLetters = (marked: Record<string, string>) => {
  const all = ['recipients', ...RECOUNTED, ...Object.keys(marked)];
  return `create function recount_letters(newsletter uuid, since date) returns int language plpgsql as $$
declare differing int;
begin
  with recent as (
    select id, sent_on from letters where newsletter_id = newsletter and sent_on >= since and state in ('sending', 'paused', 'stopped', 'sent')
  ), copies as (
    select d.*, coalesce(s.domain_id, 0) as counted_under from recent l join deliveries d on d.letter_id = l.id and d.sent_on = l.sent_on
    left join letter_sums s on s.newsletter_id = newsletter and s.letter_id = d.letter_id and s.domain_id = d.domain_id
    where d.sent_on >= since
  ), truth as (
    select letter_id, counted_under as domain_id, count(*) as recipients, ${RECOUNTED.map((state) => `count(*) filter (where state = '${state.replace('_', ' ')}') as ${state}`).join(', ')},
      ${Object.entries(marked)
        .map(([field, how]) => `${how} as ${field}`)
        .join(', ')} from copies group by 1, 2
  ), kept as (
    select * from letter_domain_counts c where c.newsletter_id = newsletter and c.letter_id in (select id from recent)
  ), apart as (
    select coalesce(t.letter_id, k.letter_id) as letter_id, coalesce(t.domain_id, k.domain_id) as domain_id,
      ${all.map((field) => `coalesce(t.${field}, 0) - coalesce(k.${field}, 0) as ${field}`).join(', ')}
    from truth t full join kept k on k.letter_id = t.letter_id and k.domain_id = t.domain_id
  ), mended as (
    insert into letter_changes (newsletter_id, letter_id, domain_id, ${all.join(', ')})
    select newsletter, letter_id, domain_id, ${all.join(', ')} from apart where ${all.map((field) => `${field} <> 0`).join(' or ')} returning 1
  ) select count(*) into differing from mended;
  return differing;
end $$;`;
};

/** Counts that the screens read, kept as things happen and checked each night against the rows. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
${counted('letter', 'letter_domain_counts', ['newsletter_id uuid', 'letter_id uuid', 'domain_id int'], LETTER)}
create index on letter_changes (letter_id);
create index on letter_sums (letter_id);
${letterView(LETTER)}

${counted('people', 'people_totals', ['newsletter_id uuid', 'kind text', 'key text'], PEOPLE)}
${counted('source', 'source_counts', ['newsletter_id uuid', 'dimension text', 'name text', 'day date'], SOURCE)}
-- People who began to read, and who read nothing any more, by their newsletter's local day.
${counted('day', 'daily_counts', ['day date', 'newsletter_id uuid'], ['joined', 'left_count'])}
create index on day_sums (newsletter_id, day);
alter table day_sums add foreign key (newsletter_id) references newsletters on delete cascade;
create index on source_sums (newsletter_id, day);
create index on source_months (newsletter_id, month);
alter table letter_sums add foreign key (newsletter_id) references newsletters on delete cascade;
alter table people_sums add foreign key (newsletter_id) references newsletters on delete cascade;
alter table source_sums add foreign key (newsletter_id) references newsletters on delete cascade;
alter table source_months add foreign key (newsletter_id) references newsletters on delete cascade;

-- All that is known of how somebody came, a row for each way to count it: on the day they came, and for each form over all days.
create function reader_ways(r readers) returns table (day date, dimension text, name text) language sql stable as $$
  select case when d.dimension like '% of %-%' then date '1970-01-01' else r.created_on end, d.dimension, left(d.name, 200) from (values
    ('page of ' || r.source_form_id, regexp_replace(r.source_page, '^https?://[^/]+|[?#].*$', '', 'g')), ('source of ' || r.source_form_id, r.source_name),
    ('campaign of ' || r.source_form_id, r.source_campaign),
    ('all', 'all'), ('form', r.source_form_id::text), ('placement', r.source_placement),
    ('page', regexp_replace(r.source_page, '^https?://|[?#].*$', '', 'g')), ('source', r.source_name), ('kind of source', r.source_class),
    ('medium', r.source_medium), ('campaign', r.source_campaign),
    ('first source', coalesce(nullif(r.first_touch->>'source', ''), substring(r.first_touch->>'referrer' from '^https?://(?:www\\.)?([^/:]+)'), 'direct'))
  ) d (dimension, name) where d.name <> '' and d.dimension <> ''
$$;

create function readers_arrived() returns trigger language plpgsql as $$
begin
  insert into source_changes (newsletter_id, day, dimension, name, asked, confirmed, reading)
  select n.newsletter_id, w.day, w.dimension, w.name, count(*), count(*) filter (where n.confirmed), count(*) filter (where n.standing = 'reading')
  from new_rows n cross join lateral reader_ways(n) w group by 1, 2, 3, 4;
  return null;
end $$;

create function people_change(newsletter uuid, kind text, key text, standing text, n int) returns void language sql as $$
  insert into people_changes (newsletter_id, kind, key, reading, waiting, left_count, unreachable)
  select newsletter, kind, key, case standing when 'reading' then n else 0 end, case standing when 'waiting' then n else 0 end,
         case standing when 'left' then n else 0 end, case standing when 'unreachable' then n else 0 end
  where standing <> 'none' and key is not null
$$;

create function reader_moved() returns trigger language plpgsql as $$
begin
  if new.standing is distinct from old.standing then
    insert into people_changes (newsletter_id, kind, key, reading, waiting, left_count, unreachable)
    select new.newsletter_id, p.kind, p.key,
           (new.standing = 'reading')::int - (old.standing = 'reading')::int, (new.standing = 'waiting')::int - (old.standing = 'waiting')::int,
           (new.standing = 'left')::int - (old.standing = 'left')::int, (new.standing = 'unreachable')::int - (old.standing = 'unreachable')::int
    from (select 'all' as kind, 'all' as key union all select 'source', new.source_name union all select 'form', new.source_form_id::text where new.source_form_id is not null
          union all select 'tag', t.tag from reader_tags t where t.reader_id = new.id) p;
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

-- What became of standings on lists: of their readers (whose own standing follows), and of the lists.
${(['insert', 'update', 'delete'] as const)
  .map((act) => {
    const rows = [
      act !== 'insert' ? 'select reader_id, list_id, newsletter_id, state, since, -1 as n from old_rows' : '',
      act !== 'delete' ? 'select reader_id, list_id, newsletter_id, state, since, 1 as n from new_rows' : '',
    ]
      .filter(Boolean)
      .join(' union all ');
    return `
create function memberships_${act}() returns trigger language plpgsql as $$
begin
  ${act === 'delete' ? '' : 'with moved as ('}update readers r set lists_reading = lists_reading + d.reading, lists_waiting = lists_waiting + d.waiting, lists_left = lists_left + d.gone,
    confirmed = r.confirmed or d.reading > 0
  from (select reader_id, ${act === 'delete' ? '' : 'max(since) as at, '}coalesce(sum(n) filter (where state = 'reading'), 0)::int as reading, coalesce(sum(n) filter (where state = 'waiting'), 0)::int as waiting,
          coalesce(sum(n) filter (where state = 'left'), 0)::int as gone from (${rows}) m group by reader_id) d
  where r.id = d.reader_id and (d.reading <> 0 or d.waiting <> 0 or d.gone <> 0)${
    act === 'delete'
      ? ''
      : ` returning r.newsletter_id, d.at, r.lists_reading - d.reading as before, r.lists_reading as after)
  insert into day_changes (day, newsletter_id, joined, left_count)
  select (m.at at time zone n.time_zone)::date, n.id, count(*) filter (where before = 0), count(*) filter (where after = 0)
  from moved m join newsletters n on n.id = m.newsletter_id where (before = 0) <> (after = 0) group by 1, 2`
  };
  insert into people_changes (newsletter_id, kind, key, reading, waiting, left_count, unreachable)
  select m.newsletter_id, 'list', m.list_id::text,
    coalesce(sum(n) filter (where m.state = 'reading' and r.address_state = 'fine'), 0), coalesce(sum(n) filter (where m.state = 'waiting'), 0),
    coalesce(sum(n) filter (where m.state = 'left'), 0), coalesce(sum(n) filter (where m.state = 'reading' and r.address_state <> 'fine'), 0)
  from (${rows}) m join readers r on r.id = m.reader_id group by 1, 3;
  return null;
end $$;
create trigger memberships_${act} after ${act} on memberships
  referencing ${act !== 'insert' ? 'old table as old_rows ' : ''}${act !== 'delete' ? 'new table as new_rows ' : ''}for each statement execute function memberships_${act}();`;
  })
  .join('\n')}

create function tags_insert() returns trigger language plpgsql as $$
begin
  perform people_change(r.newsletter_id, 'tag', t.tag, r.standing, count(*)::int) from new_rows t join readers r on r.id = t.reader_id group by r.newsletter_id, t.tag, r.standing;
  return null;
end $$;
create function tags_delete() returns trigger language plpgsql as $$
begin
  perform people_change(r.newsletter_id, 'tag', t.tag, r.standing, -count(*)::int) from old_rows t join readers r on r.id = t.reader_id group by r.newsletter_id, t.tag, r.standing;
  return null;
end $$;
create trigger tags_insert after insert on reader_tags referencing new table as new_rows for each statement execute function tags_insert();
create trigger tags_delete after delete on reader_tags referencing old table as old_rows for each statement execute function tags_delete();
create trigger readers_arrived after insert on readers referencing new table as new_rows for each statement execute function readers_arrived();
create trigger reader_moved after update of lists_reading, lists_waiting, lists_left, address_state, confirmed on readers for each row
  when (old.* is distinct from new.*) execute function reader_moved();

-- Holds a newsletter's totals against its rows and appends what differs; returns how many figures did.
create function recount_people(newsletter uuid) returns int language plpgsql as $$
declare differing int;
begin
  with truth as (
    select 'all' as kind, 'all' as key, standing, count(*)::int as n from readers where newsletter_id = newsletter group by 3
    union all select 'source', source_name, standing, count(*)::int from readers where newsletter_id = newsletter group by 2, 3
    union all select 'form', source_form_id::text, standing, count(*)::int from readers where newsletter_id = newsletter and source_form_id is not null group by 2, 3
    union all select 'tag', t.tag, r.standing, count(*)::int from reader_tags t join readers r on r.id = t.reader_id where t.newsletter_id = newsletter group by 2, 3
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
${recountLetters(MARKED)}
create function recount_sources(newsletter uuid) returns int language plpgsql as $$
declare differing int;
begin
  with truth as (
    select w.day, w.dimension, w.name, count(*) as asked, count(*) filter (where r.confirmed) as confirmed, count(*) filter (where r.standing = 'reading') as reading
    from readers r cross join lateral reader_ways(r) w where r.newsletter_id = newsletter group by 1, 2, 3
  ), kept as (select * from source_counts s where s.newsletter_id = newsletter), apart as (
    select coalesce(t.day, k.day) as day, coalesce(t.dimension, k.dimension) as dimension, coalesce(t.name, k.name) as name, coalesce(t.asked, 0) - coalesce(k.asked, 0) as asked,
      coalesce(t.confirmed, 0) - coalesce(k.confirmed, 0) as confirmed, coalesce(t.reading, 0) - coalesce(k.reading, 0) as reading
    from truth t full join kept k on k.day = t.day and k.dimension = t.dimension and k.name = t.name
  ), mended as (
    insert into source_changes (newsletter_id, day, dimension, name, asked, confirmed, reading)
    select newsletter, day, dimension, name, asked, confirmed, reading from apart where asked <> 0 or confirmed <> 0 or reading <> 0 returning 1
  ) select count(*) into differing from mended;
  return differing;
end $$;
`)
    .execute(db);
}

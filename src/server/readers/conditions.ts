import { type RawBuilder, sql } from 'kysely';
import { localDay } from '@/core/growth/days';
import {
  type CameBy,
  type Condition,
  type CopyFacts,
  dayAway,
  FIRST_NAME,
  type FieldTest,
  folded,
  type Known,
  leavesOf,
  lowest,
  type Moment,
  type ReaderFacts,
  UNSEEN_AMONG,
} from '@/core/readers/condition';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';

const yes = sql<boolean>`true`;
const no = sql<boolean>`false`;
type Yes = RawBuilder<boolean>;

/** When a newsletter's conditions are asked. */
export const momentOf = (ctx: Pick<Context, 'clock'>, newsletter: Pick<Newsletter, 'time_zone'>): Moment => {
  const now = ctx.clock.now();
  return { now, today: localDay(now, newsletter.time_zone) };
};

/** A page without its site and what follows its path, as it is counted. */
const PAGE = sql`regexp_replace(r.source_page, '^https?://|[?#].*$', '', 'g')`;
const CAME: Record<CameBy, RawBuilder<unknown>> = {
  source: sql`r.source_name`,
  campaign: sql`r.source_campaign`,
  medium: sql`r.source_medium`,
  form: sql`r.source_form_id::text`,
  placement: sql`r.source_placement`,
  page: PAGE,
  import: sql`r.source_import_id::text`,
};

const isId = (text: string) => /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i.test(text);

/**
 * A condition as SQL on a row `r` of `readers`: the other half of `core/readers/condition`, held equal to it by a property test. Saved segments are put in
 * before (`expand`). `known` says in which partition a letter's copies stand.
 */
export function conditionSql(condition: Condition, moment: Moment, known: Pick<Known, 'letters'>): Yes {
  const all = (of: Condition[]) => of.map((one) => conditionSql(one, moment, known));
  const since = (days: number) => new Date(moment.now.getTime() - days * 86_400_000);
  switch (condition.kind) {
    case 'all':
      return condition.of.length ? sql`(${sql.join(all(condition.of), sql` and `)})` : yes;
    case 'any':
      return condition.of.length ? sql`(${sql.join(all(condition.of), sql` or `)})` : no;
    case 'none':
      return sql`not ${conditionSql({ kind: 'any', of: condition.of }, moment, known)}`;
    case 'standing':
      // One alone can be walked along in the order of an index.
      return condition.is.length === 1 ? sql`r.standing = ${condition.is[0]}` : sql`r.standing = any(${condition.is}::text[])`;
    case 'list':
      return sql`exists (select 1 from memberships m where m.reader_id = r.id and m.list_id = ${condition.id}::uuid and m.state = ${condition.state})`;
    case 'tag':
      return sql`exists (select 1 from reader_tags t where t.newsletter_id = r.newsletter_id and t.reader_id = r.id and t.tag = ${condition.tag})`;
    case 'came by':
      // By its index.
      if (condition.what === 'import')
        return isId(condition.is) ? sql`(r.source_import_id is not null and r.source_import_id = ${condition.is}::uuid)` : no;
      return sql`(${CAME[condition.what]} is not null and ${CAME[condition.what]} = ${condition.is})`;
    case 'came':
      return sql`(${condition.from ? sql`r.created_at >= ${new Date(condition.from)}` : yes} and ${condition.until ? sql`r.created_at < ${new Date(condition.until)}` : yes})`;
    case 'came within':
      return sql`r.created_at >= ${since(condition.days)}`;
    case 'sent within':
      return sql`(r.last_sent_at is not null and r.last_sent_at >= ${since(condition.days)})`;
    case 'read within':
      return sql`(r.last_read_at is not null and r.last_read_at >= ${since(condition.days)})`;
    case 'clicked within':
      return sql`(r.last_clicked_at is not null and r.last_clicked_at >= ${since(condition.days)})`;
    case 'got':
      return within(sql`r.letters_got`, condition);
    case 'of the last': {
      const mask = lowest(condition.last).toString();
      const recent = condition.what === 'read' ? sql`r.recent_read` : sql`r.recent_clicked`;
      // Who has done it at all, or not at all, needs no counting.
      if (condition.most === 0 && condition.least === undefined)
        return sql`(r.letters_got >= ${condition.last} and ${recent} & ${mask}::bigint = 0)`;
      if (condition.least === 1 && condition.most === undefined) return sql`${recent} & ${mask}::bigint <> 0`;
      const many = within(sql`bit_count((${recent} & ${mask}::bigint)::bit(64))`, condition);
      return condition.most === undefined ? many : sql`(r.letters_got >= ${condition.last} and ${many})`;
    }
    case 'letter': {
      const sentOn = known.letters.get(condition.id);
      if (!sentOn) return no;
      const copy = sql`d.letter_id = ${condition.id}::uuid and d.sent_on = ${sentOn}::date and d.reader_id = r.id`;
      if (condition.what === 'got') return sql`exists (select 1 from deliveries d where ${copy} and d.state = 'delivered')`;
      if (condition.what === 'read') return sql`exists (select 1 from deliveries d where ${copy} and d.opened_at is not null)`;
      if (condition.what === 'unread') {
        const last = lowest(UNSEEN_AMONG).toString();
        return sql`(not r.text_alone and (r.recent_hidden & ${last}::bigint = 0 or r.recent_read & ${last}::bigint <> 0) and exists (select 1 from deliveries d
          where ${copy} and d.state = 'delivered' and d.opened_at is null and d.clicked_at is null and d.opened_by_machine_at is null)
          and exists (select 1 from letters l where l.id = ${condition.id}::uuid and l.counts_opens))`;
      }
      if (condition.link === undefined)
        return sql`exists (select 1 from deliveries d where ${copy} and d.clicked_at is not null)`;
      return sql`exists (select 1 from events e where e.letter_id = ${condition.id}::uuid and e.day = ${sentOn}::date and e.reader_id = r.id
        and e.kind = 'click' and not e.machine and e.link_position = ${condition.link})`;
    }
    case 'warmth':
      return sql`r.warmth between ${condition.from} and ${condition.until}`;
    case 'warmth unknown':
      return sql`r.warmth < 0`;
    case 'field':
      return fieldSql(condition.id, condition.test, moment.today);
    case 'language':
      return sql`coalesce(split_part(lower(r.source_language), '-', 1) = ${condition.is}, false)`;
    case 'zone':
      return sql`(r.zone is not null and r.zone = ${condition.is})`;
    case 'domain':
      return sql`coalesce(r.domain_id = (select d.id from mail_domains d where d.name = ${condition.is}), false)`;
    case 'segment':
      return no;
  }
}

const within = (value: RawBuilder<unknown>, { least, most }: { least?: number; most?: number }): Yes =>
  sql`(${least === undefined ? yes : sql`${value} >= ${least}`} and ${most === undefined ? yes : sql`${value} <= ${most}`})`;

function fieldSql(id: string, test: FieldTest, today: string): Yes {
  if (id === FIRST_NAME) {
    if (test.is === 'answered') return sql`coalesce(r.first_name <> '', false)`;
    if (test.is === 'one of') return sql`coalesce(r.first_name <> '' and r.first_name = any(${test.options}::text[]), false)`;
    return test.is === 'text' ? sql`coalesce(r.first_name <> '' and ${textSql(sql`r.name_key`, test)}, false)` : no;
  }
  const said = (what: RawBuilder<unknown>): Yes =>
    sql`exists (select 1 from reader_answers a where a.reader_id = r.id and a.field_id = ${id}::uuid and a.value not in ('""', '[]', 'null') and ${what})`;
  switch (test.is) {
    case 'answered':
      return said(yes);
    case 'text':
      return said(sql`a.folded is not null and ${textSql(sql`a.folded`, test)}`);
    case 'number':
      return said(
        sql`jsonb_typeof(a.value) = 'number' and ${within(sql`(case when jsonb_typeof(a.value) = 'number' then a.value::float8 end)`, { least: test.from, most: test.until })}`,
      );
    case 'day':
    case 'days': {
      const { from, until } = test.is === 'day' ? test : { from: dayAway(today, -test.back), until: dayAway(today, test.ahead) };
      const on = sql`left(a.folded, 10) collate "C"`;
      return said(
        sql`a.folded ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}' and ${from === undefined ? yes : sql`${on} >= ${from}`} and ${until === undefined ? yes : sql`${on} <= ${until}`}`,
      );
    }
    case 'yes':
      return said(sql`a.value = ${test.value ? 'true' : 'false'}::jsonb`);
    case 'one of':
      return said(
        sql`case jsonb_typeof(a.value) when 'array' then a.value ?| ${test.options}::text[] when 'string' then a.value #>> '{}' = any(${test.options}::text[]) else false end`,
      );
  }
}

function textSql(key: RawBuilder<unknown>, { how, text }: Extract<FieldTest, { is: 'text' }>): RawBuilder<unknown> {
  const asked = folded(text);
  // The first sixty letters are in the index.
  if (how === 'is') return sql`(left(${key}, 60) = left(${asked}::text, 60) and ${key} = ${asked})`;
  return how === 'contains' ? sql`strpos(${key}, ${asked}) > 0` : sql`starts_with(${key}, ${asked})`;
}

/** What the newsletter has that conditions can name; of its letters only those that these conditions do. */
export async function knownOf(db: Db, newsletterId: string, conditions: Condition[]): Promise<Known> {
  const segments = await db
    .selectFrom('segments')
    .select(['id', 'name', 'condition'])
    .where('newsletter_id', '=', newsletterId)
    .execute();
  const leaves = [...conditions, ...segments.map((segment) => segment.condition)].flatMap((one) => leavesOf(one));
  const letterIds = [...new Set(leaves.flatMap((leaf) => (leaf.kind === 'letter' ? [leaf.id] : [])))];
  const tagged = [...new Set(leaves.flatMap((leaf) => (leaf.kind === 'tag' ? [leaf.tag] : [])))];
  const [lists, tags, forms, imports, fields, letters] = await Promise.all([
    db.selectFrom('lists').select(['id', 'name']).where('newsletter_id', '=', newsletterId).execute(),
    tagged.length
      ? db.selectFrom('tags').select('name').where('newsletter_id', '=', newsletterId).where('name', 'in', tagged).execute()
      : [],
    db.selectFrom('forms').select(['id', 'name']).where('newsletter_id', '=', newsletterId).execute(),
    db.selectFrom('imports').select(['id', 'name']).where('newsletter_id', '=', newsletterId).execute(),
    db.selectFrom('fields').select(['id', 'label']).where('newsletter_id', '=', newsletterId).execute(),
    letterIds.length
      ? db
          .selectFrom('letters')
          .select(['id', 'sent_on'])
          .where('newsletter_id', '=', newsletterId)
          .where('id', 'in', letterIds)
          .execute()
      : [],
  ]);
  return {
    lists: new Map(lists.map((row) => [row.id, row.name])),
    tags: new Set(tags.map((row) => row.name)),
    forms: new Map(forms.map((row) => [row.id, row.name])),
    imports: new Map(imports.map((row) => [row.id, row.name])),
    fields: new Map(fields.map((row) => [row.id, row.label])),
    // One that has not left yet was got by nobody.
    letters: new Map(letters.map((row) => [row.id, row.sent_on ?? ''])),
    segments: new Map(segments.map(({ id, name, condition }) => [id, { name, condition }])),
  };
}

/** What conditions ask of these readers, as they stand now; of letters what became of those that `known` has. */
export async function factsOf(db: Db, readerIds: string[], known: Pick<Known, 'letters'>): Promise<Map<string, ReaderFacts>> {
  const { rows } = await sql<{
    id: string;
    standing: ReaderFacts['standing'];
    lists: ReaderFacts['lists'];
    tags: string[];
    came: Record<CameBy, string | null>;
    came_at: Date;
    sent: Date | null;
    read: Date | null;
    clicked: Date | null;
    got: number;
    recent_read: string;
    recent_clicked: string;
    recent_hidden: string;
    text_alone: boolean;
    warmth: number | null;
    language: string | null;
    zone: string | null;
    domain: string;
    first_name: string | null;
    answers: [string, ReaderFacts['answers'] extends ReadonlyMap<string, infer A> ? A : never][];
  }>`
    select r.id, r.standing, r.created_at as came_at, r.last_sent_at as sent, r.last_read_at as read, r.last_clicked_at as clicked, r.letters_got as got,
      r.recent_read, r.recent_clicked, r.recent_hidden, r.text_alone, nullif(r.warmth, -1) as warmth, r.source_language as language, r.zone, d.name as domain, r.first_name,
      jsonb_build_object(${sql.join(Object.entries(CAME).map(([name, value]) => sql`${name}::text, ${value}`))}) as came,
      coalesce((select jsonb_agg(jsonb_build_object('id', m.list_id, 'state', m.state)) from memberships m where m.reader_id = r.id), '[]') as lists,
      coalesce((select jsonb_agg(jsonb_build_array(a.field_id, a.value)) from reader_answers a where a.reader_id = r.id), '[]') as answers,
      array(select t.tag from reader_tags t where t.reader_id = r.id) as tags
    from readers r join mail_domains d on d.id = r.domain_id where r.id = any(${readerIds}::uuid[])`.execute(db);
  const named = [...known.letters.keys()];
  const copies = named.length
    ? await sql<{ reader_id: string; letter_id: string } & CopyFacts>`
        select d.reader_id, d.letter_id, d.state = 'delivered' as got, d.opened_at is not null as read, d.clicked_at is not null as clicked,
          d.opened_by_machine_at is not null or not (select l.counts_opens from letters l where l.id = d.letter_id) as hidden, array(select distinct e.link_position from events e where e.reader_id = d.reader_id and e.letter_id = d.letter_id and e.kind = 'click' and not e.machine
                and e.link_position is not null) as links
        from deliveries d where d.reader_id = any(${readerIds}::uuid[]) and d.letter_id = any(${named}::uuid[])`.execute(db)
    : { rows: [] };
  const letters = new Map<string, Map<string, CopyFacts>>();
  for (const { reader_id, letter_id, ...copy } of copies.rows) {
    const theirs = letters.get(reader_id) ?? new Map();
    letters.set(reader_id, theirs.set(letter_id, copy));
  }
  return new Map(
    rows.map((row) => [
      row.id,
      {
        id: row.id,
        standing: row.standing,
        lists: row.lists,
        tags: row.tags,
        came: row.came,
        cameAt: row.came_at,
        lastSentAt: row.sent,
        lastReadAt: row.read,
        lastClickedAt: row.clicked,
        got: row.got,
        recentRead: BigInt(row.recent_read),
        recentClicked: BigInt(row.recent_clicked),
        recentHidden: BigInt(row.recent_hidden),
        textAlone: row.text_alone,
        warmth: row.warmth,
        language: row.language,
        zone: row.zone,
        domain: row.domain,
        firstName: row.first_name,
        answers: new Map(row.answers),
        letters: letters.get(row.id) ?? new Map(),
      },
    ]),
  );
}

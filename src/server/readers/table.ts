import { type RawBuilder, sql } from 'kysely';
import type { Whom } from '@/core/readers/bulk';
import { type Condition, expand, folded, howManyOf, type Missing } from '@/core/readers/condition';
import type { ReaderState } from '@/core/readers/state';
import type { Order } from '@/core/readers/view';
import type { Degree } from '@/core/readers/warmth';
import type { Context, Newsletter } from '../context';
import { type Db, soon } from '../db/connection';
import { conditionSql, knownOf, momentOf } from './conditions';

export type TableRow = {
  id: string;
  address: string;
  firstName: string | null;
  standing: 'reading' | 'waiting' | 'left' | 'unreachable' | 'none';
  addressState: 'fine' | 'bouncing' | 'unreachable' | 'suppressed';
  cameAt: Date;
  lists: { name: string; state: ReaderState }[];
  tags: string[];
  source: string;
  form: string | null;
  page: string | null;
  /** Of the last twelve letters they got, or as many as they got. */
  read: { of: number; read: number };
  lastReadAt: Date | null;
  warmth: number | null;
};
/** Whom one asks for: words, and a condition. */
export type Asked = { find: string; condition: Condition };
export type TablePage = { rows: TableRow[]; next: string | null; missing: Missing[] };

const PAGE = 50;
const OF_THE_LAST = 12;
/** Up to so many who fit the words are sorted; where there are more, the first of them are soon found along the order. */
const MOST_SORTED = 2_000;

/** Text as itself within a pattern of `like`. */
export const likeOf = (text: string) => text.replace(/[\\%_]/g, '\\$&');

/** Words as SQL on a row `r`: three letters and more anywhere in address, name or a written answer, fewer at the beginning of an address. */
export function findSql(find: string): RawBuilder<boolean> {
  const words = folded(find.trim());
  if (words === '') return sql`true`;
  if ([...words].length < 3) return sql`r.address_key like ${`${likeOf(words)}%`}`;
  const like = `%${likeOf(words)}%`;
  return sql`(r.address_key like ${like} or r.name_key like ${like} or exists (select 1 from reader_answers a where a.reader_id = r.id and a.folded like ${like}))`;
}

/**
 * Who has these letters anywhere in address, name or answers, or null where that is more than are worth sorting. The planner cannot know whether the first
 * of an order are among them, and would look through half a million for a page; so it is given the indices of letters alone.
 */
async function withLetters(ctx: Context, newsletter: Newsletter, find: string): Promise<string[] | null> {
  const words = folded(find.trim());
  if ([...words].length < 3) return null;
  const like = `%${likeOf(words)}%`;
  const { rows } = await ctx.db.transaction().execute(async (trx) => {
    await sql`set local enable_seqscan = off`.execute(trx);
    await sql`set local enable_indexscan = off`.execute(trx);
    return sql<{ id: string }>`
      (select id from readers where newsletter_id = ${newsletter.id} and (address_key like ${like} or name_key like ${like}) limit ${MOST_SORTED + 1})
      union (select a.reader_id from reader_answers a join fields f on f.id = a.field_id where f.newsletter_id = ${newsletter.id} and a.folded like ${like} limit ${MOST_SORTED + 1})`.execute(
      trx,
    );
  });
  return rows.length > MOST_SORTED ? null : rows.map((row) => row.id);
}

/** A condition made ready for one newsletter at this moment. */
export async function readyCondition(
  ctx: Pick<Context, 'clock'>,
  db: Db,
  newsletter: Pick<Newsletter, 'id' | 'time_zone'>,
  condition: Condition,
): Promise<{ fits: RawBuilder<boolean>; missing: Missing[] }> {
  const known = await knownOf(db, newsletter.id, [condition]);
  const whole = expand(condition, known);
  return { fits: conditionSql(whole.condition, momentOf(ctx, newsletter), known), missing: whole.missing };
}

/** Whom an act or an export is for, as SQL on a row `r`: picked one by one, or all whom words and a condition fit. */
export async function whomSql(ctx: Context, db: Db, newsletter: Newsletter, whom: Whom): Promise<RawBuilder<unknown>> {
  if ('ids' in whom) return sql`r.id = any(${whom.ids}::uuid[])`;
  const { fits } = await readyCondition(ctx, db, newsletter, whom.condition);
  return sql`${findSql(whom.find)} and ${fits}`;
}

/** Is a place that came from outside one that the database can read? */
const FINE: Record<'timestamptz' | 'text' | 'int2', (value: string) => boolean> = {
  timestamptz: (value) => /^\d{4}-\d\d-\d\d [\d:.]+[+-]\d\d(:\d\d)?$/.test(value) && !Number.isNaN(Date.parse(value)),
  text: (value) => !value.includes('\0'),
  int2: (value) => /^-?\d{1,3}$/.test(value),
};
type Cursor = { value: string; id: string };
const ORDERED: Record<
  Order,
  { by: RawBuilder<unknown>; direction: 'asc' | 'desc'; value: RawBuilder<string>; type: keyof typeof FINE }
> = {
  newest: { by: sql`r.created_at`, direction: 'desc', value: sql`r.created_at::text`, type: 'timestamptz' },
  oldest: { by: sql`r.created_at`, direction: 'asc', value: sql`r.created_at::text`, type: 'timestamptz' },
  address: { by: sql`r.address_key`, direction: 'asc', value: sql`r.address_key`, type: 'text' },
  warmest: { by: sql`r.warmth`, direction: 'desc', value: sql`r.warmth::text`, type: 'int2' },
  coldest: { by: sql`r.warmth`, direction: 'asc', value: sql`r.warmth::text`, type: 'int2' },
};

/** A page of readers, by keyset: `before` is the `next` of the page before. */
export async function tablePage(
  ctx: Context,
  newsletter: Newsletter,
  { find, condition }: Asked,
  order: Order,
  before?: string,
): Promise<TablePage> {
  const [{ fits, missing }, few] = await Promise.all([
    readyCondition(ctx, ctx.db, newsletter, condition),
    withLetters(ctx, newsletter, find),
  ]);
  const cursor = before ? readCursor(before, order) : null;
  const { by, direction, value, type } = ORDERED[order];
  const way = direction === 'asc' ? sql`asc` : sql`desc`;
  const after = cursor
    ? sql`(${by}, r.id) ${direction === 'asc' ? sql`>` : sql`<`} (${cursor.value}::${sql.raw(type)}, ${cursor.id}::uuid)`
    : sql`true`;
  // Few are fetched first and sorted then, whatever the planner thinks of walking along the order until it meets them.
  const from = few ? sql`(select * from readers where id = any(${few}::uuid[]) offset 0)` : sql`readers`;
  const words = few ? sql`true` : findSql(find);
  const { rows } = await sql<TableRow & { place: string; got: number; recent: string; source_name: string }>`
    with page as (
      select r.*, ${by} as sorted, ${value} as place from ${from} r
      where r.newsletter_id = ${newsletter.id}::uuid and ${words} and ${fits} and ${after} order by ${by} ${way}, r.id ${way} limit ${PAGE + 1})
    select p.id, p.address, p.first_name as "firstName", p.standing, p.address_state as "addressState", p.created_at as "cameAt", p.source_name as source,
      f.name as form, p.source_page as page, p.last_read_at as "lastReadAt", nullif(p.warmth, -1) as warmth, p.place, p.letters_got as got, p.recent_read as recent,
      coalesce((select json_agg(json_build_object('name', l.name, 'state', m.state) order by l.position, l.created_at) from memberships m join lists l on l.id = m.list_id where m.reader_id = p.id), '[]') as lists,
      array(select t.tag from reader_tags t where t.reader_id = p.id order by t.tag) as tags
    from page p left join forms f on f.id = p.source_form_id order by p.sorted ${way}, p.id ${way}`.execute(ctx.db);
  const last = rows.length > PAGE ? rows[PAGE - 1] : undefined;
  return {
    rows: rows.slice(0, PAGE).map(({ place: _, got, recent, ...row }) => ({ ...row, read: ofTheLast(got, recent) })),
    next: last ? Buffer.from(JSON.stringify([order, last.place, last.id])).toString('base64url') : null,
    missing,
  };
}

function ofTheLast(got: number, recent: string): TableRow['read'] {
  const of = Math.min(got, OF_THE_LAST);
  return { of, read: howManyOf(BigInt(recent), of) };
}

function readCursor(text: string, order: Order): Cursor | null {
  try {
    const [of, value, id] = JSON.parse(Buffer.from(text, 'base64url').toString()) as unknown[];
    if (of !== order || typeof value !== 'string' || typeof id !== 'string' || !/^[0-9a-f-]{36}$/.test(id)) return null;
    return FINE[ORDERED[order].type](value) ? { value, id } : null;
  } catch {
    return null;
  }
}

/** How many people fit words and a condition. */
export async function howMany(
  ctx: Context,
  newsletter: Pick<Newsletter, 'id' | 'time_zone'>,
  { find, condition }: Asked,
): Promise<number> {
  const { fits } = await readyCondition(ctx, ctx.db, newsletter, condition);
  const { rows } = await sql<{ people: number }>`
    select count(*)::int as people from readers r where r.newsletter_id = ${newsletter.id}::uuid and ${findSql(find)} and ${fits}`.execute(
    ctx.db,
  );
  return rows[0]!.people;
}

/** So long an exact count is waited for, while somebody types. */
const PATIENCE_MS = 200;
/** Of so many in a hundred of the table's pages it is estimated then. */
const SAMPLED = 1;

/** About how many readers `r` of a newsletter fit, by a part of the table. */
export async function aboutHowMany(db: Db, newsletterId: string, fitting: RawBuilder<unknown>): Promise<number> {
  const { rows } = await sql<{ all: number; sampled: number; fit: number }>`
    select coalesce((select reading + waiting + left_count + unreachable from people_totals t where t.newsletter_id = ${newsletterId} and t.kind = 'all'), 0)::int as all,
      count(*)::int as sampled, count(*) filter (where ${fitting})::int as fit from readers r tablesample system (${sql.lit(SAMPLED)}) where r.newsletter_id = ${newsletterId}::uuid`.execute(
    db,
  );
  const { all, sampled, fit } = rows[0]!;
  return sampled ? Math.round((fit / sampled) * all) : 0;
}

/**
 * How many people fit words and a condition: exactly where that is found in the time that somebody who types waits, else about how many, by a part of
 * the table. Whoever gets an estimate asks again with patience (`howMany`).
 */
export async function howManySoon(
  ctx: Context,
  newsletter: Newsletter,
  asked: Asked,
  patienceMs = PATIENCE_MS,
): Promise<{ people: number; exact: boolean }> {
  const { fits } = await readyCondition(ctx, ctx.db, newsletter, asked.condition);
  const of = sql`r.newsletter_id = ${newsletter.id}::uuid`;
  const fitting = sql`${findSql(asked.find)} and ${fits}`;
  const exact = await soon(ctx.db, patienceMs, (trx) =>
    sql<{ people: number }>`select count(*)::int as people from readers r where ${of} and ${fitting}`.execute(trx),
  );
  if (exact) return { people: exact.rows[0]!.people, exact: true };
  return { people: await aboutHowMany(ctx.db, newsletter.id, fitting), exact: false };
}

export type Facets = {
  lists: { id: string; name: string; people: number; archived: boolean }[];
  tags: { name: string; people: number }[];
  sources: { name: string; people: number }[];
  forms: { id: string; name: string; people: number }[];
  warmth: Record<Degree | 'unknown', number>;
};
const MOST_SHOWN = 30;

/** What the readers can be narrowed to, with how many read there, from the kept totals. */
export async function facetsOf(ctx: Context, newsletter: Newsletter): Promise<Facets> {
  const totals = (kind: 'tag' | 'source') =>
    ctx.db
      .selectFrom('people_totals')
      .select(['key as name', 'reading as people'])
      .where('newsletter_id', '=', newsletter.id)
      .where('kind', '=', kind)
      .where('reading', '>', 0)
      .orderBy('reading', 'desc')
      .orderBy('key')
      .limit(MOST_SHOWN)
      .execute();
  const [lists, tags, sources, forms, degrees] = await Promise.all([
    ctx.db
      .selectFrom('lists as l')
      .leftJoin('people_totals as t', (join) =>
        join.onRef('t.newsletter_id', '=', 'l.newsletter_id').on('t.kind', '=', 'list').on(sql<boolean>`t.key = l.id::text`),
      )
      .select(['l.id', 'l.name', 't.reading', 'l.archived_at'])
      .where('l.newsletter_id', '=', newsletter.id)
      .orderBy('l.position')
      .orderBy('l.created_at')
      .execute(),
    totals('tag'),
    totals('source'),
    ctx.db
      .selectFrom('people_totals as t')
      .innerJoin('forms as f', (join) => join.on(sql<boolean>`f.id::text = t.key`))
      .select(['f.id', 'f.name', 't.reading as people'])
      .where('t.newsletter_id', '=', newsletter.id)
      .where('t.kind', '=', 'form')
      .where('t.reading', '>', 0)
      .orderBy('t.reading', 'desc')
      .limit(MOST_SHOWN)
      .execute(),
    ctx.db
      .selectFrom('people_totals')
      .select(['key', 'reading as people'])
      .where('newsletter_id', '=', newsletter.id)
      .where('kind', '=', 'warmth')
      .execute(),
  ]);
  const warmth: Facets['warmth'] = { warm: 0, mild: 0, cool: 0, cold: 0, unknown: 0 };
  for (const { key, people } of degrees) warmth[key as keyof typeof warmth] = people;
  return {
    lists: lists.map(({ reading, archived_at, ...list }) => ({ ...list, people: reading ?? 0, archived: archived_at !== null })),
    tags,
    sources,
    forms,
    warmth,
  };
}

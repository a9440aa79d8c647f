import { type RawBuilder, type Selectable, sql } from 'kysely';
import {
  ENDINGS,
  EXPORT_COLUMNS,
  type ExportColumn,
  type ExportKind,
  type ExportState,
  exportSchema,
  FETCH_DAYS,
} from '@/core/exporting';
import { asFault, Fault } from '@/core/faults';
import { counted, plural } from '@/core/growth/figures';
import { csvRow } from '@/core/importing/rows';
import type { Whom } from '@/core/readers/bulk';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction, isAway } from '../db/connection';
import type { ExportTable } from '../db/schema';
import { newId } from '../ids';
import { waitForErasing } from '../keeping/erase';
import { post } from '../mail/post';
import { whomSql } from '../readers/table';
import { partsOf } from './kept';
import { writeWhole } from './whole-out';

export type ExportLine = {
  id: string;
  kind: ExportKind;
  state: ExportState;
  cause: string | null;
  by: string;
  people: number;
  done: number;
  beganAt: Date;
  size: number;
  fetch: boolean;
};

/** So many readers stand in one part, which is one transaction. */
const PORTION = 20_000;
const DAY_MS = 86_400_000;

/** Begins to write a file of readers; a worker does it, and mails who asked once it can be fetched. Throws "invalid". */
export async function startExport(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name' | 'email'>,
  raw: unknown,
): Promise<{ id: string }> {
  const { kind, columns, whom } = check(exportSchema, raw);
  const fields = await ctx.db.selectFrom('fields').select('id').where('newsletter_id', '=', newsletter.id).execute();
  if (columns.some((column) => column.startsWith('field ') && !fields.some((field) => column === `field ${field.id}`)))
    throw new Fault('invalid', 'One of the columns is a field that is not there any more.');
  const who = await whomSql(ctx, ctx.db, newsletter, whom);
  const { rows } = await sql<{
    n: number;
  }>`select count(*)::int as n from readers r where r.newsletter_id = ${newsletter.id}::uuid and ${who}`.execute(ctx.db);
  return begin(ctx, newsletter, person, { kind, columns, whom, people: rows[0]!.n });
}

/** Begins to write the whole newsletter as a zip. */
export async function startWhole(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name' | 'email'>,
): Promise<{ id: string }> {
  const row = await ctx.db
    .selectFrom('people_totals')
    .select(sql<number>`reading + waiting + left_count + unreachable`.as('n'))
    .where('newsletter_id', '=', newsletter.id)
    .where('kind', '=', 'all')
    .executeTakeFirst();
  return begin(ctx, newsletter, person, { kind: 'newsletter', columns: [], whom: { ids: [] }, people: row?.n ?? 0 });
}

type Begun = { kind: ExportKind; columns: ExportColumn[]; whom: Whom; people: number };
async function begin(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name' | 'email'>,
  { kind, columns, whom, people }: Begun,
): Promise<{ id: string }> {
  const id = newId();
  const fileId = newId();
  const now = ctx.clock.now();
  await ctx.db.transaction().execute(async (trx) => {
    await waitForErasing(trx, newsletter.id);
    const name = `${newsletter.slug}-${kind === 'newsletter' ? 'whole' : 'readers'}-${now.toISOString().slice(0, 10)}.${ENDINGS[kind].ending}`;
    await trx.insertInto('kept_files').values({ id: fileId, newsletter_id: newsletter.id, name, made_at: now }).execute();
    await trx
      .insertInto('exports')
      .values({
        id,
        newsletter_id: newsletter.id,
        kind,
        columns: JSON.stringify(columns),
        whom: JSON.stringify(whom),
        file_id: fileId,
        people,
        by_name: person.name,
        by_email: person.email,
        began_at: now,
      })
      .execute();
  });
  return { id };
}

const STATE_SQL = sql`case when r.address_state = 'suppressed' then coalesce((select case s.reason when 'complaint' then 'complained' when 'hard bounce' then 'bounced' else 'left' end
  from suppressions s where s.newsletter_id = r.newsletter_id and s.address_key = r.address_key), 'left')
  when r.standing in ('reading', 'unreachable') then 'reading' when r.standing = 'waiting' then 'waiting' else 'left' end`;
const day = (of: RawBuilder<unknown>) => sql`to_char(${of} at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"')`;

/** Each column as SQL: as text, and whether that can hold anything that a CSV has to be careful with. */
const COLUMNS: Record<keyof typeof EXPORT_COLUMNS, { text: RawBuilder<unknown>; plain?: true }> = {
  address: { text: sql`r.address` },
  'first name': { text: sql`r.first_name` },
  state: { text: STATE_SQL, plain: true },
  lists: {
    text: sql`(select string_agg(l.name, ', ' order by l.position, l.created_at) from memberships m join lists l on l.id = m.list_id where m.reader_id = r.id and m.state = 'reading')`,
  },
  tags: { text: sql`(select string_agg(t.tag, ', ' order by t.tag) from reader_tags t where t.reader_id = r.id)` },
  came: { text: day(sql`r.created_at`), plain: true },
  agreed: { text: day(sql`(select min(m.joined_at) from memberships m where m.reader_id = r.id)`), plain: true },
  source: { text: sql`r.source_name` },
  form: { text: sql`(select f.name from forms f where f.id = r.source_form_id)` },
  page: { text: sql`r.source_page` },
  language: { text: sql`r.source_language` },
  zone: { text: sql`r.zone` },
  letters: { text: sql`r.letters_got::text`, plain: true },
  'last read': { text: day(sql`r.last_read_at`), plain: true },
  'last clicked': { text: day(sql`r.last_clicked_at`), plain: true },
  warmth: { text: sql`nullif(r.warmth, -1)::text`, plain: true },
  note: { text: sql`nullif(r.note, '')` },
};

const answerText = (
  id: string,
) => sql`(select case jsonb_typeof(a.value) when 'array' then (select string_agg(v, '; ') from jsonb_array_elements_text(a.value) v) when 'boolean' then case when a.value = 'true' then 'yes' else 'no' end
  else a.value #>> '{}' end from reader_answers a where a.reader_id = r.id and a.field_id = ${id}::uuid)`;
const answerJson = (id: string) =>
  sql`(select a.value from reader_answers a where a.reader_id = r.id and a.field_id = ${id}::uuid)`;

type Named = { column: ExportColumn; name: string };
/** One reader as a line of the file. */
function lineSql(kind: ExportKind, columns: Named[]): RawBuilder<unknown> {
  const own = (column: ExportColumn) => (column.startsWith('field ') ? column.slice(6) : null);
  if (kind === 'json lines') {
    const pairs = columns.map(({ column, name }) => {
      const id = own(column);
      if (id) return sql`${name}::text, ${answerJson(id)}`;
      if (column === 'lists')
        return sql`${name}::text, (select coalesce(json_agg(json_build_object('name', l.name, 'state', m.state, 'since', m.since) order by l.position), '[]') from memberships m join lists l on l.id = m.list_id where m.reader_id = r.id)`;
      if (column === 'tags')
        return sql`${name}::text, (select coalesce(json_agg(t.tag order by t.tag), '[]') from reader_tags t where t.reader_id = r.id)`;
      if (column === 'letters') return sql`${name}::text, r.letters_got`;
      if (column === 'warmth') return sql`${name}::text, nullif(r.warmth, -1)`;
      return sql`${name}::text, ${COLUMNS[column as keyof typeof COLUMNS].text}`;
    });
    return sql`json_build_object(${sql.join(pairs)})::text || E'\n'`;
  }
  const cells = columns.map(({ column }) => {
    const id = own(column);
    if (id) return sql`csv_cell(${answerText(id)})`;
    const { text, plain } = COLUMNS[column as keyof typeof COLUMNS];
    return plain ? sql`coalesce(${text}, '')` : sql`csv_cell(${text})`;
  });
  return sql`${sql.join(cells, sql` || ',' || `)} || E'\r\n'`;
}

/** Works on an export until it has ended, or somebody stopped it. */
export async function workExport(ctx: Context, id: string): Promise<void> {
  try {
    const row = await ctx.db.selectFrom('exports').selectAll().where('id', '=', id).executeTakeFirst();
    if (row?.kind === 'newsletter') await workWhole(ctx, row);
    else while (await inTransaction(ctx.db, (trx) => portion(ctx, trx, id)));
  } catch (error) {
    if (isAway(error)) throw error;
    if (!(error instanceof Fault)) ctx.log.error({ err: error, export: id }, 'an export failed');
    await ctx.db
      .updateTable('exports')
      .set({ state: 'failed', cause: asFault(error).sentence, ended_at: ctx.clock.now() })
      .where('id', '=', id)
      .where('state', 'in', ['waiting', 'working'])
      .execute();
  }
}

/** Somebody stopped it. */
class Stopped extends Error {}

async function workWhole(ctx: Context, row: Selectable<ExportTable>): Promise<void> {
  if (!['waiting', 'working'].includes(row.state)) return;
  if (!row.file_id) throw new Fault('expired', 'The file is no longer here. Take it out again.');
  const open = ctx.db.updateTable('exports').where('id', '=', row.id).where('state', 'in', ['waiting', 'working']);
  const newsletter = await ctx.db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', row.newsletter_id)
    .executeTakeFirstOrThrow();
  if (newsletter.removed_at) return;
  try {
    const written = await writeWhole(ctx, newsletter, { id: row.file_id, by: row.by_name }, async (done, of) => {
      const { numUpdatedRows } = await open.set({ state: 'working', done, people: of }).executeTakeFirst();
      if (!numUpdatedRows) throw new Stopped();
    });
    if (!written) return;
    await ctx.db.transaction().execute(async (trx) => {
      const { numUpdatedRows } = await trx
        .updateTable('exports')
        .set({ state: 'done', ended_at: ctx.clock.now() })
        .where('id', '=', row.id)
        .where('state', 'in', ['waiting', 'working'])
        .executeTakeFirst();
      if (numUpdatedRows) await tellReady(ctx, trx, newsletter, row.by_email, null);
    });
  } catch (error) {
    if (!(error instanceof Stopped)) throw error;
  }
}

/**
 * Writes the next part of the file, with how far it is, in one transaction: whoever comes after a crash goes on behind the last reader that stands in it,
 * nobody left out and nobody twice. False when nothing is left.
 */
export async function portion(ctx: Context, db: Db, id: string): Promise<boolean> {
  const row = await db.selectFrom('exports').selectAll().where('id', '=', id).forUpdate().executeTakeFirst();
  if (!row || !['waiting', 'working'].includes(row.state)) return false;
  if (!row.file_id) throw new Fault('expired', 'The file is no longer here. Take them out again.');
  const newsletter = await db.selectFrom('newsletters').selectAll().where('id', '=', row.newsletter_id).executeTakeFirstOrThrow();
  if (newsletter.removed_at) return false;
  const fields = new Map(
    (await db.selectFrom('fields').select(['id', 'label']).where('newsletter_id', '=', newsletter.id).execute()).map((field) => [
      field.id,
      field.label,
    ]),
  );
  const columns = row.columns.map(
    (column): Named => ({
      column,
      name: column.startsWith('field ')
        ? (fields.get(column.slice(6)) ?? 'A field that is gone')
        : EXPORT_COLUMNS[column as keyof typeof EXPORT_COLUMNS],
    }),
  );
  const who = await whomSql(ctx, db, newsletter, row.whom);
  // A mark at the beginning, by which programs that do not ask read it as UTF-8.
  const head = row.parts === 0 && row.kind === 'csv' ? `\ufeff${csvRow(columns.map(({ name }) => name))}` : '';
  const { rows } = await sql<{ n: number; last: string | null; size: number }>`
    with page as materialized (
      select r.* from readers r where r.newsletter_id = ${newsletter.id}::uuid and ${who} and ${row.upto ? sql`r.id > ${row.upto}::uuid` : sql`true`} order by r.id limit ${PORTION}
    ), written as (
      insert into kept_parts (file_id, n, bytes)
      select ${row.file_id}::uuid, ${row.parts}::int, convert_to(${head} || coalesce(string_agg(line, '' order by id), ''), 'UTF8')
      from (select r.id, ${lineSql(row.kind, columns)} as line from page r) l
      having count(*) > 0 or ${head !== ''} returning octet_length(bytes) as size
    ) select (select count(*)::int from page) as n, (select id from page order by id desc limit 1) as last, coalesce((select size from written), 0) as size`.execute(
    db,
  );
  const { n, last, size } = rows[0]!;
  await sql`update kept_files set size = size + ${size} where id = ${row.file_id}`.execute(db);
  if (n === PORTION) {
    await db
      .updateTable('exports')
      .set({ state: 'working', parts: row.parts + 1, done: row.done + n, upto: last })
      .where('id', '=', id)
      .execute();
    return true;
  }
  await db.updateTable('kept_files').set({ whole: true }).where('id', '=', row.file_id).execute();
  await db
    .updateTable('exports')
    .set({
      state: 'done',
      parts: row.parts + 1,
      done: row.done + n,
      upto: last ?? row.upto,
      ended_at: ctx.clock.now(),
      whom: JSON.stringify({ ids: [] }),
    })
    .where('id', '=', id)
    .execute();
  await tellReady(ctx, db, newsletter, row.by_email, row.done + n);
  return false;
}

/** Mails whoever asked for it that a file of so many readers, or of the whole newsletter (null), can be fetched, for whoever is signed in and may. */
async function tellReady(ctx: Context, db: Db, newsletter: Newsletter, to: string, people: number | null): Promise<void> {
  const whole = people === null;
  const what = whole ? '' : counted(people, 'reader', 'readers');
  const personal = whole
    ? 'It is personal data of everybody in it'
    : `${plural(people, 'It is', 'They are')} somebody’s personal data`;
  const heading = whole ? `All of ${newsletter.name}, as a file` : `${what} of ${newsletter.name}, as a file`;
  await post(ctx, db, {
    newsletterId: null,
    kind: 'file',
    to,
    subject: heading,
    notice: {
      name: newsletter.name,
      colour: newsletter.colour,
      heading,
      paragraphs: [
        `The file that you asked for is ready, with ${whole ? 'the whole newsletter' : what}. It can be fetched for ${FETCH_DAYS} days by whoever is signed in and may ${whole ? 'do everything with' : 'change'} this newsletter.`,
        `${personal}: keep the file where nobody else reads it, and delete it when it has served.`,
      ],
      link: { label: 'Fetch it', url: `${ctx.config.webOrigin}/desk/${newsletter.slug}/readers/export` },
      footer: [`You get this mail because you took ${whole ? 'this newsletter out' : 'readers out of this newsletter'}.`],
    },
  });
}

/** Stops an export; what was written of it goes. */
export async function stopExport(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const row = await ctx.db
    .updateTable('exports')
    .set({ state: 'stopped', ended_at: ctx.clock.now() })
    .where('id', '=', id)
    .where('newsletter_id', '=', newsletter.id)
    .where('state', 'in', ['waiting', 'working'])
    .returning('file_id')
    .executeTakeFirst();
  if (row?.file_id) await ctx.db.deleteFrom('kept_files').where('id', '=', row.file_id).execute();
}

/** Throws the file of an export away. */
export async function dropExport(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const row = await ctx.db
    .deleteFrom('exports')
    .where('id', '=', id)
    .where('newsletter_id', '=', newsletter.id)
    .where('state', 'not in', ['waiting', 'working'])
    .returning('file_id')
    .executeTakeFirst();
  if (row?.file_id) await ctx.db.deleteFrom('kept_files').where('id', '=', row.file_id).execute();
}

/** A newsletter's exports of the last days, the newest first. */
export async function exportsOf(ctx: Context, newsletter: Newsletter): Promise<ExportLine[]> {
  const rows = await ctx.db
    .selectFrom('exports as e')
    .leftJoin('kept_files as f', 'f.id', 'e.file_id')
    .select([
      'e.id',
      'e.kind',
      'e.state',
      'e.cause',
      'e.by_name as by',
      'e.people',
      'e.done',
      'e.began_at as beganAt',
      'f.size',
      'e.ended_at',
    ])
    .where('e.newsletter_id', '=', newsletter.id)
    .where('e.began_at', '>', new Date(ctx.clock.now().getTime() - FETCH_DAYS * DAY_MS))
    .orderBy('e.began_at', 'desc')
    .orderBy('e.id', 'desc')
    .limit(50)
    .execute();
  return rows.map(({ size, ended_at: _, ...row }) => ({
    ...row,
    size: Number(size ?? 0),
    fetch: row.state === 'done' && size !== null,
  }));
}

/**
 * A finished file, whole or from one of its bytes on, for as long as it can be fetched. Throws "not-found" and "expired".
 */
export async function exportFile(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  from = 0,
): Promise<{ kind: ExportKind; name: string; type: string; size: number; bytes: AsyncGenerator<Uint8Array> }> {
  const row = await ctx.db
    .selectFrom('exports as e')
    .leftJoin('kept_files as f', 'f.id', 'e.file_id')
    .select(['e.kind', 'e.ended_at', 'e.state', 'f.id as fileId', 'f.name', 'f.size'])
    .where('e.id', '=', id)
    .where('e.newsletter_id', '=', newsletter.id)
    .executeTakeFirst();
  if (row?.state !== 'done' || !row.ended_at) throw new Fault('not-found', 'There is no such file.');
  if (!row.fileId || ctx.clock.now().getTime() - row.ended_at.getTime() > FETCH_DAYS * DAY_MS)
    throw new Fault('expired', `A file can be fetched for ${FETCH_DAYS} days. Take the readers out again.`);
  return {
    kind: row.kind,
    name: row.name!,
    type: ENDINGS[row.kind].type,
    size: Number(row.size),
    bytes: after(partsOf(ctx, row.fileId), from),
  };
}

/** What stands behind the first so many bytes. */
async function* after(parts: AsyncGenerator<Buffer>, skip: number): AsyncGenerator<Uint8Array> {
  let left = skip;
  for await (const part of parts) {
    if (left >= part.length) left -= part.length;
    else {
      yield left ? part.subarray(left) : part;
      left = 0;
    }
  }
}

/** Forgets exports that can no longer be fetched, with their files. */
export async function forgetOldExports(ctx: Context): Promise<void> {
  const before = new Date(ctx.clock.now().getTime() - FETCH_DAYS * DAY_MS);
  await sql`with gone as (delete from exports where began_at < ${before} and state not in ('waiting', 'working') returning file_id) delete from kept_files where id in (select file_id from gone)`.execute(
    ctx.db,
  );
}

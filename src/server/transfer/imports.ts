import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { FIELD_KINDS, type FieldKind, newField } from '@/core/forms/fields';
import { type Column, matchColumns, PARTS } from '@/core/importing/columns';
import { Decoding, type Dialect, HEAD_BYTES, sniff } from '@/core/importing/dialect';
import {
  type Found,
  type ImportPlan,
  type ImportState,
  MOST_BYTES,
  planSchema,
  type Reading,
  type RowKind,
  readingSchema,
  UNDO_DAYS,
} from '@/core/importing/import';
import { csvRow, type FileRow, RowReader } from '@/core/importing/rows';
import { orderOf } from '@/core/importing/values';
import { type Agreement, agreementSchema } from '@/core/readers/bulk';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { keepFields } from '../forms/fields';
import { newId } from '../ids';
import { keepFile, partsOf } from './kept';

/** An example of a kind of row. */
export type Example = { row: number; address: string | null; firstName: string | null; why: string | null };
export type ImportPage = {
  id: string;
  name: string;
  state: ImportState;
  cause: string | null;
  by: string;
  beganAt: Date;
  broughtAt: Date | null;
  dialect: Dialect;
  columns: Column[];
  /** Columns that could each be the address. */
  addresses: number[];
  /** Whether days written as numbers are clear. */
  dates: 'day first' | 'month first' | 'unclear' | null;
  plan: ImportPlan | null;
  consent: Agreement | null;
  found: Found | null;
  examples: Partial<Record<RowKind, Example[]>>;
  /** How much of it is done, 0 to 1. */
  progress: number;
  result: Partial<Record<RowKind, number>>;
  undo: boolean;
};

/** So much of a newsletter may wait to be brought or fetched. */
const MOST_KEPT_BYTES = 1_000_000_000;
const SAMPLE_ROWS = 200;
const EXAMPLES = 3;
const DAY_MS = 86_400_000;

/** The first rows of a file. */
function firstRows(head: Uint8Array, dialect: Dialect): FileRow[] {
  const reader = new RowReader(dialect);
  const rows = reader.push(new Decoding(dialect.encoding).push(head.subarray(0, HEAD_BYTES)));
  return (rows.length < SAMPLE_ROWS ? [...rows, ...reader.end()] : rows).slice(0, SAMPLE_ROWS);
}

function matched(head: Uint8Array, dialect: Dialect, fields: { id: string; key: string; label: string }[]) {
  const rows = firstRows(head, dialect).map((row) => row.cells);
  if (dialect.shape === 'lines') {
    const { columns } = matchColumns(null, rows, 2, []);
    return {
      columns: columns
        .slice(0, 2)
        .map((column, at): Column => ({ ...column, name: at ? 'Name' : 'Address', part: at ? 'name' : 'address' })),
      addresses: [],
      dates: null,
    };
  }
  const found = matchColumns(
    dialect.header ? (rows[0] ?? []) : null,
    dialect.header ? rows.slice(1) : rows,
    dialect.columns,
    fields,
  );
  const at = found.columns.findIndex((column) => column.part === 'agreed');
  return { ...found, dates: at < 0 ? null : orderOf(rows.slice(dialect.header ? 1 : 0).map((row) => row[at] ?? '')) };
}

/**
 * Takes a file in, or pasted text, and finds out how it is to be read. Nothing of it is brought. Throws "invalid" for what is no text of readers, with a
 * sentence that says what it is.
 */
export async function beginImport(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  name: string,
  stream: AsyncIterable<Uint8Array>,
): Promise<{ id: string }> {
  const { rows } = await sql<{
    size: string;
  }>`select coalesce(sum(size), 0) as size from kept_files where newsletter_id = ${newsletter.id}`.execute(ctx.db);
  if (Number(rows[0]!.size) > MOST_KEPT_BYTES)
    throw new Fault('too-many', 'Files of more than a gigabyte wait here already. Throw some of them away first.');
  const file = await keepFile(ctx, newsletter, name, stream, MOST_BYTES);
  const found = sniff(file.head.subarray(0, HEAD_BYTES), { whole: file.size <= HEAD_BYTES, isUtf8: file.isUtf8 });
  if (!found.ok) {
    await ctx.db.deleteFrom('kept_files').where('id', '=', file.id).execute();
    throw new Fault('invalid', found.sentence);
  }
  const id = newId();
  await ctx.db
    .insertInto('imports')
    .values({
      id,
      newsletter_id: newsletter.id,
      name: name.slice(0, 120) || 'Pasted readers',
      file_id: file.id,
      dialect: JSON.stringify(found.dialect),
      columns: JSON.stringify(matched(file.head, found.dialect, await ownFields(ctx, newsletter))),
      by_name: person.name,
      began_at: ctx.clock.now(),
    })
    .execute();
  return { id };
}

const ownFields = (ctx: Context, newsletter: Newsletter) =>
  ctx.db
    .selectFrom('fields')
    .select(['id', 'key', 'label', 'kind', 'options'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .execute();

async function rowOf(ctx: Context, newsletter: Newsletter, id: string) {
  const row = await ctx.db
    .selectFrom('imports')
    .selectAll()
    .where('id', '=', id)
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no such import.');
  return row;
}

/** Reads the file in another way than was found out, and matches its columns anew. Throws "conflict" once it is being brought. */
export async function readAnotherWay(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const reading: Reading = check(readingSchema, raw);
  const row = await rowOf(ctx, newsletter, id);
  if (row.state !== 'asking' && row.state !== 'looked') throw new Fault('conflict', 'It is being worked on. Stop it first.');
  const first = row.file_id ? await partsOf(ctx, row.file_id).next() : null;
  if (!first || first.done) throw new Fault('expired', 'The file is no longer here. Bring it again.');
  const delimiter = reading.delimiter === 'tab' ? '\t' : reading.delimiter;
  const dialect: Dialect = { ...row.dialect, ...reading, delimiter };
  const widths = firstRows(first.value, { ...dialect, columns: 0 }).map(({ cells }) => cells.length);
  dialect.columns = widths.sort((a, b) => a - b)[Math.floor(widths.length / 2)] ?? 1;
  await ctx.db
    .updateTable('imports')
    .set({
      dialect: JSON.stringify(dialect),
      columns: JSON.stringify(matched(first.value, dialect, await ownFields(ctx, newsletter))),
      state: 'asking',
      plan: null,
      found: null,
    })
    .where('id', '=', id)
    .execute();
}

/** What a form says of each column, in their order. */
const partsIn = (raw: Record<string, unknown>, columns: number) =>
  Array.from({ length: columns }, (_, at) => String(raw[`part ${at}`] ?? 'leave out'));

/**
 * Begins to look through all of a file, as the writer says it is to be read; a worker does it, and brings nothing. Fields that are to be made are made.
 * Throws "invalid" where it is not said which column is the address, or two are the same.
 */
export async function lookThrough(ctx: Context, newsletter: Newsletter, id: string, raw: Record<string, unknown>): Promise<void> {
  const row = await rowOf(ctx, newsletter, id);
  if (row.state !== 'asking' && row.state !== 'looked') throw new Fault('conflict', 'It is being worked on already.');
  if (!row.file_id) throw new Fault('expired', 'The file is no longer here. Bring it again.');
  const { columns } = row.columns;
  const plan = check(planSchema, {
    parts: partsIn(raw, columns.length),
    dates: raw.dates || 'day first',
    listId: raw.listId,
    tag: raw.tag ?? '',
  });
  const addresses = plan.parts.filter((part) => part === 'address').length;
  if (addresses !== 1) {
    const sentence = addresses ? 'Only one column can be the address.' : 'Say which column is the address.';
    throw new Fault(
      'invalid',
      sentence,
      Object.fromEntries(
        plan.parts
          .flatMap((part, at) => (addresses && part !== 'address' ? [] : [[`part ${at}`, sentence]]))
          .slice(0, addresses ? 9 : 1),
      ),
    );
  }
  const twice = plan.parts.findIndex(
    (part, at) => part !== 'leave out' && !part.startsWith('new ') && plan.parts.indexOf(part) !== at,
  );
  if (twice >= 0)
    throw new Fault('invalid', 'Two columns are said to be the same.', { [`part ${twice}`]: 'Another column is this already.' });
  const fields = await ownFields(ctx, newsletter);
  const known = plan.parts.every(
    (part) =>
      (PARTS as readonly string[]).includes(part) ||
      fields.some((field) => part === `field ${field.id}`) ||
      FIELD_KINDS.some((kind) => part === `new ${kind}`),
  );
  if (!known) throw new Fault('invalid', 'One of the columns is said to be something that is not there any more.');
  const order = await orderIn(ctx, { ...row, file_id: row.file_id }, plan.parts, fields);
  if (order === 'unclear' && !raw.dates)
    throw new Fault('invalid', 'Say how days are written in it.', { dates: 'Say how days are written in it.' });
  if (!raw.dates && order && order !== 'unclear') plan.dates = order;
  await inTransaction(ctx.db, async (trx) => {
    const list = await trx
      .selectFrom('lists')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', plan.listId)
      .where('archived_at', 'is', null)
      .executeTakeFirst();
    if (!list) throw new Fault('not-found', 'There is no such list any more.');
    for (const [at, part] of plan.parts.entries()) {
      if (!part.startsWith('new ')) continue;
      const kind = part.slice(4) as FieldKind;
      const label = columns[at]!.name.replace(/\s+/g, ' ').slice(0, 80);
      const key = await freeKey(trx, newsletter, label, kind);
      await keepFields(ctx, trx, newsletter, [newField(key, kind, label)]);
      const made = await trx
        .selectFrom('fields')
        .select('id')
        .where('newsletter_id', '=', newsletter.id)
        .where('key', '=', key)
        .executeTakeFirstOrThrow();
      plan.parts[at] = `field ${made.id}`;
    }
    await trx
      .updateTable('imports')
      .set({
        plan: JSON.stringify({ plan, consent: null }),
        columns: JSON.stringify({ ...row.columns, columns: columns.map((column, at) => ({ ...column, part: plan.parts[at]! })) }),
        state: 'looking',
        read_bytes: '0',
        found: null,
        cause: null,
      })
      .where('id', '=', id)
      .where('state', 'in', ['asking', 'looked'])
      .execute();
  });
}

/** How days are written in the columns that hold some, as far as the first rows tell. */
async function orderIn(
  ctx: Context,
  { file_id, dialect }: { file_id: string; dialect: Dialect },
  parts: ImportPlan['parts'],
  fields: { id: string; kind: FieldKind }[],
) {
  const isDate = (part: string) =>
    part === 'agreed' ||
    part.startsWith('new date') ||
    fields.some((field) => part === `field ${field.id}` && field.kind.startsWith('date'));
  const at = parts.flatMap((part, n) => (isDate(part) ? [n] : []));
  const first = at.length ? await partsOf(ctx, file_id).next() : null;
  if (!first || first.done) return null;
  return orderOf(firstRows(first.value, dialect).flatMap(({ cells }) => at.map((n) => cells[n] ?? '')));
}

/** A key for a new field that no other of another kind has. */
async function freeKey(db: Context['db'], newsletter: Newsletter, label: string, kind: FieldKind): Promise<string> {
  const base = (
    label
      .normalize('NFKD')
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '_')
      .replace(/^[_0-9]+|_+$/g, '') || 'field'
  ).slice(0, 34);
  const taken = new Map(
    (await db.selectFrom('fields').select(['key', 'kind']).where('newsletter_id', '=', newsletter.id).execute()).map((field) => [
      field.key,
      field.kind,
    ]),
  );
  const reserved = base === 'email' || base === 'first_name' ? `${base}_brought` : base;
  for (let n = 1; ; n += 1) {
    const key = n === 1 ? reserved : `${reserved}_${n}`;
    if (!taken.has(key) || taken.get(key) === kind) return key;
  }
}

/**
 * Begins to bring what was looked through; a worker does it. Throws "invalid" without an answer to the consent question, and "conflict" where the file
 * looks bought: then its people can only be asked, or not be brought at all.
 */
export async function bringIn(ctx: Context, newsletter: Newsletter, id: string, raw: Record<string, unknown>): Promise<void> {
  const row = await rowOf(ctx, newsletter, id);
  if (row.state !== 'looked' || !row.plan || !row.found) throw new Fault('conflict', 'Look through it first.');
  const consent = check(agreementSchema, { how: raw.how, said: raw.said ?? '' });
  const { verdict } = row.found.risk;
  if (verdict === 'refuse') throw new Fault('conflict', 'These addresses look bought or scraped, and are not brought.');
  if (verdict === 'ask' && consent.how !== 'asked')
    throw new Fault('conflict', 'These addresses have to be asked by a confirmation letter, for the reasons said above.', {
      how: 'Ask them by a confirmation letter.',
    });
  const { numUpdatedRows } = await ctx.db
    .updateTable('imports')
    .set({ plan: JSON.stringify({ ...row.plan, consent }), state: 'bringing', upto: 0, brought_at: ctx.clock.now() })
    .where('id', '=', id)
    .where('state', '=', 'looked')
    .executeTakeFirst();
  if (!numUpdatedRows) throw new Fault('conflict', 'It is being brought already.');
}

/** Stops an import where it stands: what was brought stays, and can be taken back. Looking through it can begin again. */
export async function stopImport(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const of = ctx.db.updateTable('imports').where('id', '=', id).where('newsletter_id', '=', newsletter.id);
  await of.set({ state: 'asking' }).where('state', '=', 'looking').execute();
  await of.set({ state: 'stopped', ended_at: ctx.clock.now() }).where('state', '=', 'bringing').execute();
}

/** Takes an import back as a whole; a worker does it. Whoever has acted since by themselves stays. Throws "conflict" and "expired". */
export async function undoImport(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const row = await rowOf(ctx, newsletter, id);
  if (row.state === 'undoing' || row.state === 'undone') return;
  if (!['done', 'stopped', 'failed'].includes(row.state) || !row.brought_at)
    throw new Fault('conflict', 'There is nothing to take back.');
  if (!canUndo(ctx, row.brought_at)) throw new Fault('expired', `An import can be taken back for ${UNDO_DAYS} days.`);
  await ctx.db
    .updateTable('imports')
    .set({ state: 'undoing', upto: 0, ended_at: null, cause: null })
    .where('id', '=', id)
    .where('state', 'in', ['done', 'stopped', 'failed'])
    .execute();
}

const canUndo = (ctx: Context, at: Date) => ctx.clock.now().getTime() - at.getTime() <= UNDO_DAYS * DAY_MS;

/** Throws an import away that was never brought. */
export async function dropImport(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const row = await rowOf(ctx, newsletter, id);
  if (row.brought_at || row.state === 'looking') throw new Fault('conflict', 'It has been brought. Take it back instead.');
  await ctx.db.deleteFrom('imports').where('id', '=', id).execute();
  if (row.file_id) await ctx.db.deleteFrom('kept_files').where('id', '=', row.file_id).execute();
}

/** An import as its screen shows it. Throws "not-found". */
export async function importPage(ctx: Context, newsletter: Newsletter, id: string): Promise<ImportPage> {
  const row = await rowOf(ctx, newsletter, id);
  const file = row.file_id
    ? await ctx.db.selectFrom('kept_files').select('size').where('id', '=', row.file_id).executeTakeFirst()
    : undefined;
  const examples: ImportPage['examples'] = {};
  if (row.found) {
    for (const kind of Object.keys(row.found.kinds) as RowKind[])
      examples[kind] = await ctx.db
        .selectFrom('import_rows')
        .select(['row', 'address', 'first_name as firstName', 'why'])
        .where('import_id', '=', id)
        .where('kind', '=', kind)
        .orderBy('row')
        .limit(EXAMPLES)
        .execute();
  }
  const rows = Object.values(row.found?.kinds ?? {}).reduce((a, b) => a + b, 0);
  const size = Number(file?.size ?? 0);
  const share = row.state === 'looking' ? Number(row.read_bytes) / (size || 1) : row.upto / (rows || 1);
  return {
    id,
    name: row.name,
    state: row.state,
    cause: row.cause,
    by: row.by_name,
    beganAt: row.began_at,
    broughtAt: row.brought_at,
    dialect: row.dialect,
    ...row.columns,
    plan: row.plan?.plan ?? null,
    consent: row.plan?.consent ?? null,
    found: row.found,
    examples,
    progress: Math.min(1, share),
    result: row.result,
    undo: row.brought_at !== null && ['done', 'stopped', 'failed'].includes(row.state) && canUndo(ctx, row.brought_at),
  };
}

export type ImportLine = { id: string; name: string; state: ImportState; by: string; beganAt: Date; made: number };
/** A newsletter's imports, the newest first. */
export async function importsOf(ctx: Context, newsletter: Newsletter): Promise<ImportLine[]> {
  const rows = await ctx.db
    .selectFrom('imports')
    .select(['id', 'name', 'state', 'by_name as by', 'began_at as beganAt', 'result'])
    .where('newsletter_id', '=', newsletter.id)
    .where('state', '<>', 'undone')
    .orderBy('began_at', 'desc')
    .limit(50)
    .execute();
  return rows.map(({ result, ...row }) => ({ ...row, made: (result.new ?? 0) + (result.joins ?? 0) }));
}

const REASON = 'What is wrong';
const PAGE = 2_000;
/** The rows that could not be brought, as they came and with the reason of each, as a CSV to mend and bring again. Throws "not-found". */
export async function* rejectedRows(ctx: Context, newsletter: Newsletter, id: string): AsyncGenerator<string> {
  const row = await rowOf(ctx, newsletter, id);
  // Programs that do not ask read it as UTF-8 by its mark.
  yield `\ufeff${csvRow([...row.columns.columns.map((column) => column.name), REASON])}`;
  const width = row.columns.columns.length;
  for (let after = 0; ; ) {
    const rows = await ctx.db
      .selectFrom('import_rows')
      .select(['row', 'cells', 'why'])
      .where('import_id', '=', id)
      .where('kind', '=', 'bad')
      .where('row', '>', after)
      .orderBy('row')
      .limit(PAGE)
      .execute();
    if (rows.length === 0) return;
    yield rows
      .map(({ cells, why }) =>
        csvRow([
          ...Array.from({ length: width }, (_, at) => cells?.[at] ?? ''),
          `${why}${(cells?.length ?? 0) > width ? ` Beyond them stood: ${cells!.slice(width).join(', ')}` : ''}`,
        ]),
      )
      .join('');
    after = rows.at(-1)!.row;
  }
}

/** Forgets the rows of imports that can no longer be taken back, and what was never brought. */
export async function forgetOldImports(ctx: Context): Promise<void> {
  const before = new Date(ctx.clock.now().getTime() - UNDO_DAYS * DAY_MS);
  await sql`delete from import_rows r using imports i where i.id = r.import_id and i.state not in ('looking', 'bringing', 'undoing') and coalesce(i.brought_at, i.began_at) < ${before}`.execute(
    ctx.db,
  );
  await sql`delete from imports where brought_at is null and state not in ('looking', 'bringing', 'undoing') and began_at < ${before}`.execute(
    ctx.db,
  );
}

import { mkdir, writeFile } from 'node:fs/promises';
import { type RawBuilder, type Selectable, sql } from 'kysely';
import {
  FIRST_FILE,
  MOST_ZIP_BYTES,
  renamed,
  renamer,
  VERSION,
  type WholeNewsletter,
  wholeSchema,
} from '@/core/archive/newsletter';
import { type Column, lineSchema, SHEETS, type Sheet } from '@/core/archive/sheets';
import { asFault, Fault } from '@/core/faults';
import { slugify } from '@/core/newsletters/slug';
import { parseAddress } from '@/core/readers/address';
import { folded } from '@/core/readers/condition';
import type { Audience } from '@/core/sending/audience';
import type { Person } from '../auth/session';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction, isAway } from '../db/connection';
import type { NewsletterTable, RestoreTable } from '../db/schema';
import { newId } from '../ids';
import { pathOf, repaint } from '../newsletters/media';
import { freeSlug } from '../newsletters/newsletters';
import { seal } from '../secrets';
import { addDomain } from '../senders/domains';
import { setCopySpans } from '../sending/results';
import { keepFile } from './kept';
import { KeptZip, NO_ZIP } from './kept-zip';
import { tellBack } from './whole-told';

/*
 * A whole newsletter is brought back from its zip into one that was made for it, and that nobody can open until all of it is there: so it is either there
 * whole or not at all. It goes in portions, each with how far it is in one transaction; ids are made from the old ones, always the same, so that whoever
 * comes after a crash goes on where it stood, nothing left out and nothing twice.
 */

const PORTION = 1_000;
const PORTION_BYTES = 4_000_000;
/** Letters of long ago have partitions of their own; a file may not ask for any number of them. */
const OLDEST_YEARS = 20;

type Restore = Selectable<RestoreTable>;

/**
 * Takes a file in and finds out whether it is a whole newsletter. Nothing of it is brought yet. Throws "invalid" for anything else, with a sentence that
 * says what it is. One that the same person sent before and did not bring is thrown away.
 */
export async function beginRestore(
  ctx: Context,
  person: Pick<Person, 'id' | 'email'>,
  name: string,
  stream: AsyncIterable<Uint8Array>,
): Promise<{ id: string }> {
  await dropAsking(ctx, person.id);
  const now = ctx.clock.now();
  const newsletterId = newId();
  // A place for it: not a newsletter yet, and nobody's.
  await ctx.db
    .insertInto('newsletters')
    .values({
      id: newsletterId,
      slug: `coming-${newsletterId}`,
      name: 'A newsletter that is being brought back',
      description: '',
      postal_address: '',
      reason_line: '',
      time_zone: 'Etc/UTC',
      language: 'en',
      colour: '#10282f',
      coming: true,
      created_at: now,
    })
    .execute();
  try {
    const file = await keepFile(ctx, { id: newsletterId }, name.slice(0, 120) || 'A newsletter', stream, MOST_ZIP_BYTES);
    const whole = await readFirst(ctx, file.id);
    const id = newId();
    await ctx.db
      .insertInto('restores')
      .values({
        id,
        user_id: person.id,
        newsletter_id: newsletterId,
        file_id: file.id,
        whole: JSON.stringify(whole),
        by_email: person.email,
        began_at: now,
      })
      .execute();
    return { id };
  } catch (error) {
    await ctx.db.deleteFrom('newsletters').where('id', '=', newsletterId).execute();
    throw error;
  }
}

async function readFirst(ctx: Context, fileId: string): Promise<WholeNewsletter> {
  const zip = await KeptZip.open(ctx, fileId);
  const first = await zip.whole(FIRST_FILE, 1_000_000);
  const said = first && read(first.toString('utf8'));
  if (!said || typeof said !== 'object') throw new Fault('invalid', NO_ZIP);
  if (Number((said as WholeNewsletter).version) > VERSION)
    throw new Fault(
      'invalid',
      'This file was written by a later version. Bring it into one that is as new; nothing was brought.',
    );
  const { value, error } = wholeSchema.validate(said);
  if (error) throw new Fault('invalid', NO_ZIP);
  const missing = SHEETS.find((sheet) => !zip.entries.has(`${sheet.name}.jsonl`));
  if (missing) throw new Fault('invalid', `The file is damaged: “${missing.name}.jsonl” is not in it. Nothing was brought.`);
  return value;
}

function read(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}

export type RestorePage = {
  id: string;
  state: Restore['state'];
  cause: string | null;
  whole: WholeNewsletter;
  /** Of all lines, 0 to 1. */
  progress: number;
  slug: string | null;
};

/** What somebody brings back: what is in it, and how far it is. Throws "not-found" for anybody else's. */
export async function restorePage(ctx: Context, userId: string, id: string): Promise<RestorePage> {
  const row = await ctx.db
    .selectFrom('restores as r')
    .leftJoin('newsletters as n', 'n.id', 'r.newsletter_id')
    .selectAll('r')
    .select('n.slug')
    .where('r.id', '=', id)
    .where('r.user_id', '=', userId)
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no such newsletter to bring back.');
  const all = Object.values(row.whole.lines).reduce((sum, n) => sum + n, 0);
  return {
    id,
    state: row.state,
    cause: row.cause,
    whole: row.whole,
    progress: all ? Math.min(1, row.done / all) : 0,
    slug: row.state === 'done' ? row.slug : null,
  };
}

/** Begins to bring it back. Pressed twice, it is brought once. */
export async function bringBack(ctx: Context, userId: string, id: string): Promise<void> {
  const { numUpdatedRows } = await ctx.db
    .updateTable('restores')
    .set({ state: 'bringing' })
    .where('id', '=', id)
    .where('user_id', '=', userId)
    .where('state', 'in', ['asking', 'bringing'])
    .executeTakeFirst();
  if (!numUpdatedRows) throw new Fault('conflict', 'This one is brought back already, or could not be.');
}

/** Throws away what somebody sent and did not bring back. */
export async function dropAsking(ctx: Context, userId: string): Promise<void> {
  await dropWhere(ctx, sql`r.user_id = ${userId}`);
}

/** Forgets what was sent and not brought back for a day, and what became of others after a month. */
export async function forgetOldRestores(ctx: Context): Promise<void> {
  const ago = (days: number) => new Date(ctx.clock.now().getTime() - days * 86_400_000);
  await dropWhere(ctx, sql`r.began_at < ${ago(1)}`);
  await ctx.db.deleteFrom('restores').where('state', 'in', ['done', 'failed']).where('ended_at', '<', ago(30)).execute();
  // Of somebody who closed their account meanwhile, or whose sending broke off with our process.
  await sql`update newsletters n set removed_at = ${ctx.clock.now()} where coming and removed_at is null and created_at < ${ago(1)}
    and not exists (select 1 from restores r where r.newsletter_id = n.id)`.execute(ctx.db);
}

const dropWhere = (ctx: Context, which: RawBuilder<unknown>) =>
  sql`with gone as (delete from restores r where r.state = 'asking' and ${which} returning newsletter_id) delete from newsletters where id in (select newsletter_id from gone)`.execute(
    ctx.db,
  );

/** Works on one until it is there, or cannot be: then nothing of it stays. */
export async function workRestore(ctx: Context, id: string): Promise<void> {
  try {
    const row = await ctx.db.selectFrom('restores').selectAll().where('id', '=', id).executeTakeFirst();
    if (row?.state !== 'bringing' || !row.newsletter_id) return;
    if (!row.file_id) throw new Fault('expired', 'The file is no longer here. Send it again.');
    await bring(ctx, row, row.newsletter_id, await KeptZip.open(ctx, row.file_id));
  } catch (error) {
    if (error instanceof Elsewhere) return;
    if (isAway(error)) throw error;
    if (!(error instanceof Fault)) ctx.log.error({ err: error, restore: id }, 'a newsletter could not be brought back');
    await ctx.db.transaction().execute(async (trx) => {
      const row = await trx
        .updateTable('restores')
        .set({ state: 'failed', cause: asFault(error).sentence, ended_at: ctx.clock.now() })
        .where('id', '=', id)
        .where('state', '=', 'bringing')
        .returning('newsletter_id')
        .executeTakeFirst();
      if (row?.newsletter_id)
        await trx.updateTable('newsletters').set({ removed_at: ctx.clock.now() }).where('id', '=', row.newsletter_id).execute();
    });
  }
}

/** Another worker is at it, and further. */
class Elsewhere extends Error {}

type Line = Record<string, unknown>;
type Way = {
  ctx: Context;
  restore: Restore;
  newsletterId: string;
  zip: KeptZip;
  whole: WholeNewsletter;
  /** Ids that the file gives to what is few. */
  known: Set<string>;
  rename: (old: string) => string;
};

async function bring(ctx: Context, restore: Restore, newsletterId: string, zip: KeptZip): Promise<void> {
  const way: Way = { ctx, restore, newsletterId, zip, whole: restore.whole, known: new Set(), rename: renamer(newsletterId) };
  if (restore.sheet === 0 && restore.line === 0) await identity(way);
  const publicIds = new Map<string, string>();
  for (const sheet of SHEETS.filter((one) => one.few && one.columns.id))
    for await (const text of zip.lines(`${sheet.name}.jsonl`)) {
      const line = read(text) as Line | null;
      if (typeof line?.id === 'string') way.known.add(line.id);
      if (sheet.thing === 'form' && typeof line?.public_id === 'string')
        publicIds.set(way.rename(String(line.id)), line.public_id);
    }
  for (let at = restore.sheet; at < SHEETS.length; at += 1) await bringSheet(way, at, at === restore.sheet ? restore.line : 0);
  await end(way, publicIds);
}

/** A newsletter's own row, as the file says. */
async function identity({ ctx, newsletterId, whole }: Way): Promise<void> {
  const {
    slug: _slug,
    logo_id: _logo,
    default_sender_id: _sender,
    erased_key,
    created_at,
    social_links,
    ...own
  } = whole.newsletter;
  await ctx.db
    .updateTable('newsletters')
    .set({
      ...own,
      social_links: JSON.stringify(social_links),
      created_at: new Date(created_at),
      hash_key: erased_key ? seal(erased_key, ctx.config.keys) : null,
    } satisfies Partial<Record<keyof NewsletterTable, unknown>>)
    .where('id', '=', newsletterId)
    .execute();
}

async function bringSheet(way: Way, at: number, from: number): Promise<void> {
  const sheet = SHEETS[at]!;
  const file = `${sheet.name}.jsonl`;
  const schema = lineSchema(sheet);
  let [n, bytes] = [0, 0];
  let waiting: Line[] = [];
  const flush = async () => {
    await portion(way, sheet, { at, from: n - waiting.length, upto: n }, waiting);
    [waiting, bytes] = [[], 0];
  };
  for await (const text of way.zip.lines(file)) {
    n += 1;
    if (n <= from) continue;
    const raw = read(text);
    const { value, error } = schema.validate(raw);
    if (error || raw === null)
      throw new Fault('invalid', `${file}, line ${n}: ${error ? error.message : 'this is no object'}. Nothing was brought.`);
    waiting.push(prepared(way, sheet, value as Line, `${file}, line ${n}`));
    bytes += text.length;
    if (waiting.length >= PORTION || bytes >= PORTION_BYTES) await flush();
  }
  if (n !== way.whole.lines[sheet.name])
    throw new Fault(
      'invalid',
      `The file is damaged: ${file} has ${n} lines and should have ${way.whole.lines[sheet.name]}. Nothing was brought.`,
    );
  await flush();
  await inTransaction(way.ctx.db, (trx) => step(way, trx, { at, from: n }, { sheet: at + 1, line: 0 }, 0));
}

/** What stands in a line with new ids, and as it is kept here. */
function prepared(way: Way, sheet: Sheet, line: Line, where: string): Line {
  const out: Line = {};
  for (const [name, column] of Object.entries(sheet.columns)) out[name] = moved(way, column, line[name]);
  return (SPECIAL[sheet.name]?.line ?? ((one) => one))(out, line, way, where);
}

function moved(way: Way, column: Column, value: unknown): unknown {
  if (value === null || value === undefined) return null;
  if (column.id) return Array.isArray(value) ? value.map((one) => way.rename(one)) : way.rename(String(value));
  if (!column.within) return value;
  const pictures = { from: way.whole.pictures_at, to: way.ctx.config.linkOrigin };
  if (column.type !== 'jsonb') return renamed(String(value), way.known, way.rename, pictures);
  return JSON.parse(renamed(JSON.stringify(value), way.known, way.rename, pictures));
}

type Special = {
  /** Changes a line: as it is with new ids, and as it was. */
  line?: (out: Line, was: Line, way: Way, where: string) => Line;
  /** Further columns of the table: their SQL by `x`, the line. */
  more?: (way: Way) => Record<string, RawBuilder<unknown>>;
  /** Types of what `line` adds. */
  adds?: Record<string, string>;
  table?: string;
  /** Before the portion, outside its transaction. */
  before?: (way: Way, lines: Line[]) => Promise<void>;
  /** After its rows, within. */
  after?: (way: Way, db: Db, lines: Line[]) => Promise<unknown>;
  /** In place of its rows. */
  instead?: (way: Way, db: Db, lines: Line[]) => Promise<unknown>;
  from?: RawBuilder<unknown>;
};

/** An audience by the ids that things have here, people among them. */
function audienceIn(audience: Audience, way: Way): Audience {
  const people = [...audience.to, ...audience.without].flatMap((one) => (one.kind === 'readers' ? one.ids : []));
  return JSON.parse(
    renamed(JSON.stringify(audience), new Set([...way.known, ...people]), way.rename, { from: '', to: '' }),
  ) as Audience;
}

const STOPPED = 'It was under way when the newsletter was taken out.';
const WAITED = 'It was waiting when the newsletter was taken out. Give it a time to send it.';

const SPECIAL: Record<string, Special> = {
  pictures: { before: files },
  domains: { instead: async () => undefined },
  imports: {
    line: (out) => ({ ...out, state: ['done', 'failed', 'undone'].includes(String(out.state)) ? out.state : 'stopped' }),
    more: () => ({
      dialect: sql`${JSON.stringify({ encoding: 'utf-8', shape: 'table', delimiter: ',', quote: '"', header: true, skip: 0, columns: 0 })}::jsonb`,
      columns: sql`${JSON.stringify({ columns: [], addresses: [], dates: null })}::jsonb`,
    }),
  },
  // Under other addresses until all of it is here: nobody shall sign up to half a newsletter.
  forms: { line: (out) => ({ ...out, public_id: String(out.id).replaceAll('-', '') }) },
  readers: {
    line: (out, was, way, where) => {
      const address = parseAddress(String(was.address));
      if (!address)
        throw new Fault('invalid', `${where}: “${String(was.address).slice(0, 100)}” is not an address. Nothing was brought.`);
      const lists = (was.lists as { list: string; state: string }[]).map((one) => ({ ...one, list: way.rename(one.list) }));
      const count = (state: string) => lists.filter((one) => one.state === state).length;
      return {
        ...out,
        address: address.full,
        address_key: address.key,
        domain: address.domain,
        name_key: was.first_name === null ? null : folded(String(was.first_name)),
        lists_reading: count('reading'),
        lists_waiting: count('waiting'),
        lists_left: count('left'),
        lists,
        tags: was.tags,
        answers: (was.answers as { field: string; value: unknown }[]).map((one) => ({
          ...one,
          field: way.rename(one.field),
          folded: typeof one.value === 'string' ? folded(one.value) : null,
        })),
      };
    },
    adds: {
      address_key: 'text',
      domain: 'text',
      name_key: 'text',
      lists_reading: 'smallint',
      lists_waiting: 'smallint',
      lists_left: 'smallint',
    },
    more: () => ({
      domain_id: sql`(select d.id from mail_domains d where d.name = x.domain)`,
      ...Object.fromEntries(
        ['address_key', 'name_key', 'lists_reading', 'lists_waiting', 'lists_left'].map((name) => [name, sql.ref(`x.${name}`)]),
      ),
    }),
    before: domains,
    after: async ({ newsletterId }, db, lines) => {
      const part = (name: string) =>
        JSON.stringify(lines.flatMap((line) => (line[name] as Line[]).map((one) => ({ ...one, reader: line.id }))));
      await sql`insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at) select x.reader, x.list, ${newsletterId}::uuid, x.state, x.since, x.joined_at
        from jsonb_to_recordset(${part('lists')}::jsonb) as x(reader uuid, list uuid, state text, since timestamptz, joined_at timestamptz) join lists l on l.id = x.list and l.newsletter_id = ${newsletterId}::uuid`.execute(
        db,
      );
      await sql`insert into tags (newsletter_id, name) select distinct ${newsletterId}::uuid, x.tag from jsonb_to_recordset(${part('tags')}::jsonb) as x(tag text) on conflict do nothing`.execute(
        db,
      );
      await sql`insert into reader_tags (reader_id, newsletter_id, tag, at) select x.reader, ${newsletterId}::uuid, x.tag, x.at
        from jsonb_to_recordset(${part('tags')}::jsonb) as x(reader uuid, tag text, at timestamptz)`.execute(db);
      await sql`insert into reader_answers (reader_id, field_id, value, folded, at) select x.reader, x.field, x.value, x.folded, x.at
        from jsonb_to_recordset(${part('answers')}::jsonb) as x(reader uuid, field uuid, value jsonb, folded text, at timestamptz)`.execute(
        db,
      );
    },
  },
  audiences: { line: (out, was, way) => ({ ...out, audience: audienceIn(was.audience as Audience, way) }) },
  letters: {
    line: (out, was, way) => {
      const [state, cause] = ['scheduled', 'held', 'draft'].includes(String(out.state))
        ? ['draft', WAITED]
        : ['starting', 'sending', 'paused'].includes(String(out.state))
          ? ['stopped', STOPPED]
          : [out.state, out.cause];
      const begun = state === 'sent' || state === 'stopped';
      return {
        ...out,
        audience: audienceIn(was.audience as Audience, way),
        state,
        cause,
        html: begun ? out.html : null,
        text: begun ? out.text : null,
        ...months(way, [out.sent_on]),
      };
    },
  },
  deliveries: {
    line: (out, _was, way) => ({
      ...out,
      ...months(way, [out.sent_on]),
      state: ['kept', 'queued', 'claimed'].includes(String(out.state)) ? 'cancelled' : out.state,
    }),
    before: async (way, lines) => {
      await domains(way, lines, 'domain_id');
      await partitions(way, lines, 'sent_on');
    },
  },
  events: {
    line: (out, _was, way) => ({ ...out, ...months(way, [out.day]) }),
    before: (way, lines) => partitions(way, lines, 'day'),
    more: () => ({ delivery_id: sql`d.id` }),
    // Which copy it is about is known by whose it is, and of which letter.
    from: sql`join letters l on l.id = x.letter_id join deliveries d on d.sent_on = l.sent_on and d.letter_id = x.letter_id and d.reader_id = x.reader_id`,
  },
  'letter-figures': { table: 'letter_sums', before: (way, lines) => domains(way, lines, 'domain_id') },
  days: { table: 'day_sums' },
};

/** Days must lie where letters can have been. */
function months(way: Way, days: unknown[]): Record<string, never> {
  const now = way.ctx.clock.now();
  const [first, last] = [new Date(now), new Date(now.getTime() + 86_400_000)];
  first.setUTCFullYear(first.getUTCFullYear() - OLDEST_YEARS);
  for (const day of days)
    if (day !== null && (String(day) < first.toISOString().slice(0, 10) || String(day) > last.toISOString().slice(0, 10)))
      throw new Fault('invalid', `The file has letters of ${String(day)}, which cannot be kept. Nothing was brought.`);
  return {};
}

/** Makes the months that lines lie in: on its own, since everybody's letters wait meanwhile. */
async function partitions({ ctx }: Way, lines: Line[], of: string): Promise<void> {
  for (const month of new Set(lines.map((line) => `${String(line[of]).slice(0, 7)}-01`)))
    await sql`select ensure_month(${month}::date)`.execute(ctx.db);
}

/** Mail domains that are new here: on their own, so that nobody who signs up at one of them waits. */
async function domains({ ctx }: Way, lines: Line[], of = 'domain'): Promise<void> {
  const names = [...new Set(lines.map((line) => line[of]).filter((name) => typeof name === 'string' && name))].sort();
  await sql`insert into mail_domains (name) select n from unnest(${names}::text[]) n where not exists (select 1 from mail_domains d where d.name = n) on conflict do nothing`.execute(
    ctx.db,
  );
}

/** Logo, pictures and gifts: pictures are painted anew, so that nothing of the file's insides survives. */
async function files({ ctx, zip, rename }: Way, lines: Line[]): Promise<void> {
  await mkdir(ctx.config.mediaDir, { recursive: true, mode: 0o700 });
  const olds = new Map(
    [...zip.entries.keys()].flatMap((name) =>
      /^(pictures|files)\/[0-9a-f-]{36}\.(png|jpg|gift)$/.test(name) ? [[rename(name.split(/[/.]/)[1]!), name] as const] : [],
    ),
  );
  for (const line of lines) {
    const name = olds.get(String(line.id));
    const bytes = name && (await zip.whole(name, 25_000_000));
    if (!bytes) continue;
    const gift = line.kind === 'gift';
    const type = String(line.content_type);
    await writeFile(pathOf(ctx, String(line.id), type), gift ? bytes : await repaint(bytes, type), { mode: 0o600 });
  }
}

type Place = { at: number; from: number };

/** Writes how far it is, and makes sure that nobody else was faster. */
async function step(way: Way, db: Db, { at, from }: Place, to: { sheet: number; line: number }, lines: number): Promise<void> {
  const { numUpdatedRows } = await db
    .updateTable('restores')
    .set((eb) => ({ ...to, done: eb('done', '+', lines) }))
    .where('id', '=', way.restore.id)
    .where('state', '=', 'bringing')
    .where('sheet', '=', at)
    .where('line', '=', from)
    .executeTakeFirst();
  if (!numUpdatedRows) throw new Elsewhere();
}

async function portion(way: Way, sheet: Sheet, { at, from, upto }: Place & { upto: number }, lines: Line[]): Promise<void> {
  if (lines.length === 0) return;
  const special = SPECIAL[sheet.name] ?? {};
  await special.before?.(way, lines);
  try {
    await inTransaction(way.ctx.db, async (trx) => {
      await step(way, trx, { at, from }, { sheet: at, line: upto }, lines.length);
      await sql`set local inkset.bringing = 'on'`.execute(trx);
      if (special.instead) await special.instead(way, trx, lines);
      else await insert(way, trx, sheet, special, lines);
      await special.after?.(way, trx, lines);
    });
  } catch (error) {
    throw refused(error, sheet, from, upto);
  }
}

async function insert(way: Way, db: Db, sheet: Sheet, special: Special, lines: Line[]): Promise<void> {
  const more = special.more?.(way) ?? {};
  const names = Object.keys(sheet.columns);
  const types = [
    ...names.map((name) => [name, sheet.columns[name]!.domain ? 'text' : sheet.columns[name]!.type]),
    ...Object.entries(special.adds ?? {}),
  ];
  const values = names.map((name) =>
    sheet.columns[name]!.domain
      ? sql`coalesce((select d.id from mail_domains d where d.name = ${sql.ref(`x.${name}`)}), 0)`
      : sql.ref(`x.${name}`),
  );
  const owner = sheet.by ? {} : { newsletter_id: sql`${way.newsletterId}::uuid` };
  const rest = { ...owner, ...more };
  const into = [...names, ...Object.keys(rest)].map((name) => sql.ref(name));
  const record = types.map(([name, type]) => sql`${sql.ref(name!)} ${sql.raw(type!)}`);
  await sql`insert into ${sql.table(special.table ?? sheet.table)} (${sql.join(into)}) select ${sql.join([...values, ...Object.values(rest)])}
    from jsonb_to_recordset(${JSON.stringify(lines)}::jsonb) as x(${sql.join(record)}) ${special.from ?? sql``}`.execute(db);
}

/** What the database says of lines that it does not take, for whoever has the file. */
function refused(error: unknown, sheet: Sheet, from: number, upto: number): unknown {
  const code = (error as { code?: string } | null)?.code ?? '';
  const lines = upto - from === 1 ? `line ${upto}` : `lines ${from + 1} to ${upto}`;
  const say = (what: string) => new Fault('invalid', `${sheet.name}.jsonl, ${lines}: ${what}. Nothing was brought.`);
  if (code === '23503') return say('something is named there that is not in the file');
  if (code === '23505') return say('something stands there twice');
  if (/^(22|23)/.test(code)) return say('something there cannot be kept');
  return error;
}

/** All of it is here: it is counted, gets its address, its forms theirs where nobody has them, and belongs to whoever brought it. */
async function end(way: Way, publicIds: Map<string, string>): Promise<void> {
  const { ctx, newsletterId, whole, restore, rename } = way;
  const newsletter = (await ctx.db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', newsletterId)
    .executeTakeFirstOrThrow()) as Newsletter;
  for await (const text of way.zip.lines('domains.jsonl'))
    await addDomain(ctx, newsletter, (read(text) as { name: string }).name).catch((error) => {
      if (!(error instanceof Fault)) throw error;
    });
  const slug = await freeSlug(ctx, slugify(whole.newsletter.slug) || slugify(whole.newsletter.name) || 'newsletter');
  const now = ctx.clock.now();
  await inTransaction(ctx.db, async (trx) => {
    await step(way, trx, { at: SHEETS.length, from: 0 }, { sheet: SHEETS.length, line: 1 }, 0);
    await setCopySpans(trx, newsletterId);
    await sql`select recount_people(${newsletterId}::uuid), recount_sources(${newsletterId}::uuid)`.execute(trx);
    // On which day each came to an end is not known any more; it lies on its letter's.
    await sql`insert into reason_changes (newsletter_id, domain_id, reason, day, ended)
      select d.newsletter_id, coalesce(s.domain_id, 0), d.reason, d.sent_on, count(*) from deliveries d
      left join letter_sums s on s.newsletter_id = d.newsletter_id and s.letter_id = d.letter_id and s.domain_id = d.domain_id
      where d.newsletter_id = ${newsletterId}::uuid and d.reason is not null and d.state in ('bounced', 'refused', 'given up') group by 1, 2, 3, 4`.execute(
      trx,
    );
    await trx
      .updateTable('newsletters')
      .set({
        slug,
        coming: false,
        recounted_at: now,
        logo_id: whole.newsletter.logo_id && sql<string>`(select id from media where id = ${rename(whole.newsletter.logo_id)})`,
        default_sender_id:
          whole.newsletter.default_sender_id &&
          sql<string>`(select id from senders where id = ${rename(whole.newsletter.default_sender_id)})`,
      })
      .where('id', '=', newsletterId)
      .execute();
    for (const [id, publicId] of publicIds)
      await sql`update forms set public_id = ${publicId} where id = ${id}::uuid and newsletter_id = ${newsletterId} and not exists (select 1 from forms where public_id = ${publicId})`.execute(
        trx,
      );
    await trx
      .insertInto('members')
      .values({ newsletter_id: newsletterId, user_id: restore.user_id, role: 'owner', created_at: now })
      .execute();
    await trx.updateTable('restores').set({ state: 'done', ended_at: now }).where('id', '=', restore.id).execute();
    if (restore.file_id) await trx.deleteFrom('kept_files').where('id', '=', restore.file_id).execute();
    await tellBack(ctx, trx, { ...newsletter, slug }, restore.by_email);
  });
}

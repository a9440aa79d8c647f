import { readFile } from 'node:fs/promises';
import { PassThrough, Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { type RawBuilder, sql } from 'kysely';
import { ZipFile } from 'yazl';
import { FIRST_FILE, FORMAT, readme, VERSION, type WholeNewsletter } from '@/core/archive/newsletter';
import { type Column, SHEETS, type Sheet } from '@/core/archive/sheets';
import { Fault } from '@/core/faults';
import { compileMime, fillMime, headerBlock } from '@/core/sending/mime';
import type { Document } from '@/core/writing/document';
import { lineTemplate } from '@/core/writing/line';
import { renderMarkdown } from '@/core/writing/to-markdown';
import { webPage } from '@/core/writing/to-web';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { filesOf } from '../newsletters/media';
import { erasedKey } from '../readers/suppressed';
import { PART_BYTES } from './kept';

/*
 * A whole newsletter as a zip. All of it is read in one snapshot, so that nothing in it names what is not in it; and written as it is read, so that it
 * may be of any size. A worker that falls leaves a beginning that the next one throws away.
 */

/** So many lines are fetched at a time. */
const AT_A_TIME = 2_000;

type Progress = (lines: number, of: number) => Promise<void>;

/**
 * Writes the whole newsletter into a kept file. `progress` hears how many lines stand in it, of how many, and throws where it is to stop. False where
 * another worker writes it already.
 */
export async function writeWhole(
  ctx: Context,
  newsletter: Newsletter,
  file: { id: string; by: string },
  progress: Progress,
): Promise<boolean> {
  return ctx.db
    .transaction()
    .setIsolationLevel('repeatable read')
    .execute(async (snapshot) => {
      const { rows } = await sql<{
        mine: boolean;
      }>`select pg_try_advisory_xact_lock(hashtext('whole'), hashtext(${file.id})) as mine`.execute(snapshot);
      if (!rows[0]!.mine) return false;
      await ctx.db.deleteFrom('kept_parts').where('file_id', '=', file.id).execute();
      // JSON has times in whatever zone the session has.
      await sql`set local time zone 'UTC'`.execute(snapshot);
      const zip = new ZipFile();
      const ended = pipeline(zip.outputStream as unknown as Readable, (bytes: AsyncIterable<Buffer>) =>
        keep(ctx, file.id, bytes),
      );
      const failed = new Promise<never>((_, reject) => zip.on('error', reject));
      failed.catch(() => undefined);
      // One file after the other, each as it is asked for: they come through one connection, and none of them waits in memory.
      const add: Add = (path, content) =>
        new Promise((resolve, reject) => {
          const through = new PassThrough();
          zip.addReadStreamLazy(path, { mtime: ctx.clock.now() }, (give) => give(null, through));
          const from = typeof content === 'string' || Buffer.isBuffer(content) ? [content] : content;
          pipeline(Readable.from(from, { objectMode: false }), through).then(resolve, reject);
        });
      const whole = async () => {
        await fill(ctx, snapshot, newsletter, file.by, add, progress);
        zip.end();
        await ended;
      };
      await Promise.race([whole(), ended.then(() => new Promise<never>(() => {})), failed]).catch((error) => {
        (zip.outputStream as unknown as PassThrough).destroy(error as Error);
        throw error;
      });
      return true;
    });
}

/** Keeps bytes as they come, in parts. A file that was thrown away meanwhile takes no more. */
async function keep(ctx: Context, fileId: string, stream: AsyncIterable<Buffer>): Promise<void> {
  let [n, size, held] = [0, 0, 0];
  let waiting: Buffer[] = [];
  const flush = async () => {
    const bytes = Buffer.concat(waiting);
    [waiting, held] = [[], 0];
    const { numAffectedRows } = await sql`
      insert into kept_parts (file_id, n, bytes) select id, ${n}::int, ${bytes} from kept_files where id = ${fileId}`.execute(
      ctx.db,
    );
    if (!numAffectedRows) throw new Fault('conflict', 'Somebody in it was erased while it was written. Take it out again.');
    n += 1;
  };
  for await (const chunk of stream) {
    waiting.push(chunk);
    held += chunk.length;
    size += chunk.length;
    if (held >= PART_BYTES) await flush();
  }
  await flush();
  const { numUpdatedRows } = await ctx.db
    .updateTable('kept_files')
    .set({ size: String(size), whole: true })
    .where('id', '=', fileId)
    .executeTakeFirst();
  if (!numUpdatedRows) throw new Fault('conflict', 'Somebody in it was erased while it was written. Take it out again.');
}

type Add = (path: string, content: AsyncIterable<string | Buffer> | string | Buffer) => Promise<void>;

async function fill(ctx: Context, db: Db, newsletter: Newsletter, by: string, add: Add, progress: Progress): Promise<void> {
  const own = await db.selectFrom('newsletters').selectAll().where('id', '=', newsletter.id).executeTakeFirstOrThrow();
  const lines: Record<string, number> = {};
  for (const sheet of SHEETS) lines[sheet.name] = await countOf(db, sheet, newsletter.id);
  const whole: WholeNewsletter = {
    format: FORMAT,
    version: VERSION,
    made_at: ctx.clock.now().toISOString(),
    made_by: by,
    pictures_at: ctx.config.linkOrigin,
    lines,
    newsletter: {
      slug: own.slug,
      name: own.name,
      description: own.description,
      postal_address: own.postal_address,
      reason_line: own.reason_line,
      time_zone: own.time_zone,
      language: own.language,
      colour: own.colour,
      accent: own.accent,
      site: own.site,
      social_links: own.social_links,
      count_opens: own.count_opens,
      count_clicks: own.count_clicks,
      call_back_seconds: own.call_back_seconds,
      encrypted_only: own.encrypted_only,
      alert_joins: own.alert_joins,
      alert_leaves: own.alert_leaves,
      weekly_summary: own.weekly_summary,
      tell_unusual: own.tell_unusual,
      reader_goal: own.reader_goal,
      logo_id: own.logo_id,
      default_sender_id: own.default_sender_id,
      erased_key: erasedKey(ctx, own),
      created_at: own.created_at.toISOString(),
    },
  };
  await add(FIRST_FILE, `${JSON.stringify(whole, null, 2)}\n`);
  await add('README.txt', readme(whole));
  let done = 0;
  const all = Object.values(lines).reduce((sum, n) => sum + n, 0);
  for (const sheet of SHEETS) {
    const rows = linesOf(db, sheet, newsletter.id, async (n) => {
      done += n;
      await progress(done, all);
    });
    await add(`${sheet.name}.jsonl`, rows);
  }
  await pictures(ctx, newsletter, add);
  await posts(db, own, add);
  await letters(ctx, db, own, add);
}

/** A column as JSON has it. */
function out(name: string, column: Column): RawBuilder<unknown> {
  if (column.domain) return sql`(select d.name from mail_domains d where d.id = ${sql.ref(`t.${name}`)})`;
  return sql`${sql.ref(`t.${name}`)}`;
}

/** A reader's own parts: on which lists, with which tags, what they answered. */
const PARTS = sql`
  'lists', (select coalesce(json_agg(json_build_object('list', m.list_id, 'state', m.state, 'since', m.since, 'joined_at', m.joined_at) order by m.list_id), '[]') from memberships m where m.reader_id = t.id),
  'tags', (select coalesce(json_agg(json_build_object('tag', g.tag, 'at', g.at) order by g.tag), '[]') from reader_tags g where g.reader_id = t.id),
  'answers', (select coalesce(json_agg(json_build_object('field', a.field_id, 'value', a.value, 'at', a.at) order by a.field_id), '[]') from reader_answers a where a.reader_id = t.id)`;

const ofNewsletter = (sheet: Sheet, id: string): RawBuilder<unknown> =>
  sheet.by
    ? sql`${sql.ref(`t.${sheet.by.column}`)} in (select id from ${sql.table(sheet.by.table)} where newsletter_id = ${sql.lit(id)}::uuid)`
    : sql`t.newsletter_id = ${sql.lit(id)}::uuid`;

async function countOf(db: Db, sheet: Sheet, id: string): Promise<number> {
  const { rows } = await sql<{
    n: number;
  }>`select count(*)::int as n from ${sql.table(sheet.table)} t where ${ofNewsletter(sheet, id)}`.execute(db);
  return rows[0]!.n;
}

async function* linesOf(db: Db, sheet: Sheet, id: string, told: (n: number) => Promise<void>): AsyncGenerator<string> {
  const columns = Object.entries(sheet.columns);
  const pairs = columns.map(([name, column]) => sql`${sql.lit(name)}, ${out(name, column)}`);
  const own = sheet.thing === 'reader' ? sql`, ${PARTS}` : sql``;
  // Of what has an order, the order: ids have the time in them.
  const order = sheet.ordered || 'id' in sheet.columns ? sql`order by t.id` : sql``;
  await sql`declare sheet no scroll cursor for select json_build_object(${sql.join(pairs)}${own})::text || E'\n' as line from ${sql.table(sheet.table)} t where ${ofNewsletter(sheet, id)} ${order}`.execute(
    db,
  );
  for (;;) {
    const { rows } = await sql<{ line: string }>`fetch ${sql.lit(AT_A_TIME)} from sheet`.execute(db);
    if (rows.length) yield rows.map((row) => row.line).join('');
    await told(rows.length);
    if (rows.length < AT_A_TIME) break;
  }
  await sql`close sheet`.execute(db);
}

async function pictures(ctx: Context, newsletter: Newsletter, add: Add): Promise<void> {
  for (const path of await filesOf(ctx, newsletter.id)) {
    const bytes = await readFile(path).catch(() => null);
    const name = path.split('/').at(-1)!;
    if (bytes) await add(name.endsWith('.gift') ? `files/${name}` : `pictures/${name}`, bytes);
  }
}

/** A name that every file system takes. */
const fileName = (text: string) => text.replace(/[^\p{L}\p{N}._-]+/gu, '-').slice(0, 120) || 'untitled';

async function posts(db: Db, newsletter: Newsletter, add: Add): Promise<void> {
  const every = await db.selectFrom('posts').select('id').where('newsletter_id', '=', newsletter.id).orderBy('id').execute();
  for (const { id } of every) {
    const post = await db.selectFrom('posts').selectAll().where('id', '=', id).executeTakeFirstOrThrow();
    const front = {
      title: post.title,
      ...(post.subtitle ? { subtitle: post.subtitle } : {}),
      slug: post.slug,
      created: post.created_at.toISOString(),
      ...(post.link ? { link: post.link } : {}),
      ...(post.picture ? { picture: post.picture } : {}),
    };
    const document = post.document as Document;
    await add(`posts/${fileName(post.slug)}.md`, renderMarkdown(document, front));
    await add(
      `posts/${fileName(post.slug)}.html`,
      webPage(document, { title: post.title, subtitle: post.subtitle, language: newsletter.language }),
    );
  }
}

/** Each letter that was rendered, as the message that left, addressed to nobody. */
async function letters(ctx: Context, db: Db, newsletter: Newsletter, add: Add): Promise<void> {
  const every = await db
    .selectFrom('letters')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('html', 'is not', null)
    .orderBy('id')
    .execute();
  for (const { id } of every) {
    const letter = await db.selectFrom('letters').selectAll().where('id', '=', id).executeTakeFirstOrThrow();
    const links = await db.selectFrom('letter_links').select(['position', 'url']).where('letter_id', '=', id).execute();
    const subject = letter.subject;
    const template = compileMime(
      { html: letter.html!, text: letter.text ?? '', subject: lineTemplate(subject) },
      {
        fromName: letter.from_name ?? newsletter.name,
        fromAddress: letter.from_address ?? 'nobody@invalid',
        ...(letter.reply_to ? { replyTo: letter.reply_to } : {}),
        date: letter.started_at ?? letter.due_at,
        boundary: `=_${id}`,
      },
    );
    const values = {
      ...Object.fromEntries(links.map((link) => [`link:${link.position}`, link.url])),
    };
    const message = fillMime(
      template,
      { to: 'undisclosed-recipients:;', messageId: `<${id}@${new URL(ctx.config.linkOrigin).hostname}>` },
      values,
    );
    const name = `${(letter.sent_on ?? letter.due_at.toISOString().slice(0, 10)).slice(0, 10)}-${fileName(subject)}-${id.slice(-6)}`;
    await add(`letters/${name}.eml`, Buffer.concat([Buffer.from(headerBlock(message.headers), 'latin1'), message.body]));
  }
}

import { once } from 'node:events';
import { createWriteStream } from 'node:fs';
import { mkdir, open, rename, rm } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { finished } from 'node:stream/promises';
import { createGzip, type Gzip } from 'node:zlib';
import { sql } from 'kysely';
import { DateTime } from 'luxon';
import type { Context } from '../context';
import type { Db } from '../db/connection';

const COLUMNS = ['at', 'letter_id', 'kind', 'machine', 'why', 'link_position'] as const;
const AT_ONCE = 20_000;

/**
 * What still stands here of a month that was put away: what screens and rules look at one by one. Of openings and of all that machines did they know the first of each
 * copy, which the copy itself keeps, and the counts.
 */
const KEPT = sql`kind not in ('open', 'click') or (kind = 'click' and not machine)`;

/** Where a newsletter's old events are kept. */
export const oldEventsDir = (ctx: Pick<Context, 'config'>, newsletterId: string): string =>
  join(ctx.config.mediaDir, 'events', newsletterId);

/**
 * Puts away the events of months that ended longer ago than the configured number of months: each newsletter's as `events-YYYY-MM.csv.gz` (RFC 4180, times in UTC, no
 * reader and no agent, so that nobody's erasure has to reach into files), then out of the database but for what is kept there. One month each time, the oldest first, by
 * one worker; a month to which something was added meanwhile is put away anew the next time. Answers which month, or null.
 */
export async function putAwayEvents(ctx: Context): Promise<string | null> {
  const last = DateTime.fromJSDate(ctx.clock.now(), { zone: 'utc' }).startOf('month').minus({ months: ctx.config.eventMonths });
  const { rows } = await sql<{ name: string; month: string }>`
    select c.relname as name, replace(substring(c.relname from 8), '_', '-') as month from pg_inherits i join pg_class c on c.oid = i.inhrelid
    where i.inhparent = 'events'::regclass and c.relname ~ '^events_[0-9]{4}_[0-9]{2}$' and c.relname < ${`events_${last.toFormat('yyyy_MM')}`}
      and not exists (select 1 from event_months m where to_char(m.month, 'YYYY_MM') = substring(c.relname from 8)) order by 1 limit 1`.execute(
    ctx.db,
  );
  const found = rows[0];
  if (!found) return null;
  const { name, month } = found;
  const [first, next] = [`${month}-01`, DateTime.fromISO(`${month}-01`).plus({ months: 1 }).toISODate()!];
  const written = await ctx.db
    .transaction()
    .setIsolationLevel('repeatable read')
    .execute(async (trx) =>
      // Asked beside this transaction, which sees nothing of what was put away while it began: what is left of a month must never be written over its file.
      (await isOurs(trx)) && !(await isAway(ctx.db, first)) ? write(ctx, trx, name, month) : null,
    );
  if (!written) return null;
  return ctx.db.transaction().execute(async (trx) => {
    if (!(await isOurs(trx)) || (await isAway(trx, first))) return null;
    // Nobody adds to it from here on; whoever looks at it may go on until it is out.
    await sql`lock table ${sql.table(name)} in share mode`.execute(trx);
    const { rows: counted } = await sql<{ n: string; latest: string }>`
      select count(*) as n, coalesce(max(id), 0) as latest from ${sql.table(name)}`.execute(trx);
    if (Number(counted[0]!.n) !== written.n || counted[0]!.latest !== written.latest) return null;
    const rest = `${name}_kept`;
    await sql`create table ${sql.table(rest)} (like events including all excluding identity)`.execute(trx);
    const { numAffectedRows: kept = 0n } = await sql`
      insert into ${sql.table(rest)} select * from ${sql.table(name)} where ${KEPT}`.execute(trx);
    await sql`alter table events detach partition ${sql.table(name)}`.execute(trx);
    await sql`drop table ${sql.table(name)}`.execute(trx);
    await sql`alter table ${sql.table(rest)} rename to ${sql.table(name)}`.execute(trx);
    await sql`alter table events attach partition ${sql.table(name)} for values from (${sql.lit(first)}) to (${sql.lit(next)})`.execute(
      trx,
    );
    await trx
      .insertInto('event_months')
      .values({ month: first, put_away: String(written.n), kept: String(kept), at: ctx.clock.now() })
      .execute();
    ctx.log.info({ month, events: written.n, kept: Number(kept) }, 'old events are put away into files');
    return month;
  });
}

/** Until its transaction ends nobody else puts anything away: a lock of the transaction, which a pooler keeps where it was taken. */
async function isOurs(trx: Db): Promise<boolean> {
  const { rows } = await sql<{ mine: boolean }>`select pg_try_advisory_xact_lock(hashtext('old-events')) as mine`.execute(trx);
  return rows[0]?.mine ?? false;
}

const isAway = async (db: Db, first: string): Promise<boolean> =>
  (await db.selectFrom('event_months').select('month').where('month', '=', first).executeTakeFirst()) !== undefined;

/** Writes a month's events to files, a newsletter's to its own; each file is there whole or not at all. Answers how many there were, and the latest of them. */
async function write(ctx: Context, trx: Db, name: string, month: string): Promise<{ n: number; latest: string }> {
  await sql`declare old_events no scroll cursor for
    select id, newsletter_id, ${sql.raw(COLUMNS.join(', '))} from ${sql.table(name)} order by newsletter_id, day, id`.execute(
    trx,
  );
  let [n, latest] = [0, 0n];
  let file: MonthFile | null = null;
  for (;;) {
    const { rows } = await sql<Record<(typeof COLUMNS)[number], unknown> & { id: string; newsletter_id: string }>`
      fetch ${sql.lit(AT_ONCE)} from old_events`.execute(trx);
    if (rows.length === 0) break;
    for (const row of rows) {
      if (file?.of !== row.newsletter_id) {
        await keep(ctx, file);
        file = await MonthFile.begin(ctx, row.newsletter_id, month);
      }
      await file.add(`${COLUMNS.map((column) => cell(row[column])).join(',')}\r\n`);
      n += 1;
      if (BigInt(row.id) > latest) latest = BigInt(row.id);
    }
  }
  await keep(ctx, file);
  return { n, latest: String(latest) };
}

/** Of a newsletter that was deleted while its file was written nothing stays. */
async function keep(ctx: Context, file: MonthFile | null): Promise<void> {
  if (!file) return;
  await file.close();
  const there = await ctx.db.selectFrom('newsletters').select('id').where('id', '=', file.of).executeTakeFirst();
  if (!there) await rm(oldEventsDir(ctx, file.of), { recursive: true, force: true });
}

/** None of these has a comma or a quote in it: moments, numbers, ids and words of our own. */
const cell = (value: unknown): string => (value instanceof Date ? value.toISOString() : value === null ? '' : String(value));

/** One newsletter's file of a month, written beside its place and moved there when it is whole. */
class MonthFile {
  private constructor(
    readonly of: string,
    private readonly path: string,
    private readonly gzip: Gzip,
    private readonly done: Promise<void>,
  ) {}

  static async begin(ctx: Context, newsletterId: string, month: string): Promise<MonthFile> {
    const dir = oldEventsDir(ctx, newsletterId);
    await mkdir(dir, { recursive: true, mode: 0o700 });
    const path = join(dir, `events-${month}.csv.gz`);
    await rm(`${path}.part`, { force: true });
    const gzip = createGzip();
    const out = createWriteStream(`${path}.part`, { mode: 0o600 });
    gzip.pipe(out);
    gzip.on('error', (error) => out.destroy(error));
    const file = new MonthFile(newsletterId, path, gzip, finished(out));
    await file.add(`${COLUMNS.join(',')}\r\n`);
    return file;
  }

  async add(line: string): Promise<void> {
    if (!this.gzip.write(line)) await Promise.race([once(this.gzip, 'drain'), this.done]);
  }

  async close(): Promise<void> {
    this.gzip.end();
    await this.done;
    const handle = await open(`${this.path}.part`, 'r');
    await handle.sync().finally(() => handle.close());
    await rename(`${this.path}.part`, this.path);
    const dir = await open(dirname(this.path), 'r');
    await dir.sync().finally(() => dir.close());
  }
}

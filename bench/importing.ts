import { fork } from 'node:child_process';
import { once } from 'node:events';
import { chmodSync, createWriteStream, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { sql } from 'kysely';
import pino from 'pino';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context, Newsletter } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { beginImport, bringIn, importPage, lookThrough, undoImport } from '@/server/transfer/imports';
import { benchNewsletter } from './newsletter';
import { benchEnv, outsideResolver } from './outside';
import type { Figure } from './report';

const ROWS = 1_000_000;
const NAMES = ['mara', 'ilse', 'tomas', 'jorun', 'sunniva', 'aldous', 'odile', 'rufus'];

/** Rows as somebody's export has them: most at some large domains, a long tail at small ones, tags for a tenth, dates, a city. */
function* rows(): Generator<string> {
  yield 'email,first name,status,joined,tags,city\n';
  for (let n = 0; n < ROWS; n += 1) {
    const name = NAMES[n % 8]!;
    const domain = n % 5 < 2 ? `d${(n * 7919) % 24_000}.small.example` : `${['heronmail', 'postbird', 'kestrel'][n % 3]}.example`;
    const local = `${name}.${((n * 2_654_435_761) % 4_294_967_296).toString(36)}.${(n % 977).toString(36)}x${(n / 977) | 0}`;
    yield `${local}@${domain},${name[0]!.toUpperCase()}${name.slice(1)},subscribed,20${24 + (n % 3)}-0${1 + (n % 9)}-1${n % 9},${n % 10 ? '' : '"diver, patron"'},${n % 3 ? '' : 'Lisbon'}\n`;
  }
}
async function* stream(): AsyncGenerator<Buffer> {
  let held = '';
  for (const row of rows()) {
    held += row;
    if (held.length < 65_536) continue;
    yield Buffer.from(held);
    held = '';
  }
  yield Buffer.from(held);
}
const seconds = (began: number) => (performance.now() - began) / 1_000;

/** A million rows brought with all checks, their consent and what it takes to undo it; beside it a plain COPY of the same rows into a table with the indices of readers. */
export async function importing(db: Db, databaseUrl: string): Promise<Figure[]> {
  const env = benchEnv(databaseUrl);
  const config = readConfig(env);
  const ctx: Context = { db, clock: systemClock, config, log: pino({ level: 'error' }), resolver: outsideResolver() };
  const newsletter: Newsletter = await benchNewsletter(ctx, 'Bench');
  const yardstickValue = await copied(db, newsletter);
  const child = fork(new URL('./import-worker.ts', import.meta.url), {
    execArgv: ['--import', 'tsx'],
    env: { ...process.env, ...env },
  });
  await once(child, 'message');
  let memory = 0;
  const work = async (id: string) => {
    child.send(id);
    memory = ((await once(child, 'message')) as [{ megabytes: number }])[0].megabytes;
  };
  const began = performance.now();
  const { id } = await beginImport(ctx, newsletter, { name: 'Bench' }, 'bench.csv', stream());
  const taken = seconds(began);
  const { columns } = await importPage(ctx, newsletter, id);
  const list = await db.selectFrom('lists').select('id').where('newsletter_id', '=', newsletter.id).executeTakeFirstOrThrow();
  const parts = Object.fromEntries(
    columns.map((column, at) => [`part ${at}`, column.name === 'city' ? 'new text' : column.part]),
  );
  await lookThrough(ctx, newsletter, id, { ...parts, listId: list.id });
  await work(id);
  const looked = seconds(began);
  const page = await importPage(ctx, newsletter, id);
  if (page.found?.kinds.new !== ROWS) throw new Error(`Not all rows can be brought: ${JSON.stringify(page.found)} ${page.cause}`);
  await bringIn(ctx, newsletter, id, { how: 'vouched', said: 'They signed up on the old site, 2024 to 2026.' });
  await work(id);
  const value = seconds(began);
  const most = memory;
  const done = await importPage(ctx, newsletter, id);
  if (done.state !== 'done' || done.result.new !== ROWS) throw new Error(`Not all rows came: ${done.cause}`);
  const undone = performance.now();
  await undoImport(ctx, newsletter, id);
  await work(id);
  console.log(
    `  taken in ${taken.toFixed(0)} s, looked through ${(looked - taken).toFixed(0)} s, brought ${(value - looked).toFixed(0)} s; taken back in ${seconds(undone).toFixed(0)} s; its worker took at most ${Math.round(most)} MB`,
  );
  child.disconnect();
  return [
    {
      name: 'a million rows brought',
      value,
      unit: 's',
      yardstick: 'plain COPY of them into an indexed table',
      yardstickValue,
      aim: { atMost: 3 * yardstickValue },
    },
  ];
}

/** A plain COPY of the same addresses and names into a table of the same columns and indices, by the server out of a file. */
async function copied(db: Db, newsletter: Newsletter): Promise<number> {
  const file = join(tmpdir(), `inkset-bench-${process.pid}.csv`);
  const day = new Date().toISOString();
  const out = createWriteStream(file, { mode: 0o644 });
  let n = 0;
  for (const row of rows()) {
    n += 1;
    if (n === 1) continue;
    const [address, name] = row.split(',') as [string, string];
    const id = `${String(n).padStart(8, '0')}-0000-7000-8000-000000000000`;
    const said = `${id},${newsletter.id},${address},${address},1,${name},${name.toLowerCase()},1,true,import,${day.slice(0, 10)},${day}\n`;
    if (!out.write(said)) await once(out, 'drain');
  }
  out.end();
  await once(out, 'close');
  chmodSync(file, 0o644);
  try {
    await sql`create table copied (like readers including defaults including generated including indexes)`.execute(db);
    const began = performance.now();
    await sql`copy copied (id, newsletter_id, address, address_key, domain_id, first_name, name_key, lists_reading, confirmed, source_name, created_on, created_at) from ${sql.lit(file)} (format csv)`.execute(
      db,
    );
    return seconds(began);
  } finally {
    rmSync(file, { force: true });
    await sql`drop table if exists copied`.execute(db);
  }
}

import { type ChildProcess, fork } from 'node:child_process';
import { once } from 'node:events';
import { sql } from 'kysely';
import nodemailer from 'nodemailer';
import pino from 'pino';
import type { RampPlan } from '@/core/delivery/ramp';
import { localDay } from '@/core/growth/days';
import type { Audience } from '@/core/sending/audience';
import { lookAgainAfter, median } from '@/core/sending/result';
import type { Node } from '@/core/writing/document';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context, Newsletter } from '@/server/context';
import { type Db, inTransaction } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { foldCounts } from '@/server/jobs/tick';
import { scheduleLetter } from '@/server/sending/letters';
import { noteProgress, progressOf } from '@/server/sending/progress';
import { rampAhead } from '@/server/sending/ramp';
import { countRamp } from '@/server/sending/ramp-days';
import { curveOf } from '@/server/sending/results';
import { findRoutes } from '@/server/sending/routing';
import { silence } from '@/server/sending/silence';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { prepareNewsletter } from './letter';
import { benchEnv, outsideResolver, SMALL_DOMAINS } from './outside';
import type { Figure } from './report';

const LETTERS = 12_000;
const YARDSTICK_LETTERS = 600;
const POOL_CONNECTIONS = 6;
const LEAN_LINES = 20;
const ROUNDS = 3;
const MILLION = 1_000_000;
const DOMAIN = 'lanternfish.example';

const WORDS = 'At six hundred metres the net comes up glowing, and for about forty seconds every lanternfish is lit. ';
/** A letter of about 30 KB on the wire, with ten links of its own. */
const NODES: Node[] = Array.from({ length: 10 }, (_, n) => ({
  kind: 'paragraph',
  inline: [
    { kind: 'text', text: WORDS.repeat(10) },
    { kind: 'text', text: 'Read on', href: `https://${DOMAIN}/${n}` },
  ],
}));

type Sink = {
  port: number;
  counted(reset?: boolean): Promise<{ messages: number; bytes: number; doubles: number }>;
  process: ChildProcess;
};
async function sink(): Promise<Sink> {
  const child = fork(new URL('./sink.ts', import.meta.url), { execArgv: ['--import', 'tsx'] });
  const [{ port }] = (await once(child, 'message')) as [{ port: number }];
  return {
    port,
    process: child,
    async counted(reset = false) {
      child.send(reset ? 'reset' : 'count');
      return ((await once(child, 'message')) as [{ messages: number; bytes: number; doubles: number }])[0];
    },
  };
}

type Worker = { send(message: object): void; ask(message: object): Promise<{ ms: number; rss: number }>; stop(): Promise<void> };
async function worker(env: Record<string, string>): Promise<Worker> {
  const child = fork(new URL('./post-office.ts', import.meta.url), {
    execArgv: ['--import', 'tsx'],
    env: { ...process.env, ...env },
  });
  await once(child, 'message');
  return {
    send: (message) => void child.send(message),
    async ask(message) {
      child.send(message);
      return ((await once(child, 'message')) as [{ ms: number; rss: number }])[0];
    },
    async stop() {
      child.send({ stop: true });
      await once(child, 'exit');
    },
  };
}

type Bench = { ctx: Context; env: Record<string, string>; other: Sink; newsletter: Newsletter; senderId: string; pem: string };

/** A newsletter, a sink for its letters and the environment of worker processes. */
async function openBench(db: Db, databaseUrl: string): Promise<Bench> {
  const other = await sink();
  const env = {
    ...benchEnv(databaseUrl),
    INKSET_MX_PORT: String(other.port),
    INKSET_ALLOW_LOOPBACK: 'true',
    INKSET_LOG_LEVEL: 'warn',
  };
  const ctx: Context = {
    db,
    clock: systemClock,
    config: readConfig(env),
    log: pino({ level: 'silent' }),
    resolver: outsideResolver(),
  };
  return { ctx, env, other, ...(await prepareNewsletter(ctx)) };
}

/**
 * Letters handed over per second to a local SMTP sink by the whole way a letter goes (claimed from PostgreSQL, slots filled, signed, sent, each result
 * durable before the lane's next one ends), in worker processes of their own. Beside, in the same run: a plain nodemailer pool that composes and signs
 * letters of the same size and keeps no record; the lean limit, the same pre-compiled letter signed off the thread on as many connections without a
 * database; two workers; and recipients of whom 40 % are at a long tail of small domains.
 */
export async function sending(db: Db, databaseUrl: string): Promise<Figure[]> {
  const bench = await openBench(db, databaseUrl);
  const { env, other } = bench;
  try {
    const one = await fillList(bench, 'One domain', LETTERS, () => 'heronmail.example');
    const tail = await fillList(bench, 'Long tail', LETTERS, (n) =>
      n % 5 < 2 ? `d${(n * 7919) % SMALL_DOMAINS}.small.example` : BIG[n % 4]!,
    );
    const rounds: Record<'ours' | 'pool' | 'lean' | 'two' | 'tail' | 'tick', number>[] = [];
    for (let round = 0; round < ROUNDS; round += 1) {
      const letterId = await ready(bench, one);
      const { html } = await db.selectFrom('letters').select('html').where('id', '=', letterId).executeTakeFirstOrThrow();
      const ours = await handOver(bench, 1, LETTERS);
      const size = Math.round(ours.bytes / ours.messages);
      let began = performance.now();
      await plainPool(other.port, bench.pem, html ?? '', size);
      const pool = (1000 * YARDSTICK_LETTERS) / (performance.now() - began);
      const limit = await worker(env);
      began = performance.now();
      const { ms } = await limit.ask({ lean: { letterId, letters: LETTERS / 2, lines: LEAN_LINES } });
      await limit.stop();
      const lean = (1000 * LETTERS) / 2 / ms;
      await ready(bench, one);
      const two = await handOver(bench, 2, LETTERS);
      await ready(bench, tail);
      const long = await handOver(bench, 1, LETTERS);
      rounds.push({ ours: ours.rate, pool, lean, two: two.rate, tail: long.rate, tick: long.tick });
      console.log(
        `  round ${round + 1}: ${Math.round(ours.rate)} letters a second of ${(size / 1000).toFixed(1)} KB; plain pool ${Math.round(pool)}; lean limit ${Math.round(lean)}; two workers ${Math.round(two.rate)} (${two.doubles} doubles); long tail ${Math.round(long.rate)}, tick ${Math.round(long.tick)} ms`,
      );
    }
    const median = (of: (round: (typeof rounds)[number]) => number) =>
      rounds.map(of).sort((a, b) => a - b)[Math.floor(ROUNDS / 2)]!;
    const figure = (
      name: string,
      part: 'ours' | 'two' | 'tail',
      against: 'pool' | 'lean' | 'ours',
      yardstick: string,
      ratioAtLeast: number,
    ): Figure => {
      const ratio = median((round) => round[part] / round[against]);
      const value = median((round) => round[part]);
      return { name, value, unit: 'letters/s', yardstick, yardstickValue: value / ratio, aim: { ratioAtLeast } };
    };
    return [
      figure('letters handed over per second', 'ours', 'pool', 'plain nodemailer pool', 6),
      figure('the same', 'ours', 'lean', 'lean limit without a database', 0.7),
      figure('two worker processes', 'two', 'ours', 'one worker process', 1.5),
      figure('with 40 % at a long tail of 24,000 domains', 'tail', 'ours', 'single domain', 0.7),
      {
        name: 'a tick meanwhile',
        value: median((round) => round.tick),
        unit: 'ms',
        yardstick: 'a tick with nothing due',
        yardstickValue: 1,
        aim: { atMost: 200 },
      },
    ];
  } finally {
    other.process.kill();
  }
}

const BIG = ['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example'];

/** Schedules and starts a letter to a list, so that it is ready to be handed over. */
async function ready({ ctx, newsletter, senderId }: Bench, audience: Audience): Promise<string> {
  const postId = newId();
  const now = new Date();
  await ctx.db
    .insertInto('posts')
    .values({
      id: postId,
      newsletter_id: newsletter.id,
      slug: postId,
      title: 'The lamp-fish census',
      document: JSON.stringify({ version: 1, nodes: NODES }),
      link: `https://${DOMAIN}/census`,
      created_at: now,
      updated_at: now,
    })
    .execute();
  const id = await scheduleLetter(ctx, ctx.db, {
    newsletterId: newsletter.id,
    postId,
    autoSendId: null,
    layoutId: null,
    audience,
    senderId,
    subject: 'The lamp-fish census',
    previewLine: 'How do you count?',
    dueAt: now,
  });
  await startLetter(ctx, id);
  return id;
}

/** Lets so many workers hand over what is ready, until so many letters have arrived. */
async function handOver({ ctx, env, other }: Bench, workers: number, letters: number) {
  await findRoutes(ctx);
  await sql`analyze deliveries`.execute(ctx.db);
  const all = await Promise.all(Array.from({ length: workers }, () => worker(env)));
  await other.counted(true);
  const began = performance.now();
  for (const one of all) one.send({ start: true });
  let tick = 0;
  let rss = 0;
  for (let got = 0, looks = 0; got < letters; looks += 1) {
    await new Promise((resolve) => setTimeout(resolve, 25));
    got = (await other.counted()).messages;
    if (looks % 40 === 20) {
      const asked = await all[0]!.ask({ tick: true });
      tick = Math.max(tick, asked.ms);
      rss = Math.max(rss, asked.rss);
    }
  }
  const seconds = (performance.now() - began) / 1000;
  await Promise.all(all.map((one) => one.stop()));
  const got = await other.counted();
  return { rate: letters / seconds, tick, rss, ...got };
}

/** How long the start of a letter to a million takes, and whether they leave as quickly as ten thousand. */
export async function largeLetter(db: Db, databaseUrl: string): Promise<Figure[]> {
  const bench = await openBench(db, databaseUrl);
  try {
    return await toAMillion(bench);
  } finally {
    bench.other.process.kill();
  }
}

async function toAMillion(bench: Bench): Promise<Figure[]> {
  const { ctx } = bench;
  const { db } = ctx;
  const own = await prepareNewsletter(ctx);
  const at = { ...bench, ...own };
  console.log('  filling a newsletter with a million readers ...');
  const [a, b, without] = await Promise.all(['A', 'B', 'Without'].map((name) => makeList(at, name)));
  const few = await makeList(at, 'Few');
  await quietly(db, async (trx) => {
    await sql`
      insert into mail_domains (name) select case when n < 4 then (${BIG}::text[])[n + 1] else 'd' || (n - 4) || '.small.example' end from generate_series(0, ${SMALL_DOMAINS + 3}) n on conflict do nothing`.execute(
      trx,
    );
    await sql`create temporary table names on commit drop as select row_number() over (order by id) - 1 as place, id, name from mail_domains where name = any(${BIG}) or name like 'd%.small.example'`.execute(
      trx,
    );
    await sql`
      insert into readers (id, newsletter_id, address, address_key, domain_id, created_on, created_at, lists_reading, confirmed, last_read_at)
      select (lpad(to_hex((extract(epoch from now() - make_interval(secs => 46656000 - n * 46)) * 1000)::bigint), 12, '0') || '7' || substr(md5(n::text), 1, 3) || '8' || substr(md5(n::text), 4, 15))::uuid, ${own.newsletter.id}::uuid, 'm' || n || '@' || d.name, 'm' || n || '@' || d.name, d.id, current_date - (n % 540), now() - make_interval(days => n % 540), 1, true,
        case when n % 3 = 0 then now() - make_interval(days => n % 90) end
      from generate_series(1, ${MILLION}) n join names d on d.place = case when n % 5 < 2 then 4 + (n::bigint * 7919) % ${SMALL_DOMAINS} else n % 4 end`.execute(
      trx,
    );
    // Most read one list, some another too; a tenth read the list that is left out.
    await sql`
      insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
      select r.id, l.id, r.newsletter_id, 'reading', r.created_at, r.created_at from readers r
      join (values (${a!}::uuid, 0, 69), (${b!}::uuid, 50, 99), (${without!}::uuid, 90, 99), (${few}::uuid, 0, 0)) l (id, low, high) on abs(hashtext(r.id::text)) % 100 between l.low and l.high
      where r.newsletter_id = ${own.newsletter.id}`.execute(trx);
  });
  // Domains are looked up when they are new, long before their first letter.
  await findRoutes(ctx);
  await sql`analyze`.execute(db);
  const list = (id: string) => ({ kind: 'list' as const, id });
  const began = performance.now();
  const before = process.memoryUsage().rss;
  await ready(at, {
    to: [list(a!), list(b!), { kind: 'those', condition: { kind: 'read within', days: 60 } }],
    without: [list(without!)],
  });
  const started = (performance.now() - began) / 1000;
  const grown = (process.memoryUsage().rss - before) / 1e6;
  const { rows } = await sql<{
    n: string;
  }>`select sum(recipients) as n from letter_counts where newsletter_id = ${own.newsletter.id}`.execute(db);
  console.log(`  a letter to ${rows[0]?.n} started in ${started.toFixed(1)} s; this process grew by ${Math.round(grown)} MB`);
  const large = await handOver(at, 1, LETTERS);
  const watched = await whileWatched(at, rows[0] ? await largest(at) : '');
  await sql`update letters set state = 'stopped' where newsletter_id = ${own.newsletter.id} and state = 'sending'`.execute(db);
  await sql`delete from route_jobs where newsletter_id = ${own.newsletter.id}`.execute(db);
  await sql`update routes set due_at = null`.execute(db);
  // As many recipients as the others, of the same people.
  await ready(at, { to: [list(few)], without: [] });
  const small = await handOver(at, 1, 9_000);
  const ramp = await underRamp(at, { to: [list(a!), list(b!)], without: [] });
  console.log(
    `  ${Math.round(large.rate)} letters a second at a million, ${Math.round(small.rate)} at ten thousand; the worker had ${Math.round(large.rss / 1e6)} MB; a tick took ${Math.round(large.tick)} ms`,
  );
  return [
    {
      name: 'start of a letter to a million',
      value: started,
      unit: 's',
      yardstick: 'the wanted time',
      yardstickValue: 20,
      aim: { atMost: 20 },
    },
    {
      name: 'the same while somebody watches its page',
      value: watched.seen,
      unit: 'letters/s',
      yardstick: 'nobody watching, in turn',
      yardstickValue: watched.unseen,
      aim: { ratioAtLeast: 0.98 },
    },
    {
      name: 'its page meanwhile, p95',
      value: watched.page,
      unit: 'ms',
      yardstick: 'the wanted time',
      yardstickValue: 150,
      aim: { atMost: 150 },
    },
    {
      name: `${ramp.moved} copies moved to later days of a ramp-up`,
      value: ramp.seconds,
      unit: 's',
      yardstick: 'bare UPDATE of all at once',
      yardstickValue: ramp.bare,
      aim: { atMost: 180 },
    },
    {
      name: 'longest wait of somebody who leaves meanwhile',
      value: ramp.wait / 1_000,
      unit: 's',
      yardstick: 'the same if all were moved at once, at least',
      yardstickValue: ramp.bare,
      aim: { atMost: 3 },
    },
    {
      name: 'letters per second at a million recipients',
      value: large.rate,
      unit: 'letters/s',
      yardstick: 'ten thousand recipients',
      yardstickValue: small.rate,
      aim: { ratioAtLeast: 0.85 },
    },
  ];
}

/** How long it takes to move the copies of a letter when its ramp-up's ceilings fall, and how long whoever leaves meanwhile waits at most. */
async function underRamp(
  bench: Bench,
  audience: Audience,
): Promise<{ moved: number; seconds: number; bare: number; wait: number }> {
  const { ctx, newsletter } = bench;
  const { db } = ctx;
  const startedOn = localDay(ctx.clock.now(), 'UTC');
  const { id: domainId } = await db
    .selectFrom('domains')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirstOrThrow();
  const plan = (ramp: RampPlan) =>
    db
      .updateTable('domains')
      .set({ ramp: JSON.stringify(ramp), ramp_counted_at: null })
      .where('id', '=', domainId)
      .execute();
  await plan({ startedOn, first: 60_000, volume: 400_000, days: 12 });
  const letterId = await ready(bench, audience);
  const { rows } = await sql<{ reader_id: string }>`
    select reader_id from deliveries where letter_id = ${letterId} and state = 'queued' order by random() limit 400`.execute(db);
  const began = performance.now();
  await db
    .transaction()
    .execute(async (trx) => {
      await sql`update deliveries set due_at = due_at + interval '1 day' where letter_id = ${letterId}`.execute(trx);
      throw new Error('taken back');
    })
    .catch(() => undefined);
  const bare = (performance.now() - began) / 1_000;
  await plan({ startedOn, first: 30_000, volume: 400_000, days: 20 });
  let [wait, ended] = [0, false];
  const leaving = (async () => {
    for (const { reader_id } of rows) {
      if (ended) return;
      const from = performance.now();
      await inTransaction(db, (trx) =>
        silence(ctx, trx, { readerId: reader_id, newsletterId: newsletter.id, reason: 'left', detail: '' }),
      );
      wait = Math.max(wait, performance.now() - from);
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  })();
  const { rows: before } = await byDay(db, letterId);
  const from = performance.now();
  await countRamp(ctx, domainId);
  const seconds = (performance.now() - from) / 1_000;
  ended = true;
  await leaving;
  const { rows: after } = await byDay(db, letterId);
  const ceilings = new Map(
    (await rampAhead(db, { id: domainId, ramp: { startedOn, first: 30_000, volume: 400_000, days: 20 } }, startedOn)).map(
      (one) => [one.day, one.ceiling],
    ),
  );
  for (const { day, n } of after) if (n > (ceilings.get(day) ?? n)) throw new Error(`${n} copies on ${day} are too many.`);
  const sum = (of: { n: number }[]) => of.reduce((all, one) => all + one.n, 0);
  console.log(`  ${sum(after)} of ${sum(before)} copies wait on ${after.length} days, which were ${before.length}`);
  return { moved: sum(after), seconds, bare, wait };
}

const byDay = (db: Db, letterId: string) =>
  sql<{ day: string; n: number }>`
    select to_char(due_at, 'YYYY-MM-DD') as day, count(*)::int as n from deliveries where letter_id = ${letterId} and state = 'queued' group by 1`.execute(
    db,
  );

/** The newsletter's letter that is under way. */
async function largest({ ctx, newsletter }: Bench): Promise<string> {
  const { id } = await ctx.db
    .selectFrom('letters')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('state', '=', 'sending')
    .executeTakeFirstOrThrow();
  return id;
}

const TURNS = 5;
const A_ROUND = 6_000;
/** How quickly a letter leaves with and without somebody who watches its page, in turn, since the machine drifts; and how long the page takes meanwhile. */
async function whileWatched(bench: Bench, id: string): Promise<{ seen: number; unseen: number; page: number }> {
  const { ctx, newsletter } = bench;
  const [seen, unseen, pages]: number[][] = [[], [], []];
  let timer: NodeJS.Timeout | undefined;
  // As its page does.
  const look = async () => {
    const began = performance.now();
    const [, , progress] = await Promise.all([
      letterOf(ctx, newsletter, id),
      curveOf(ctx, newsletter, id),
      progressOf(ctx, newsletter, id),
    ]);
    pages!.push(performance.now() - began);
    if (timer) timer = setTimeout(() => void look(), 1_000 * lookAgainAfter(progress?.left ?? null));
  };
  for (let round = 0; round < TURNS * 2; round += 1) {
    const watching = round % 2 === 1;
    timer = watching ? setTimeout(() => void look(), 1_000) : undefined;
    // As a worker does it every second.
    const folds = setInterval(() => void foldCounts(ctx).then(() => noteProgress(ctx)), 1_000);
    const { rate } = await handOver(bench, 1, A_ROUND);
    clearTimeout(timer);
    timer = undefined;
    clearInterval(folds);
    (watching ? seen : unseen)!.push(rate);
  }
  pages!.sort((a, b) => a - b);
  return { seen: median(seen!), unseen: median(unseen!), page: pages![Math.floor(pages!.length * 0.95)] ?? 0 };
}

/** Loads many rows without the triggers that keep counts, which are made right afterwards. */
const quietly = (db: Db, work: (trx: Db) => Promise<void>): Promise<void> =>
  db.transaction().execute(async (trx) => {
    await sql`set local session_replication_role = replica`.execute(trx);
    await work(trx);
  });

async function makeList({ ctx, newsletter }: { ctx: Context; newsletter: Newsletter }, name: string): Promise<string> {
  const id = newId();
  await ctx.db
    .insertInto('lists')
    .values({ id, newsletter_id: newsletter.id, name, public_name: name, created_at: new Date() })
    .execute();
  return id;
}

/** A list of so many readers, each at the domain that is said. */
async function fillList(bench: Bench, name: string, readers: number, domainOf: (n: number) => string): Promise<Audience> {
  const { db } = bench.ctx;
  const id = await makeList(bench, name);
  const now = new Date();
  for (let at = 0; at < readers; at += 2_000) {
    const some = Array.from({ length: Math.min(2_000, readers - at) }, (_, k) => {
      const address = `${name.replace(/\W/g, '').toLowerCase()}${at + k}@${domainOf(at + k)}`;
      return { id: newId(), newsletter_id: bench.newsletter.id, address, address_key: address, created_at: now };
    });
    await db.insertInto('readers').values(some).execute();
    await db
      .insertInto('memberships')
      .values(
        some.map((reader) => ({
          reader_id: reader.id,
          list_id: id,
          newsletter_id: bench.newsletter.id,
          state: 'reading' as const,
          since: now,
          joined_at: now,
        })),
      )
      .execute();
  }
  return { to: [{ kind: 'list', id }], without: [] };
}

/** Composes and signs each letter anew, as a plain pool does. Adds a filler so that both sides send the same number of bytes. */
async function plainPool(port: number, pem: string, html: string, size: number): Promise<void> {
  const transport = nodemailer.createTransport({
    host: '127.0.0.1',
    port,
    secure: false,
    ignoreTLS: true,
    pool: true,
    maxConnections: POOL_CONNECTIONS,
    maxMessages: Infinity,
    dkim: { domainName: DOMAIN, keySelector: 'ink1', privateKey: pem },
  });
  const text = 'The same words as plain text. '.repeat(Math.max(1, Math.round((size - html.length * 1.05 - 1_500) / 30)));
  await Promise.all(
    Array.from({ length: YARDSTICK_LETTERS }, (_, n) =>
      transport.sendMail({
        from: `"Ottoline Vance" <letters@${DOMAIN}>`,
        to: `reader${n}@heronmail.example`,
        subject: 'The lamp-fish census',
        html: html.replace(/\ue000[^\ue001]*\ue001/g, `https://go.inkset.example/e/c/${n}`),
        text,
        headers: {
          'List-Unsubscribe': `<https://go.inkset.example/e/leave/${n}>`,
          'List-Unsubscribe-Post': 'List-Unsubscribe=One-Click',
        },
      }),
    ),
  );
  transport.close();
}

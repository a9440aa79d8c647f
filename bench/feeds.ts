import { createServer } from 'node:http';
import { sql } from 'kysely';
import { pino } from 'pino';
import { ALL_WHOLE, TITLES_ONLY, type Whole } from '@/core/autosend/feed';
import { usualSettings } from '@/core/autosend/rule';
import { ofList } from '@/core/sending/audience';
import { FeedReader } from '@/server/autosend/feed-reader';
import { readApart } from '@/server/autosend/feeds';
import { letJoin, runRule } from '@/server/autosend/runs';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { startLetter } from '@/server/sending/start';
import { buildScripts } from '../cli/build';
import { prepareNewsletter } from './letter';
import { benchEnv, outsideResolver } from './outside';
import { type Figure, p95 } from './report';

const FEEDS = 10_000;
const WAIT_MS = 200;
const READERS = 100_000;

const item = (n: number, words: string) =>
  `<item><title>Post ${n}</title><guid>p${n}</guid><link>https://lanternfish.example/${n}</link><pubDate>${new Date(Date.UTC(2026, 9, 1 + (n % 28))).toUTCString()}</pubDate><content:encoded><![CDATA[${words}]]></content:encoded></item>`;
const rss = (items: string) =>
  `<rss version="2.0" xmlns:content="http://purl.org/rss/1.0/modules/content/"><channel><title>Bench</title>${items}</channel></rss>`;

/** Ten thousand feeds at servers that take their time, one large feed, and a digest to a hundred thousand readers at three rhythms. */
export async function feeds(db: Db, url: string): Promise<Figure[]> {
  const config = readConfig({ ...benchEnv(url), INKSET_ALLOW_LOOPBACK: 'true' });
  const ctx: Context = { db, clock: systemClock, config, log: pino({ level: 'silent' }), resolver: outsideResolver() };
  await buildScripts();
  return [...(await farm(ctx)), ...(await large()), await digest(ctx)];
}

async function farm(ctx: Context): Promise<Figure[]> {
  const body = rss(Array.from({ length: 12 }, (_, n) => item(n, `<p>${'Some words of a post. '.repeat(40)}</p>`)).join(''));
  let asked = 0;
  const server = createServer((request, response) => {
    asked += 1;
    // One server answers nothing at all.
    if (request.url === '/f/0') return;
    setTimeout(() => response.writeHead(200, { 'content-type': 'application/rss+xml', etag: '"1"' }).end(body), WAIT_MS);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as { port: number };
  const { newsletter, senderId } = await prepareNewsletter(ctx);
  const ways = await waysOf(ctx, newsletter.id);
  const now = ctx.clock.now();
  await sql`
    with f as (insert into feeds (id, newsletter_id, url, title, next_poll_at, created_at)
      select gen_random_uuid(), ${newsletter.id}, 'http://f' || (n % 2000) || '.localhost:' || ${port}::text || '/f/' || n, 'F', ${now}, ${now} from generate_series(0, ${FEEDS - 1}) n returning id),
    a as (insert into auto_sends (id, newsletter_id, name, settings, audience, sender_id, layout_id, switched_on_at, created_at)
      select id, ${newsletter.id}, 'R', ${JSON.stringify(usualSettings('UTC'))}::jsonb, ${JSON.stringify(ofList(ways.list))}::jsonb, ${senderId}, ${ways.layout}, ${now}, ${now} from f returning id)
    insert into auto_send_feeds (auto_send_id, feed_id, since) select id, id, ${now} from a`.execute(ctx.db);
  await sql`vacuum analyze`.execute(ctx.db);
  const reader = new FeedReader(ctx);
  const round = async () => {
    const began = performance.now();
    // One who says nothing is waited for beside the others, and not by them.
    for (;;) {
      await reader.look();
      const { rows } = await sql<{
        n: number;
      }>`select count(*)::int as n from feeds where polled_at is null or next_poll_at <= ${ctx.clock.now()}`.execute(ctx.db);
      if (rows[0]!.n <= 1) break;
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
    return (performance.now() - began) / 1_000;
  };
  const first = await round();
  console.log(`  first round ${first.toFixed(1)} s`);
  console.log(`  ${asked} asked, ${Math.round(process.memoryUsage().rss / 1_000_000)} MB in use`);
  await reader.stop();
  server.closeAllConnections();
  server.close();
  // The same answers fetched and thrown away, as many side by side.
  const bare = (FEEDS / 48) * (WAIT_MS / 1_000);
  return [
    {
      name: '10,000 feeds read for the first time, one server silent',
      value: first,
      unit: 's',
      yardstick: 'waiting for their servers alone, 48 side by side',
      yardstickValue: bare,
      aim: { atMost: 300 },
    },
  ];
}

async function large(): Promise<Figure[]> {
  const words =
    `<p>${'Some words of a post, as its writer wrote them. '.repeat(10)}<a href="/other">A link</a>, and <em>more</em>.</p>`.repeat(
      46,
    );
  const feedOf = (posts: number[]) => Buffer.from(rss(posts.map((n) => item(n, words)).join('')));
  const posts = Array.from({ length: 200 }, (_, n) => n);
  const bytes = feedOf(posts);
  const read = (of: Buffer, whole: Whole) =>
    readApart(of, 'application/rss+xml', 'https://lanternfish.example/feed', 'UTC', whole);
  const { items } = await read(bytes, TITLES_ONLY);
  const known = { known: new Set(items.map((one) => one.source)), since: null };
  // Its oldest post has made room for a new one.
  const later = feedOf([200, ...posts.slice(0, -1)]);
  const before = process.memoryUsage().rss;
  let most = before;
  const watch = setInterval(() => {
    most = Math.max(most, process.memoryUsage().rss);
  }, 5);
  const again = await p95(async () => {
    const { items } = await read(later, known);
    if (items.filter((one) => one.document).length !== 1) throw new Error('Not the new post alone was read.');
  }, 25);
  clearInterval(watch);
  const size = `a feed of ${(bytes.length / 1_000_000).toFixed(1)} MB`;
  const yardstick = {
    yardstick: 'decoding its bytes',
    yardstickValue: await p95(async () => new TextDecoder('utf-8', { fatal: true }).decode(bytes), 25),
  };
  return [
    { name: `${size}, read again with one new post, p95`, value: again, unit: 'ms', ...yardstick, aim: { atMost: 300 } },
    {
      name: 'memory it takes',
      value: (most - before) / 1_000_000,
      unit: 'MB',
      yardstick: 'feed itself',
      yardstickValue: bytes.length / 1_000_000,
      aim: { atMost: 150 },
    },
    {
      name: `${size}, read first: what is in it, and nothing of what it says, p95`,
      value: await p95(() => read(bytes, TITLES_ONLY), 25),
      unit: 'ms',
      ...yardstick,
      aim: { atMost: 300 },
    },
    {
      name: `${size}, all 200 posts new and made into nodes, p95`,
      value: await p95(() => read(bytes, ALL_WHOLE), 25),
      unit: 'ms',
      ...yardstick,
      aim: { atMost: 300 },
    },
  ];
}

async function waysOf(ctx: Context, newsletterId: string): Promise<{ list: string; layout: string }> {
  const first = (table: 'lists' | 'layouts') =>
    ctx.db.selectFrom(table).select('id').where('newsletter_id', '=', newsletterId).executeTakeFirstOrThrow();
  const [list, layout] = await Promise.all([first('lists'), first('layouts')]);
  return { list: list.id, layout: layout.id };
}

async function digest(ctx: Context): Promise<Figure> {
  const { newsletter, senderId: sender } = await prepareNewsletter(ctx);
  const { list, layout } = await waysOf(ctx, newsletter.id);
  const now = ctx.clock.now();
  await sql`
    with r as (insert into readers (id, newsletter_id, address, address_key, created_at)
      select gen_random_uuid(), ${newsletter.id}, 'r' || n || '@d' || (n % 3000) || '.example', 'r' || n || '@d' || (n % 3000) || '.example', ${now} from generate_series(1, ${READERS}) n returning id)
    insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at) select id, ${list}, ${newsletter.id}, 'reading', ${now}, ${now} from r`.execute(
    ctx.db,
  );
  const rule = newId();
  const settings = {
    ...usualSettings('UTC'),
    rhythm: { kind: 'days', days: [1, 2, 3, 4, 5], hour: '07:00' },
    quietMinutes: 0,
    choices: { daily: '07:00', weekly: { day: 7, hour: '09:00' } },
  };
  await sql`
    insert into auto_sends (id, newsletter_id, name, settings, audience, sender_id, layout_id, switched_on_at, created_at)
    values (${rule}, ${newsletter.id}, 'R', ${JSON.stringify(settings)}::jsonb, ${JSON.stringify(ofList(list))}::jsonb, ${sender}, ${layout}, ${now}, ${now})`.execute(
    ctx.db,
  );
  const feed = newId();
  await sql`insert into feeds (id, newsletter_id, url, title, created_at) values (${feed}, ${newsletter.id}, 'https://lanternfish.example/feed', 'F', ${now})`.execute(
    ctx.db,
  );
  await sql`insert into rule_lanes (auto_send_id, lane, next_at) select ${rule}, unnest(array['usual', 'daily', 'weekly', 'each']), ${now}`.execute(
    ctx.db,
  );
  await sql`
    with i as (insert into feed_items (id, feed_id, item_key, title, link, document, source, print, first_seen_at, changed_at)
      select gen_random_uuid(), ${feed}, 'k' || n, 'Post ' || n, 'https://lanternfish.example/' || n, '{"version":1,"nodes":[{"kind":"paragraph","inline":[{"kind":"text","text":"Words"}]}]}', 's', 'p', ${now}, ${now} from generate_series(1, 4) n returning id)
    insert into rule_posts (auto_send_id, item_id, state, place, filed_at) select ${rule}, id, 'ready', row_number() over (), ${now} from i`.execute(
    ctx.db,
  );
  await sql`
    insert into reader_rhythms (auto_send_id, reader_id, newsletter_id, lane, chosen_at)
    select ${rule}, id, ${newsletter.id}, case when abs(hashtext(id::text)) % 3 = 0 then 'daily' else 'weekly' end, ${now} from readers where newsletter_id = ${newsletter.id} and abs(hashtext(id::text)) % 3 < 2`.execute(
    ctx.db,
  );
  await sql`vacuum analyze`.execute(ctx.db);
  const began = performance.now();
  for (let n = 0; n < 6; n += 1) {
    await runRule(ctx, rule);
    for (const { id } of await ctx.db
      .selectFrom('letters')
      .select('id')
      .where('auto_send_id', '=', rule)
      .where('state', 'in', ['scheduled', 'held'])
      .execute()) {
      await letJoin(ctx, id);
      await startLetter(ctx, id);
    }
  }
  const value = (performance.now() - began) / 1_000;
  const { rows } = await sql<{ letters: number; copies: number; people: number; state: string }>`
    select count(distinct l.id)::int as letters, count(d.*)::int as copies, count(distinct d.reader_id)::int as people, min(l.cause) as state from letters l left join deliveries d on d.letter_id = l.id where l.auto_send_id = ${rule}`.execute(
    ctx.db,
  );
  console.log(`  ${rows[0]!.letters} letters, ${rows[0]!.copies} copies to ${rows[0]!.people} people ${rows[0]!.state ?? ''}`);
  if (rows[0]!.people !== READERS) throw new Error('Somebody is left out.');
  const began2 = performance.now();
  await sql`create table bare as select gen_random_uuid() as id, r.id as reader_id, r.address, ${now}::timestamptz as due from readers r where newsletter_id = ${newsletter.id}`.execute(
    ctx.db,
  );
  return {
    name: 'a digest of four posts fixed for 100,000 readers at three rhythms',
    value,
    unit: 's',
    yardstick: 'bare insert of as many rows',
    yardstickValue: (performance.now() - began2) / 1_000,
    aim: { atMost: 5 },
  };
}

import type { ChildProcess } from 'node:child_process';
import { mkdtempSync, readdirSync } from 'node:fs';
import { getPriority } from 'node:os';
import { join } from 'node:path';
import { sql } from 'kysely';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { STANDS_BACK } from '@/server/jobs/post-office';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { startDnsHost } from '../../cli/dns-host';
import { type Home, openHome } from '../../cli/home';
import { removeHome, startPostgres, stopPostgres } from '../../cli/postgres';
import { Peer } from './peers';
import { startProcess } from './process';
import { admin, makeTemplate, type Server, serverOf } from './template';
import { TestWorld } from './world';

const WORKERS = 3;

let home: Home;
let server: Server;
let world: TestWorld;
let peer: Peer;
let dns: Awaited<ReturnType<typeof startDnsHost>>;
const workers: ChildProcess[] = [];

// A database server of this file's own, which it may stop.
beforeAll(async () => {
  home = openHome(mkdtempSync(join('/var/tmp', 'inkset-killed-')));
  server = serverOf(await startPostgres(home));
  await makeTemplate(server);
});
afterAll(() => removeHome(home));
beforeEach(async () => {
  world = await TestWorld.open(server);
  world.pool.on('error', () => {});
  // It takes its time, so that there is something on every wire when a blow falls, and mail left after the last one.
  const end = async () => {
    await pause(40);
    return '250 2.0.0 Taken';
  };
  peer = await new Peer('127.0.9.1', { end }).open(world.mail.port);
  dns = await startDnsHost();
  await dns.put('heronmail.example', '@ IN MX 10 mx\nmx IN A 127.0.9.1\n');
});
afterEach(async () => {
  for (const worker of workers.splice(0)) worker.kill('SIGKILL');
  await peer.close();
  dns.close();
  await world.close();
});

const startWorker = (): ChildProcess =>
  startProcess(world, 'worker', { INKSET_DNS_SERVERS: `127.0.0.1:${dns.port}`, INKSET_DNS_AUTHORITY_PORT: String(dns.port) });

/** The same dice on every run. */
let state = 20_261_124;
const chance = () => {
  state = (Math.imul(state, 1_103_515_245) + 12_345) & 0x7fffffff;
  return state / 0x7fffffff;
};
const pause = (ms: number) => new Promise<void>((resolve) => setTimeout(resolve, ms));

/** Three workers at a letter to so many, and what happens to them meanwhile; then everything is held against the peer's own record. */
async function ordeal(recipients: number, blows: () => Promise<void>): Promise<{ doubles: number }> {
  const newsletter = await world.newsletter();
  const { senderId } = await world.sender(newsletter);
  for (let at = 0; at < recipients; at += 2_000)
    await world.readers(
      newsletter,
      Array.from({ length: 2_000 }, (_, n) => `reader${at + n}@heronmail.example`),
    );
  const id = await world.letter(newsletter, senderId);
  await startLetter(world.ctx, id);
  for (let n = 0; n < WORKERS; n += 1) workers.push(startWorker());
  await expect.poll(() => peer.taken.length, { timeout: 60_000, interval: 50 }).toBeGreaterThan(100);
  // Whoever waits for a page goes before what leaves in bulk.
  const threads = workers.flatMap(({ pid }) => readdirSync(`/proc/${pid}/task`).map(Number));
  expect(threads.map((thread) => getPriority(thread))).toEqual(threads.map(() => STANDS_BACK));
  await blows();
  expect(peer.taken.length, 'the last blow fell while it was being sent').toBeLessThan(recipients);
  /** What it waits for, where it is not sent yet. */
  const standing = async () => {
    const { state, counts, resting } = await letterOf(world.ctx, newsletter, id);
    const left = await sql<object>`
      select d.state, count(*)::int as n, min(d.due_at) as due, count(distinct d.claimed_by)::int as hands
      from deliveries d where d.state <> 'delivered' group by 1`.execute(world.ctx.db);
    return state === 'sent' ? state : JSON.stringify({ state, counts, resting, left: left.rows });
  };
  await expect.poll(standing, { timeout: 240_000, interval: 500 }).toBe('sent');
  const byReader = new Map<string, Set<string>>();
  for (const { to, id: messageId } of peer.taken) byReader.set(to, (byReader.get(to) ?? new Set()).add(messageId));
  expect(byReader.size).toBe(recipients);
  expect([...byReader.values()].filter((ids) => ids.size > 1)).toEqual([]);
  const { counts } = await letterOf(world.ctx, newsletter, id);
  expect(counts).toMatchObject({ recipients, delivered: recipients, bounced: 0, refused: 0, givenUp: 0 });
  const { rows } = await sql<{ state: string; n: number }>`select state, count(*)::int as n from deliveries group by 1`.execute(
    world.ctx.db,
  );
  expect(rows).toEqual([{ state: 'delivered', n: recipients }]);
  return { doubles: peer.taken.length - recipients };
}
async function killInTurn(times: number): Promise<void> {
  for (let kill = 0; kill < times; kill += 1) {
    await pause(300 + chance() * 900);
    const n = kill % WORKERS;
    workers[n]!.kill('SIGKILL');
    workers[n] = startWorker();
  }
}

describe('three workers on one letter miss nobody, and send nothing twice beyond what was on the wires of the killed, under the same Message-ID', () => {
  it('when they are killed in turn, twenty times', async () => {
    const { doubles } = await ordeal(20_000, () => killInTurn(20));
    console.log(`      ${doubles} copies came twice; ${peer.torn} connections were torn by 20 kills`);
    expect(doubles).toBeLessThanOrEqual(peer.torn);
  }, 800_000);

  it('when PostgreSQL loses its power and comes back, twenty times: nothing comes twice at all', async () => {
    const { doubles } = await ordeal(20_000, async () => {
      for (let blow = 0; blow < 20; blow += 1) {
        await pause(300 + chance() * 1_200);
        stopPostgres(home, 'immediate');
        await pause(chance() * 500);
        await startPostgres(home);
      }
    });
    expect(doubles).toBe(0);
  }, 800_000);

  it('when every commit takes a tenth of a second, and they are killed in turn', async () => {
    const setting = async (delay: number) => {
      await admin(server, `alter system set commit_delay = ${delay}`);
      await admin(server, 'alter system set commit_siblings = 0');
      await admin(server, 'select pg_reload_conf()');
    };
    await setting(100_000);
    const { doubles } = await ordeal(6_000, () => killInTurn(8));
    await setting(0);
    console.log(`      ${doubles} copies came twice; ${peer.torn} connections were torn by 8 kills`);
    expect(doubles).toBeLessThanOrEqual(peer.torn);
  }, 800_000);
});

import { type ChildProcess, spawn } from 'node:child_process';
import { sql } from 'kysely';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { startDnsHost } from '../../cli/dns-host';
import { Peer } from './peers';
import { TestWorld } from './world';

const RECIPIENTS = 20_000;
const WORKERS = 3;
const KILLS = 20;

let world: TestWorld;
let peer: Peer;
let dns: Awaited<ReturnType<typeof startDnsHost>>;
const workers: ChildProcess[] = [];

beforeAll(async () => {
  world = await TestWorld.open();
  peer = await new Peer('127.0.9.1', {}).open(world.mail.port);
  dns = await startDnsHost();
  await dns.put('heronmail.example', '@ IN MX 10 mx\nmx IN A 127.0.9.1\n');
});
afterAll(async () => {
  for (const worker of workers) worker.kill('SIGKILL');
  await peer.close();
  dns.close();
  await world.close();
});

/** A worker as a process of its own, as it runs in earnest. */
function startWorker(): ChildProcess {
  const { config } = world.ctx;
  const env = {
    ...process.env,
    INKSET_DATABASE_URL: config.databaseUrl,
    INKSET_SECRET: config.secret,
    INKSET_WEB_ORIGIN: config.webOrigin,
    INKSET_LINK_ORIGIN: config.linkOrigin,
    INKSET_MAIL_DOMAIN: config.mailDomain,
    INKSET_MX_PORT: String(config.mxPort),
    INKSET_DNS_SERVERS: `127.0.0.1:${dns.port}`,
    INKSET_DNS_AUTHORITY_PORT: String(dns.port),
    INKSET_ALLOW_LOOPBACK: 'true',
    INKSET_LOG_LEVEL: 'error',
  };
  return spawn(process.execPath, ['--import', 'tsx', 'src/processes/worker.ts'], { env, stdio: ['ignore', 'ignore', 'inherit'] });
}

/** The same dice on every run. */
let state = 20_261_124;
const chance = () => {
  state = (Math.imul(state, 1_103_515_245) + 12_345) & 0x7fffffff;
  return state / 0x7fffffff;
};
const pause = (ms: number) => new Promise<void>((resolve) => setTimeout(resolve, ms));

describe('three workers on one letter to 20,000, killed in turn twenty times', () => {
  it('miss nobody, and send twice at most what was on the wires of the killed, under the same Message-ID', async () => {
    const newsletter = await world.newsletter();
    const { senderId } = await world.sender(newsletter);
    for (let at = 0; at < RECIPIENTS; at += 2_000)
      await world.readers(
        newsletter,
        Array.from({ length: 2_000 }, (_, n) => `reader${at + n}@heronmail.example`),
      );
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    for (let n = 0; n < WORKERS; n += 1) workers.push(startWorker());
    await expect.poll(() => peer.taken.length, { timeout: 60_000, interval: 50 }).toBeGreaterThan(100);
    for (let kill = 0; kill < KILLS; kill += 1) {
      await pause(300 + chance() * 900);
      const n = kill % WORKERS;
      workers[n]!.kill('SIGKILL');
      workers[n] = startWorker();
    }
    await expect
      .poll(async () => (await letterOf(world.ctx, newsletter, id)).state, { timeout: 240_000, interval: 500 })
      .toBe('sent');
    const byReader = new Map<string, Set<string>>();
    for (const { to, id: messageId } of peer.taken) byReader.set(to, (byReader.get(to) ?? new Set()).add(messageId));
    expect(byReader.size).toBe(RECIPIENTS);
    expect([...byReader.values()].filter((ids) => ids.size > 1)).toEqual([]);
    const doubles = peer.taken.length - RECIPIENTS;
    console.log(`      ${doubles} copies came twice; ${peer.torn} connections were torn by ${KILLS} kills`);
    expect(doubles).toBeLessThanOrEqual(peer.torn);
    const { counts } = await letterOf(world.ctx, newsletter, id);
    expect(counts).toMatchObject({ recipients: RECIPIENTS, delivered: RECIPIENTS, bounced: 0, refused: 0, givenUp: 0 });
    const { rows } = await sql<{ state: string; n: number }>`select state, count(*)::int as n from deliveries group by 1`.execute(
      world.ctx.db,
    );
    expect(rows).toEqual([{ state: 'delivered', n: RECIPIENTS }]);
  }, 400_000);
});

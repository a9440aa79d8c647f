import { type ChildProcess, spawn } from 'node:child_process';
import { chmodSync, mkdtempSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { sql } from 'kysely';
import { afterEach, describe, expect, inject, it } from 'vitest';
import { letterOf } from '@/server/sending/views';
import { startDnsHost } from '../../cli/dns-host';
import { pickPort } from '../../cli/ports';
import { Peer } from '../integration/peers';
import { listening, startProcess } from '../integration/process';
import { TestWorld } from '../integration/world';
import { POOLER, unpack } from './servers';

const why = unpack(['pgbouncer', 'libc-ares2']);
if (why) console.log(`      skipped, no connection pooler to go through: ${why}`);

const children: ChildProcess[] = [];
let world: TestWorld | undefined;
const closing: (() => unknown)[] = [];
afterEach(async () => {
  for (const child of children.splice(0)) child.kill('SIGKILL');
  for (const close of closing.splice(0)) await close();
  await world?.close();
});

/** The pooler that Debian ships, as a user of its own, in front of the tests' PostgreSQL. Returns its port. */
async function startPooler(mode: 'session' | 'transaction'): Promise<number> {
  const port = await pickPort(24_900, new Set());
  const to = new URL(inject('server').app);
  const dir = mkdtempSync('/var/tmp/inkset-pooler-');
  chmodSync(dir, 0o755);
  const file = join(dir, 'pooler.ini');
  writeFileSync(
    file,
    `[databases]\n* = host=127.0.0.1 port=${to.port}\n[pgbouncer]\nlisten_addr=127.0.0.1\nlisten_port=${port}\nunix_socket_dir=\nauth_type=plain\nauth_file=${dir}/users\npool_mode=${mode}\nmax_client_conn=400\ndefault_pool_size=60\nignore_startup_parameters=extra_float_digits\n`,
  );
  writeFileSync(join(dir, 'users'), `"inkset" "${to.password}"\n`);
  for (const one of [file, join(dir, 'users')]) chmodSync(one, 0o644);
  children.push(
    spawn(
      'setpriv',
      ['--reuid=postgres', '--regid=postgres', '--clear-groups', join(POOLER[0]!, 'usr/sbin/pgbouncer'), '-q', file],
      {
        env: { NODE_ENV: 'test', LD_LIBRARY_PATH: join(POOLER[1]!, 'usr/lib/x86_64-linux-gnu') },
        stdio: ['ignore', 'ignore', 'inherit'],
      },
    ),
  );
  await listening(port);
  return port;
}

describe.skipIf(why !== '')('two workers on one PostgreSQL with a pooler between that lends connections by session', () => {
  it('send a letter, each copy once, and take its jobs', async () => {
    const port = await startPooler('session');
    world = await TestWorld.open();
    const peer = await new Peer('127.0.9.2', {}).open(world.mail.port);
    const dns = await startDnsHost();
    closing.push(
      () => peer.close(),
      () => dns.close(),
    );
    await dns.put('heronmail.example', '@ IN MX 10 mx\nmx IN A 127.0.9.2\n');
    const newsletter = await world.newsletter();
    const { senderId } = await world.sender(newsletter);
    await world.readers(
      newsletter,
      Array.from({ length: 2_000 }, (_, n) => `reader${n}@heronmail.example`),
    );
    const through = new URL(world.ctx.config.databaseUrl);
    through.port = String(port);
    for (let n = 0; n < 2; n += 1)
      children.push(
        startProcess(world, 'worker', {
          INKSET_DATABASE_URL: through.href,
          INKSET_DNS_SERVERS: `127.0.0.1:${dns.port}`,
          INKSET_DNS_AUTHORITY_PORT: String(dns.port),
        }),
      );
    // Nobody starts it here: the workers' own tick and job queue have to.
    const id = await world.letter(newsletter, senderId, { dueAt: new Date() });
    await sql`update letters set due_at = now()`.execute(world.ctx.db);
    await expect
      .poll(async () => (await letterOf(world!.ctx, newsletter, id)).state, { timeout: 90_000, interval: 300 })
      .toBe('sent');
    expect(peer.taken).toHaveLength(2_000);
    expect(new Set(peer.taken.map((mail) => mail.to)).size).toBe(2_000);
  }, 150_000);
});

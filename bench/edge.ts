import { fork, spawn } from 'node:child_process';
import { once } from 'node:events';
import pino from 'pino';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { dnsResolver } from '@/server/dns/resolver';
import { startDnsHost } from '../cli/dns-host';
import { ROOT } from '../cli/home';
import { pickPort } from '../cli/ports';

/** Where readers' mailboxes are. */
export const DOMAIN = 'heronmail.example';

/**
 * The edge as a process of its own, beside a bare Node server as its yardstick, on one database; `work` is done while both answer. What answers at `/healthz` is up.
 */
export async function withEdge<T>(
  db: Db,
  databaseUrl: string,
  yardstick: URL,
  work: (ctx: Context, ports: { edge: number; bare: number }) => Promise<T>,
): Promise<T> {
  const dns = await startDnsHost();
  const edgePort = await pickPort(4650, new Set());
  const env = {
    INKSET_DATABASE_URL: databaseUrl,
    INKSET_SECRET: 'a secret that is long enough for a bench',
    INKSET_WEB_ORIGIN: 'https://inkset.example',
    INKSET_LINK_ORIGIN: `http://127.0.0.1:${edgePort}`,
    INKSET_MAIL_DOMAIN: 'inkset.example',
    INKSET_DNS_SERVERS: `127.0.0.1:${dns.port}`,
    INKSET_DNS_AUTHORITY_PORT: String(dns.port),
    INKSET_EDGE_PORT: String(edgePort),
    INKSET_LOG_LEVEL: 'error',
  };
  const options = { cwd: ROOT, env: { ...process.env, ...env, NODE_ENV: 'production' as const } };
  const edge = spawn(
    process.execPath,
    [...(process.env.PROF ? ['--cpu-prof', '--cpu-prof-dir=/tmp/prof'] : []), '--import', 'tsx', 'src/processes/edge.ts'],
    { ...options, stdio: ['ignore', 'inherit', 'inherit'] },
  );
  const bare = fork(yardstick, { ...options, execArgv: ['--import', 'tsx'] });
  try {
    const [{ port: barePort }] = (await once(bare, 'message')) as [{ port: number }];
    await dns.put(DOMAIN, '@ IN MX 10 mx.heronmail.example.\n');
    const ctx: Context = {
      db,
      clock: systemClock,
      config: readConfig(env),
      log: pino({ level: 'silent' }),
      resolver: dnsResolver([`127.0.0.1:${dns.port}`], dns.port),
    };
    for (let tries = 0; tries < 200; tries += 1) {
      const up = await fetch(`http://127.0.0.1:${edgePort}/healthz`).then(
        (response) => response.ok,
        () => false,
      );
      if (up) break;
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
    return await work(ctx, { edge: edgePort, bare: barePort });
  } finally {
    edge.kill();
    bare.kill();
    dns.close();
  }
}

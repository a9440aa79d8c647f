import { readConfig } from '@/server/config';
import { installationKey } from '@/server/mail/identity';
import { openRuntime } from '@/server/runtime';
import { installationZone } from '@/server/senders/domains';
import { buildAll } from './build';
import { type Home, writeState } from './home';
import { ensure } from './machine';
import { type Database, startPostgres, stopPostgres } from './postgres';
import { running, startProcess, stopAll } from './processes';
import { choosePorts, insideEnv, plans, type World } from './world';

export type Stack = { home: Home; world: World };
type Say = (text: string) => void;

/** Brings a whole installation up: machine, database, build, processes. */
export async function startStack(
  home: Home,
  options: { backlot: boolean; clockStart?: string; settings?: Record<string, string> },
  say: Say,
): Promise<Stack> {
  if (running(home).length) throw new Error('It runs already. Stop it first: ./inkset stop');
  ensure(['postgresql'], say);
  const taken = new Set<number>();
  if (!options.settings?.INKSET_DATABASE_URL) say('Starting PostgreSQL ...');
  const given = options.settings?.INKSET_DATABASE_URL;
  const database: Pick<Database, 'url'> = given ? { url: given } : await startPostgres(home, taken);
  await buildAll(say);
  const world: World = { ports: await choosePorts(home, taken), databaseUrl: database.url, ...options };
  writeState(home, 'world.json', world);
  const all = plans(home, world);
  const outside = all.filter((plan) => plan.name.startsWith('backlot'));
  say(`Starting ${all.map((plan) => plan.name).join(', ')} ...`);
  try {
    await Promise.all(outside.map((plan) => startProcess(home, plan)));
    await publishInstallation(home, world);
    await Promise.all(all.filter((plan) => !outside.includes(plan)).map((plan) => startProcess(home, plan)));
  } catch (error) {
    await stopAll(home);
    stopPostgres(home);
    throw error;
  }
  return { home, world };
}

/** Migrates, and in the Backlot's world publishes the DNS zone of the installation's own mail domain. */
export async function publishInstallation(home: Home, world: World, patienceMs = 0): Promise<void> {
  const end = Date.now() + patienceMs;
  while (world.backlot && Date.now() < end && !(await fetch(`http://127.0.0.1:${world.ports.clock}/healthz`).catch(() => null)))
    await new Promise((resolve) => setTimeout(resolve, 100));
  const ctx = await openRuntime('cli', readConfig({ ...insideEnv(home, world), INKSET_LOG_LEVEL: 'error' }), 2);
  try {
    const { publicKey } = await installationKey(ctx);
    if (!world.backlot) return;
    await publishZone(world, ctx.config.mailDomain, installationZone(ctx, publicKey));
    // The name of the address that letters leave from, which careful mailboxes look up backwards.
    await publishZone(world, '127.in-addr.arpa', `1.0.0 IN PTR out.${ctx.config.mailDomain}.\n`);
    for (const provider of ['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example']) {
      await publishZone(world, provider, '@ IN MX 10 mx\nmx IN A 127.0.0.1\n');
    }
  } finally {
    await ctx.close();
  }
}

/** Puts a whole zone in place at the Backlot's DNS host. */
export async function publishZone(world: World, domain: string, text: string): Promise<void> {
  const response = await fetch(`http://127.0.0.1:${world.ports.dnsPage}/api/${domain}`, { method: 'PUT', body: text });
  if (!response.ok) throw new Error(`The Backlot's DNS host refused the zone ${domain}.`);
}

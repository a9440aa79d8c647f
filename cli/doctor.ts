import { existsSync, statfsSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import { connect as connectTls } from 'node:tls';
import { sql } from 'kysely';
import type { RecordType } from '@/core/senders/dns';
import { reverseName as reversed } from '@/core/senders/spf/evaluate';
import { readZone } from '@/core/senders/zone-reader';
import { type Config, readConfig } from '@/server/config';
import { pendingMigrations } from '@/server/db/migrate';
import { installationKey } from '@/server/mail/identity';
import { AGES, queueOf } from '@/server/mail/queue';
import { openRuntime, type Runtime } from '@/server/runtime';
import { installationZone } from '@/server/senders/domains';
import { type Home, ROOT, readState } from './home';
import { CHROMIUM } from './machine';
import { serverPrograms } from './postgres';
import { running } from './processes';
import { settings, settingsFile } from './settings';
import { insideEnv, type World } from './world';

type Say = (text: string) => void;
type Line = (ok: boolean, text: string, mend?: string) => boolean;

const PATIENCE_MS = 5_000;
const LEAST_FREE = 2_000_000_000;
const MOST_APART_MS = 5_000;
const SOON_MS = 14 * 86_400_000;

/** Looks at everything that an installation stands on, says of each what was found, and where it is wrong the mend. Returns whether all is well. */
export async function doctor(home: Home, say: Say): Promise<boolean> {
  const results: boolean[] = [];
  const line: Line = (ok, text, mend = '') => {
    say(`${ok ? 'ok  ' : 'MEND'} ${text}${!ok && mend ? `\n       ${mend}` : ''}`);
    results.push(ok);
    return ok;
  };
  const set = settings(home);
  const external = set.INKSET_DATABASE_URL !== undefined;
  line(Number(process.versions.node.split('.')[0]) >= 20, `Node.js ${process.versions.node}`, 'Install Node.js 20 or newer.');
  if (!external) line(serverPrograms() !== null, 'PostgreSQL server programs', 'apt-get install postgresql');
  line(existsSync(join(ROOT, 'dist/form.js')), 'application is built', './inkset start builds it');
  say(`     ${existsSync(CHROMIUM) ? 'Chromium is there' : 'Chromium is not there'} (only the tests need it)`);
  disk(home, line);
  const world = readState<World | null>(home, 'world.json', null);
  const alive = running(home);
  say(
    alive.length
      ? `     running: ${alive.map((entry) => `${entry.name} (${entry.pid})`).join(', ')}`
      : '     nothing was started from here',
  );
  if (!world && !external) {
    say(`     not configured yet: ./inkset start asks for what it needs and keeps it in ${settingsFile(home)}`);
    return !results.includes(false);
  }
  const env = world ? insideEnv(home, world) : { ...set, INKSET_SECRET: set.INKSET_SECRET ?? home.secrets.app };
  const config = readConfig({ ...env, INKSET_LOG_LEVEL: 'silent' });
  const ctx = await openRuntime('doctor', config, 2, undefined, { migrates: false }).catch((error: Error) => {
    line(false, 'the database answers', error.message);
    return null;
  });
  if (!ctx) return false;
  try {
    line(true, 'the database answers');
    await database(ctx, line);
    await web(config, line);
    await installation(ctx, line);
    // In the simulated world there is no port 25 to get out by, and no certificate.
    if (world?.backlot)
      say('     the Backlot is the outside world here: certificate, reverse name and port 25 are not looked at');
    else {
      await certificate(config, line);
      for (const address of config.sendingAddresses) await reverseName(ctx, address.replace(/\/.*$/, ''), line);
      await port25(ctx, line);
    }
    await queue(ctx, line, say);
  } finally {
    await ctx.close();
  }
  return !results.includes(false);
}

function disk(home: Home, line: Line): void {
  const { bavail, bsize } = statfsSync(home.dir);
  const free = bavail * bsize;
  line(
    free > LEAST_FREE,
    `${(free / 1e9).toFixed(1)} GB are free where ${home.dir} lies`,
    'Make room: without it PostgreSQL stops, and with it everything.',
  );
}

async function database(ctx: Runtime, line: Line): Promise<void> {
  const pending = await pendingMigrations(ctx.db);
  line(
    pending.length === 0,
    pending.length ? `the schema lacks ${pending.join(', ')}` : 'the schema is that of this program',
    'Start Inkset: it brings the schema forward by itself.',
  );
  const { rows } = await sql<{
    now: Date;
    super: boolean;
  }>`select clock_timestamp() as now, (select rolsuper from pg_roles where rolname = current_user) as super`.execute(ctx.db);
  const apart = Math.abs(rows[0]!.now.getTime() - Date.now());
  line(
    apart < MOST_APART_MS,
    `this machine’s clock and the database’s are ${(apart / 1000).toFixed(1)} s apart`,
    'Run a time service (systemd-timesyncd) on both.',
  );
  line(
    !rows[0]!.super,
    'the database role is a plain one',
    'INKSET_DATABASE_URL names a superuser. Give Inkset a role that owns its own database and nothing else.',
  );
}

async function answers(url: string): Promise<Response | string> {
  return fetch(url, { redirect: 'manual', signal: AbortSignal.timeout(PATIENCE_MS) }).catch(
    (error) => (error.cause?.code ?? error.name) as string,
  );
}

async function web(config: Config, line: Line): Promise<void> {
  for (const [what, url, log] of [
    ['the desk', `${config.webOrigin}/api/healthz`, 'web'],
    ['the link host', `${config.linkOrigin}/healthz`, 'edge'],
  ] as const) {
    const answer = await answers(url);
    const fine = typeof answer !== 'string' && answer.ok;
    line(
      fine,
      `${what} answers at ${new URL(url).origin}`,
      `${typeof answer === 'string' ? answer : `HTTP ${answer.status}`}. Is the proxy in front set up (docs/running.md)? See ./inkset logs ${log}`,
    );
    const date = typeof answer !== 'string' ? Date.parse(answer.headers.get('date') ?? '') : Number.NaN;
    if (fine && !Number.isNaN(date))
      line(Math.abs(date - Date.now()) < 60_000, `its clock is right`, 'The proxy and this machine disagree about the time.');
  }
}

/** The records of the installation's own mail domain (`./inkset zone` prints them), held against what DNS says. */
async function installation(ctx: Runtime, line: Line): Promise<void> {
  const { publicKey } = await installationKey(ctx);
  const { records } = readZone(installationZone(ctx, publicKey), ctx.config.mailDomain);
  const even = (text: string) => text.replace(/\s+/g, '').toLowerCase();
  for (const { name, type, value } of records) {
    const asked = name.replace(/^\*\./, 'any.');
    const answer = await ctx.resolver.look(asked, type as RecordType);
    const found = answer.kind === 'found' ? answer.values : [];
    const there =
      answer.kind === 'unanswered'
        ? 'No name server answers.'
        : found.length
          ? `There is ${found.join(', ').slice(0, 120)}.`
          : 'It is not there.';
    line(
      found.some((one) => even(one) === even(value)),
      `DNS: ${name} ${type}`,
      `${there} Publish what ./inkset zone prints.`,
    );
  }
}

async function certificate(config: Config, line: Line): Promise<void> {
  for (const origin of [config.webOrigin, config.linkOrigin]) {
    const { protocol, hostname, port } = new URL(origin);
    if (
      !line(
        protocol === 'https:',
        `${origin} is encrypted`,
        'Put a proxy with a certificate in front, and say https in the configuration.',
      )
    )
      continue;
    const until = await new Promise<Date | string>((resolve) => {
      const socket = connectTls({ host: hostname, port: Number(port || 443), servername: hostname, timeout: PATIENCE_MS }, () => {
        resolve(new Date(socket.getPeerCertificate().valid_to));
        socket.end();
      });
      socket.once('error', (error) => resolve(error.message));
      socket.once('timeout', () => resolve('no answer'));
    });
    if (typeof until === 'string') line(false, `the certificate of ${hostname} is good`, until);
    else
      line(
        until.getTime() - Date.now() > SOON_MS,
        `the certificate of ${hostname} is good until ${until.toISOString().slice(0, 10)}`,
        'It ends within two weeks; is it renewed by itself?',
      );
  }
}

/** Mail hosts look the sending address up backwards, and that name forwards again. */
async function reverseName(ctx: Runtime, address: string, line: Line): Promise<void> {
  const answer = await ctx.resolver.look(reversed(address), 'PTR');
  const name = answer.kind === 'found' ? answer.values[0]! : null;
  const back = name ? await ctx.resolver.addresses(name).catch(() => []) : [];
  line(
    back.includes(address),
    `${address} is called ${name ?? 'nothing'}${name ? ' and that name leads back' : ''}`,
    `Have whoever rents you ${address} set its reverse name to out.${ctx.config.mailDomain}, and give that name an A record. Many mail hosts take nothing without.`,
  );
}

/** Can mail get out at all? Asked of a mail host that mail really goes to: of the first account's own address. */
async function port25(ctx: Runtime, line: Line): Promise<void> {
  const { rows } = await sql<{ email: string }>`select email from "user" order by "createdAt" limit 1`.execute(ctx.db);
  const domain = rows[0]?.email.split('@')[1];
  if (!domain) return;
  const host = (await ctx.resolver.mailHosts(domain).catch(() => []))[0]?.host;
  const address = host ? (await ctx.resolver.addresses(host).catch(() => []))[0] : undefined;
  const greeting = await new Promise<string | null>((resolve) => {
    if (!address) return resolve(null);
    const socket = connect({ host: address, port: ctx.config.mxPort, timeout: PATIENCE_MS });
    const end = (said: string | null) => {
      socket.destroy();
      resolve(said);
    };
    socket.once('data', (chunk) => end(chunk.toString('latin1').split('\r\n')[0]!));
    socket.once('error', () => end(null));
    socket.once('timeout', () => end(null));
  });
  line(
    greeting?.startsWith('220') ?? false,
    `port ${ctx.config.mxPort} is open to the outside (${host ?? domain})`,
    `${greeting ?? 'Nothing answered.'} Many hosts close port 25 for new machines: ask yours to open it, or use an SMTP service (Settings).`,
  );
}

/** What waits to be sent, by way and age, and what was set aside. */
async function queue(ctx: Runtime, line: Line, say: Say): Promise<void> {
  const { rows, lost, aside } = await queueOf(ctx);
  const resting = rows.filter((row) => row.resting);
  line(
    resting.length === 0,
    rows.length ? `mail waits on ${rows.length} ways` : 'no mail waits',
    'see which way rests below, and why',
  );
  if (rows.length) {
    const cells = (all: (string | number)[]) => all.map((cell) => String(cell).padStart(7)).join('');
    say(`       ${'way'.padEnd(28)}${cells([...AGES.map((age) => `<${age} m`), 'older'])}`);
    for (const row of rows) {
      say(`       ${row.route.slice(0, 27).padEnd(28)}${cells(row.waiting.map((n) => n || '·'))}`);
      if (row.resting) say(`         rests until ${row.resting.until.toISOString().slice(0, 16)}: ${row.resting.reason}`);
    }
  }
  for (const domain of lost)
    line(false, `${domain.waiting} letters wait for ${domain.domain}`, domain.said ?? 'its mail hosts are not known');
  line(
    aside.length === 0,
    aside.length ? `${aside.length} mails were set aside` : 'no mail was set aside',
    'something of ours failed with them:',
  );
  for (const mail of aside) say(`         ${mail.id} ${mail.kind} to ${mail.to}: ${mail.reason}`);
}

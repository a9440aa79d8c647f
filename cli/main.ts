import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { type Home, openHome, ROOT, readState } from './home';
import { CHROMIUM } from './machine';
import { serverPrograms, startPostgres, stopPostgres } from './postgres';
import { running, stopAll } from './processes';
import { startStack } from './stack';
import { insideEnv, type World, webOrigin } from './world';

const HELP = `./inkset COMMAND
  demo     everything a fresh machine needs, then Inkset with the demo newsletter and the Backlot
  start    the same without the demo newsletter (--backlot brings the simulated world along)
  stop     ends all that was started
  test     all checks and tests; the last line counts them
  pictures takes a picture of each main view of the running demo into docs/screenshots
  bench    measures, as ratios against a yardstick in the same run
  doctor   what is missing or wrong, and the mend`;

const say = (text: string) => console.log(text);

/** The day the demo newsletter lives in; from its first start on, the Backlot's clock runs from here. */
const DEMO_START = '2026-11-24T09:00:00Z';

async function demo(home: Home): Promise<void> {
  const began = Date.now();
  const { world } = await startStack(home, { backlot: true, clockStart: DEMO_START }, say);
  const { loadDemo } = await import('../demo/load');
  const { account } = await loadDemo(
    insideEnv(home, world),
    { dnsPage: `http://127.0.0.1:${world.ports.dnsPage}`, blog: `http://127.0.0.1:${world.ports.blog}` },
    say,
  );
  addresses(world);
  say(`  Sign in with          ${account.email}, password: ${account.password}`);
  say(`\nReady after ${Math.round((Date.now() - began) / 1000)} s. End it with ./inkset stop`);
}

function addresses(world: World): void {
  const at = (port: number) => `http://127.0.0.1:${port}`;
  say(`\n  Inkset                ${webOrigin(world.ports)}`);
  if (!world.backlot) return;
  say('  The simulated world (the Backlot):');
  say(`    readers' inboxes    ${at(world.ports.inbox)}`);
  say(`    the writer's blog   ${at(world.ports.blog)}`);
  say(`    the DNS host        ${at(world.ports.dnsPage)}`);
  say(`    the clock           ${at(world.ports.clock)}`);
}

async function stop(home: Home): Promise<void> {
  const names = await stopAll(home);
  stopPostgres(home);
  say(names.length ? `Stopped ${names.join(', ')} and PostgreSQL.` : 'Nothing was running.');
}

async function doctor(home: Home): Promise<void> {
  const line = (ok: boolean, text: string, mend = '') => {
    say(`${ok ? 'ok  ' : 'MEND'} ${text}${!ok && mend ? `\n       ${mend}` : ''}`);
    return ok;
  };
  const results = [
    line(Number(process.versions.node.split('.')[0]) >= 20, `Node.js ${process.versions.node}`, 'Install Node.js 20 or newer.'),
    line(serverPrograms() !== null, 'PostgreSQL server programs', 'apt-get install postgresql'),
    line(existsSync(CHROMIUM), 'Chromium (only for the tests)', 'apt-get install chromium'),
    line(existsSync(join(ROOT, 'dist/form.js')), 'application is built', './inkset start builds it'),
  ];
  const world = readState<World | null>(home, 'world.json', null);
  const alive = running(home);
  say(
    alive.length ? `     running: ${alive.map((entry) => `${entry.name} (${entry.pid})`).join(', ')}` : '     nothing is running',
  );
  if (world && alive.length) {
    const health = await fetch(`${webOrigin(world.ports)}/api/healthz`).then(
      (r) => r.ok,
      () => false,
    );
    results.push(line(health, 'web answers', `see ${home.dir}/logs/web.log`));
    results.push(...(await queue(home, world, line)));
    addresses(world);
  }
  if (results.includes(false)) process.exitCode = 1;
}

/** What waits to be sent, by way and age, and what was set aside. */
async function queue(home: Home, world: World, line: (ok: boolean, text: string, mend?: string) => boolean): Promise<boolean[]> {
  const { openRuntime } = await import('@/server/runtime');
  const { readConfig } = await import('@/server/config');
  const { AGES, queueOf } = await import('@/server/mail/queue');
  const ctx = await openRuntime('doctor', readConfig({ ...insideEnv(home, world), INKSET_LOG_LEVEL: 'silent' }), 2);
  try {
    const { rows, lost, aside } = await queueOf(ctx);
    const resting = rows.filter((row) => row.resting);
    const said = [
      line(
        resting.length === 0,
        `${rows.length ? `mail waits on ${rows.length} ways` : 'no mail waits'}`,
        'see which way rests below, and why',
      ),
    ];
    if (rows.length) {
      const cells = (all: (string | number)[]) => all.map((cell) => String(cell).padStart(7)).join('');
      say(`       ${'way'.padEnd(28)}${cells([...AGES.map((age) => `<${age} m`), 'older'])}`);
      for (const row of rows) {
        say(`       ${row.route.slice(0, 27).padEnd(28)}${cells(row.waiting.map((n) => n || '·'))}`);
        if (row.resting) say(`         rests until ${row.resting.until.toISOString().slice(0, 16)}: ${row.resting.reason}`);
      }
    }
    for (const domain of lost)
      said.push(
        line(false, `${domain.waiting} letters wait for ${domain.domain}`, domain.said ?? 'its mail hosts are not known'),
      );
    said.push(
      line(
        aside.length === 0,
        aside.length ? `${aside.length} mails were set aside` : 'no mail was set aside',
        'something of ours failed with them:',
      ),
    );
    for (const mail of aside) say(`         ${mail.id} ${mail.kind} to ${mail.to}: ${mail.reason}`);
    return said;
  } finally {
    await ctx.close();
  }
}

async function main(): Promise<void> {
  const [command, ...rest] = process.argv.slice(2);
  const home = openHome();
  switch (command) {
    case 'demo':
      return demo(home);
    case 'start': {
      const { world } = await startStack(home, { backlot: rest.includes('--backlot') }, say);
      return addresses(world);
    }
    case 'stop':
      return stop(home);
    case 'doctor':
      return doctor(home);
    case 'test':
      return (await import('./test')).test(rest);
    case 'pictures':
      return (await import('./pictures')).pictures(home, rest, say);
    case 'bench': {
      const database = await startPostgres(home);
      const { bench } = await import('../bench/main');
      await bench(database.adminUrl, rest[0]);
      if (running(home).length === 0) stopPostgres(home);
      return;
    }
    default:
      say(HELP);
      process.exitCode = command ? 1 : 0;
  }
}

main().then(
  () => process.exit(),
  (error: unknown) => {
    console.error(error instanceof Error ? error.message : error);
    process.exit(1);
  },
);

import { knowLocalhost } from '../backlot/shell/localhost';
import { type Home, openHome, readState } from './home';
import { startPostgres, stopPostgres } from './postgres';
import { running, stopAll } from './processes';
import { settings, wholeSettings } from './settings';
import { startStack } from './stack';
import { insideEnv, originOf, type World } from './world';

const HELP = `./inkset COMMAND
  demo     everything a fresh machine needs, then Inkset with the demo newsletter and the Backlot (--readers=200000 for a large one)
  start    a real installation: asks for what it needs, or says what is missing (--backlot: the simulated world, without demo data)
  stop     ends all that was started
  build    builds the application, where anything has changed
  test     all checks and tests; the last line counts them. test WORD runs what matches: a file's path, else the name of a test
  dev      everything for working on Inkset: hot reload, all processes, one log
  logs     the last lines of all processes, or of those named; -f goes on
  doctor   what is missing or wrong, and the mend
  zone     the DNS records of the installation's own mail domain
  pictures takes a picture of each main view of the running demo into docs/screenshots
  bench    measures, as ratios against a yardstick in the same run`;

const say = (text: string) => console.log(text);

/** The day the demo newsletter lives in; from its first start on, the Backlot's clock runs from here. */
const DEMO_START = '2026-11-24T09:00:00Z';

/** `--readers=200000`: how many the demo newsletter has, where not as many as its story tells of. */
function readersWanted(words: string[]): number | null {
  const word = words.find((one) => one.startsWith('--readers='));
  if (!word) return null;
  const wanted = Number(word.slice('--readers='.length));
  if (!Number.isInteger(wanted) || wanted < 1 || wanted > 2_000_000)
    throw new Error('--readers= wants a number from 1 to 2,000,000.');
  return wanted;
}

/** The records that the installation's own mail domain needs, as a zone file. */
async function zone(home: Home): Promise<void> {
  const { openRuntime } = await import('@/server/runtime');
  const { readConfig } = await import('@/server/config');
  const { installationKey } = await import('@/server/mail/identity');
  const { installationZone } = await import('@/server/senders/domains');
  const world = readState<World | null>(home, 'world.json', null);
  const env = world ? insideEnv(home, world) : { INKSET_SECRET: home.secrets.app, ...settings(home) };
  const ctx = await openRuntime('zone', readConfig({ ...env, INKSET_LOG_LEVEL: 'silent' }), 2, undefined, { migrates: false });
  try {
    say(installationZone(ctx, (await installationKey(ctx)).publicKey));
  } finally {
    await ctx.close();
  }
}

async function demo(home: Home, readers: number | null): Promise<void> {
  const began = Date.now();
  const { world } = await startStack(home, { backlot: true, clockStart: DEMO_START }, say);
  const { loadDemo } = await import('../demo/load');
  const { account } = await loadDemo(
    insideEnv(home, world),
    {
      dnsPage: originOf(world.ports, 'dnsPage'),
      blog: originOf(world.ports, 'blog'),
    },
    say,
    readers,
  ).catch(async (error) => {
    // What cannot be shown is not left running.
    await stop(home);
    throw error;
  });
  addresses(world);
  say(`  Sign in with          ${account.email}, password: ${account.password}`);
  say(`\nReady after ${Math.round((Date.now() - began) / 1000)} s. End it with ./inkset stop`);
}

function addresses(world: World): void {
  const at = (name: Parameters<typeof originOf>[1]) => originOf(world.ports, name);
  say(`\n  Inkset                ${world.settings?.INKSET_WEB_ORIGIN ?? at('web')}`);
  if (!world.backlot) return;
  say('  The simulated world (the Backlot):');
  say(`    readers' inboxes    ${at('inbox')}`);
  say(`    the writer's blog   ${at('blog')}`);
  say(`    the DNS host        ${at('dnsPage')}`);
  say(`    the clock           ${at('clock')}`);
}

async function stop(home: Home): Promise<void> {
  const names = await stopAll(home);
  stopPostgres(home);
  say(names.length ? `Stopped ${names.join(', ')} and PostgreSQL.` : 'Nothing was running.');
}

async function main(): Promise<void> {
  knowLocalhost();
  const [command, ...rest] = process.argv.slice(2);
  const home = openHome();
  switch (command) {
    case 'demo':
      return demo(home, readersWanted(rest));
    case 'start': {
      const backlot = rest.includes('--backlot');
      const set = backlot ? {} : await wholeSettings(home, say);
      const { world } = await startStack(home, { backlot, settings: set }, say);
      addresses(world);
      if (!backlot) say('  What is still missing outside (DNS, proxy, port 25): ./inkset doctor');
      return;
    }
    case 'stop':
      return stop(home);
    case 'doctor': {
      if (!(await (await import('./doctor')).doctor(home, say))) process.exitCode = 1;
      return;
    }
    case 'build':
      say((await (await import('./build')).buildAll(say)) ? 'Built.' : 'Nothing has changed since the last build.');
      return;
    case 'zone':
      return zone(home);
    case 'dev':
      return (await import('./dev')).dev(home, DEMO_START, say);
    case 'logs':
      return (await import('./logs')).logs(
        home,
        rest.find((word) => !word.startsWith('-')),
        rest.includes('-f') || rest.includes('--follow'),
        say,
      );
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

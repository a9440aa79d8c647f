import { type ChildProcess, spawn } from 'node:child_process';
import { createInterface } from 'node:readline';
import { buildScripts } from './build';
import { type Home, ROOT, writeState } from './home';
import { readable } from './logs';
import { ensure } from './machine';
import { startPostgres, stopPostgres } from './postgres';
import { running } from './processes';
import { publishInstallation } from './stack';
import { choosePorts, originOf, plans, type World } from './world';

/**
 * Everything for working on Inkset: the Backlot, and each process begun anew when what it is made of changes; the pages by Next's own hot reload. One
 * log, in this terminal. Ends everything with Ctrl-C.
 */
export async function dev(home: Home, clockStart: string, say: (text: string) => void): Promise<void> {
  if (running(home).length) throw new Error('It runs already. Stop it first: ./inkset stop');
  ensure(['postgresql'], say);
  const taken = new Set<number>();
  const database = await startPostgres(home, taken);
  await buildScripts();
  const world: World = { ports: await choosePorts(home, taken), databaseUrl: database.url, backlot: true, clockStart };
  writeState(home, 'world.json', world);
  const children = new Map<string, ChildProcess>();
  const begin = (plan: ReturnType<typeof plans>[number]) => {
    // Next watches its own files; the others are watched from outside.
    const args =
      plan.name === 'web' ? plan.args : ['node_modules/tsx/dist/cli.mjs', 'watch', '--clear-screen=false', ...plan.args.slice(2)];
    const child = spawn(process.execPath, args, {
      cwd: ROOT,
      stdio: ['ignore', 'pipe', 'pipe'],
      env: { ...process.env, ...plan.env, NODE_ENV: 'development', INKSET_DEV: 'true' },
    });
    children.set(plan.name, child);
    for (const stream of [child.stdout!, child.stderr!])
      createInterface({ input: stream }).on('line', (line) => say(readable(line, plan.name).text));
  };
  const all = plans(home, world);
  for (const plan of all.filter((one) => one.name.startsWith('backlot'))) begin(plan);
  await publishInstallation(home, world, 30_000);
  for (const plan of all.filter((one) => !one.name.startsWith('backlot'))) begin(plan);
  say(`\n  The desk: ${originOf(world.ports, 'web')}   inboxes: ${originOf(world.ports, 'inbox')}   Ctrl-C ends everything\n`);
  await new Promise<void>((resolve) => {
    process.once('SIGINT', resolve);
    process.once('SIGTERM', resolve);
  });
  await Promise.all(
    [...children.values()].map(
      (child) =>
        new Promise<void>((resolve) => {
          child.once('exit', () => resolve());
          child.kill('SIGTERM');
          setTimeout(() => child.kill('SIGKILL'), 8_000).unref();
        }),
    ),
  );
  stopPostgres(home);
}

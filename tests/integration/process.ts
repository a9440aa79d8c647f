import { type ChildProcess, spawn } from 'node:child_process';
import { connect } from 'node:net';
import type { TestWorld } from './world';

/** One of Inkset's processes as it runs in earnest, on the database of a test's world. */
export function startProcess(
  world: TestWorld,
  name: 'worker' | 'mailroom' | 'names' | 'edge',
  more: Record<string, string> = {},
): ChildProcess {
  const { config } = world.ctx;
  const env = {
    ...process.env,
    INKSET_DATABASE_URL: config.databaseUrl,
    INKSET_SECRET: config.secret,
    INKSET_WEB_ORIGIN: config.webOrigin,
    INKSET_LINK_ORIGIN: config.linkOrigin,
    INKSET_MAIL_DOMAIN: config.mailDomain,
    INKSET_MX_PORT: String(config.mxPort),
    INKSET_ALLOW_LOOPBACK: 'true',
    INKSET_LOG_LEVEL: 'error',
    ...more,
  };
  return spawn(process.execPath, ['--import', 'tsx', `src/processes/${name}.ts`], {
    env,
    stdio: ['ignore', 'ignore', 'inherit'],
  });
}

/** Does something listen there? */
export const listens = (port: number, address = '127.0.0.1'): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = connect(port, address, () => {
      socket.destroy();
      resolve(true);
    });
    socket.once('error', () => resolve(false));
  });

/** Waits until something listens there; throws after half a minute. */
export async function listening(port: number, address = '127.0.0.1'): Promise<void> {
  for (const end = Date.now() + 30_000; Date.now() < end; ) {
    if (await listens(port, address)) return;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error(`Nothing listens at ${address}:${port}.`);
}

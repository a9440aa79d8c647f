import pino from 'pino';
import type { Clock } from './clock/clock';
import { systemClock } from './clock/clock';
import { FollowedClock } from './clock/followed-clock';
import { type Config, readConfig } from './config';
import type { Context } from './context';
import { connect } from './db/connection';
import { migrate } from './db/migrate';
import { dnsResolver } from './dns/resolver';

export type Runtime = Context & { pool: ReturnType<typeof connect>['pool']; close(): Promise<void> };

/** Builds the context of one process from its environment: configuration, log, clock, database (migrated), resolver. */
export async function openRuntime(
  process_: string,
  config: Config = readConfig(process.env),
  poolSize = 10,
  statements?: { prepares: boolean },
  { migrates }: { migrates: boolean } = { migrates: true },
): Promise<Runtime> {
  const log = pino({
    level: config.logLevel,
    base: { process: process_ },
    redact: ['*.password', '*.secret', '*.token', '*.private_key'],
  });
  const { db, pool } = connect(
    config.databaseUrl,
    (error) => log.warn({ reason: error.message }, 'a database connection was lost'),
    poolSize,
    statements,
  );
  let clock: Clock = systemClock;
  let followed: FollowedClock | undefined;
  if (config.clockUrl) {
    followed = await new FollowedClock(config.clockUrl).start();
    clock = followed;
  }
  if (migrates) await migrate(db);
  const close = async () => {
    followed?.close();
    await db.destroy();
  };
  return { db, pool, clock, config, log, resolver: dnsResolver(config.dnsServers, config.dnsAuthorityPort), close };
}

const shared = globalThis as unknown as { inksetRuntime?: Promise<Runtime> };

/** The web process's one runtime. Kept on the global object, since Next loads a module once per bundle. */
export function runtime(): Promise<Runtime> {
  shared.inksetRuntime ??= openRuntime('web').catch((error) => {
    shared.inksetRuntime = undefined;
    throw error;
  });
  return shared.inksetRuntime;
}

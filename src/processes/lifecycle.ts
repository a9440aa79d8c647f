import type { Logger } from 'pino';

/** Ends a process well: on SIGTERM or SIGINT the work in hand is finished, then everything is closed. A second signal ends it at once. */
export function onStop(log: Logger, close: () => Promise<void>): void {
  let stopping = false;
  const stop = (signal: string) => {
    if (stopping) process.exit(1);
    stopping = true;
    log.info({ signal }, 'stopping');
    close().then(
      () => process.exit(0),
      (error) => {
        log.error({ err: error }, 'could not stop cleanly');
        process.exit(1);
      },
    );
  };
  process.on('SIGTERM', () => stop('SIGTERM'));
  process.on('SIGINT', () => stop('SIGINT'));
}

/** Runs a process's main function; a start that fails ends it with one sentence instead of a stack. */
export function start(main: () => Promise<void>): void {
  main().catch((error: unknown) => {
    console.error(error instanceof Error ? error.message : error);
    process.exit(1);
  });
}

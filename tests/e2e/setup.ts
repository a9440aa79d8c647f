import { join } from 'node:path';
import type { TestProject } from 'vitest/node';
import { openHome, ROOT } from '../../cli/home';
import { ensure } from '../../cli/machine';
import { removeHome, stopPostgres } from '../../cli/postgres';
import { stopAll } from '../../cli/processes';
import { startStack } from '../../cli/stack';

declare module 'vitest' {
  interface ProvidedContext {
    home: string;
  }
}

/** Starts the whole of Inkset and its Backlot as real processes, once, in a state folder of the tests' own; each file brings its own newsletter. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  ensure(['postgresql', 'chromium'], () => {});
  const dir = join(ROOT, '.inkset-e2e');
  const before = openHome(dir);
  await stopAll(before);
  removeHome(before);
  const home = openHome(dir);
  await startStack(home, { backlot: true, clockStart: '2026-11-24T09:00:00Z' }, () => {});
  project.provide('home', dir);
  return async () => {
    await stopAll(home);
    stopPostgres(home);
  };
}

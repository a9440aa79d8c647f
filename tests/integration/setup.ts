import { join } from 'node:path';
import pg from 'pg';
import type { TestProject } from 'vitest/node';
import { buildScripts } from '../../cli/build';
import { openHome, ROOT } from '../../cli/home';
import { ensure } from '../../cli/machine';
import { startPostgres, stopPostgres, THROWN_AWAY } from '../../cli/postgres';
import { makeTemplate, type Server, serverOf } from './template';

declare module 'vitest' {
  interface ProvidedContext {
    server: Server;
  }
}

/**
 * Starts a PostgreSQL of the tests' own and migrates a template once; every test file copies it (see world.ts). Builds the scripts for other
 * people's pages, which the public routes serve.
 */
export default async function setup(project: TestProject): Promise<() => void> {
  ensure(['postgresql'], () => {});
  await buildScripts();
  const home = openHome(join(ROOT, '.inkset-test'));
  const server = serverOf(await startPostgres(home, new Set(), THROWN_AWAY));
  const client = new pg.Client({ connectionString: `${server.admin}/postgres` });
  await client.connect();
  const { rows } = await client.query<{ datname: string }>(
    "select datname from pg_database where datname like 'copy_%' or datname = 'template_inkset'",
  );
  for (const { datname } of rows) await client.query(`drop database ${datname} with (force)`);
  await client.end();
  await makeTemplate(server);
  project.provide('server', server);
  return () => stopPostgres(home, 'immediate');
}

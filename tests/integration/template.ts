import pg from 'pg';
import { connect } from '@/server/db/connection';
import { migrate } from '@/server/db/migrate';
import type { Database } from '../../cli/postgres';

/** A database server without the database's name: as the application's plain role, and as the superuser who makes databases. */
export type Server = { app: string; admin: string };
export const serverOf = ({ url, adminUrl }: Database): Server => ({
  app: url.replace(/\/inkset$/, ''),
  admin: adminUrl.replace(/\/postgres$/, ''),
});

/** One statement of the superuser's, in a database of the server. */
export async function admin(server: Server, statement: string, database = 'postgres'): Promise<void> {
  const client = new pg.Client({ connectionString: `${server.admin}/${database}` });
  await client.connect();
  try {
    await client.query(statement);
  } finally {
    await client.end();
  }
}

/** Makes the database that worlds are copied from, migrated by the application's own role. */
export async function makeTemplate(server: Server): Promise<void> {
  await admin(server, 'create database template_inkset owner inkset');
  const { db } = connect(`${server.app}/template_inkset`, () => {});
  await migrate(db);
  await db.destroy();
}

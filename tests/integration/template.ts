import { sql } from 'kysely';
import pg from 'pg';
import { readConfig } from '@/server/config';
import { connect } from '@/server/db/connection';
import { migrate } from '@/server/db/migrate';
import { installationKey } from '@/server/mail/identity';
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

export const START = new Date('2026-11-24T09:00:00Z');
/** What every world is told alike. */
export const SETTINGS = {
  INKSET_SECRET: 'a secret that is long enough for tests',
  INKSET_WEB_ORIGIN: 'https://inkset.example',
  INKSET_LINK_ORIGIN: 'https://go.inkset.example',
  INKSET_MAIL_DOMAIN: 'inkset.example',
};

/** Makes the database that worlds are copied from, migrated by the application's own role, with the installation's key. */
export async function makeTemplate(server: Server): Promise<void> {
  await admin(server, 'create database template_inkset owner inkset');
  const { db } = connect(`${server.app}/template_inkset`, () => {});
  await migrate(db);
  await installationKey({ db, config: readConfig({ ...SETTINGS, INKSET_DATABASE_URL: `${server.app}/template_inkset` }) });
  // What a worker's first look of the day would make in every world.
  for (const month of [-1, 0, 1])
    await sql`select ensure_month(${new Date(Date.UTC(START.getUTCFullYear(), START.getUTCMonth() + month, 1))}::date)`.execute(
      db,
    );
  await db.destroy();
}

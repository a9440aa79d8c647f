import pg from 'pg';
import { connect } from '@/server/db/connection';
import { migrate } from '@/server/db/migrate';

/** Makes the migrated database that worlds are copied from. */
export async function makeTemplate(server: string): Promise<void> {
  const client = new pg.Client({ connectionString: `${server}/postgres` });
  await client.connect();
  await client.query('create database template_inkset');
  await client.end();
  const { db } = connect(`${server}/template_inkset`, () => {});
  await migrate(db);
  await db.destroy();
}

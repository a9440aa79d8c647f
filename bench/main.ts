import { cpus } from 'node:os';
import pg from 'pg';
import { connect } from '@/server/db/connection';
import { migrate } from '@/server/db/migrate';
import { domainCheck } from './domain-check';
import { forms } from './forms';
import { line } from './report';
import { sending } from './sending';

/** Measures in a database of its own and prints each figure as a ratio to its yardstick. Asserts nothing. */
export async function bench(serverUrl: string): Promise<void> {
  const name = `bench_${process.pid}`;
  const admin = new pg.Client({ connectionString: serverUrl });
  await admin.connect();
  await admin.query(`create database ${name}`);
  const url = serverUrl.replace(/\/[^/]*$/, `/${name}`);
  const { db } = connect(url, () => {}, 20);
  try {
    await migrate(db);
    console.log(`Node ${process.version}, ${cpus().length} × ${cpus()[0]?.model ?? 'unknown'}`);
    console.log('Sending:');
    console.log(line(await sending(db, url)));
    console.log('Domain check:');
    console.log(line(await domainCheck(db, url)));
    console.log('Forms:');
    console.log(line(await forms(db, url)));
  } finally {
    await db.destroy();
    await admin.query(`drop database ${name} with (force)`);
    await admin.end();
  }
}

import { cpus } from 'node:os';
import pg from 'pg';
import { connect } from '@/server/db/connection';
import { migrate } from '@/server/db/migrate';
import { addressing } from './addressing';
import { domainCheck } from './domain-check';
import { embed } from './embed';
import { exporting } from './exporting';
import { feeds } from './feeds';
import { forms } from './forms';
import { importing } from './importing';
import { million } from './million';
import { opens } from './opens';
import { line } from './report';
import { returns } from './returns';
import { largeLetter, sending } from './sending';
import { truth } from './truth';
import { writing } from './writing';

const ALL = {
  Sending: sending,
  'Letter to a million': largeLetter,
  'Domain check': domainCheck,
  Forms: forms,
  Opens: opens,
  Script: embed,
  Import: importing,
  Export: exporting,
  Writing: writing,
  Addressing: addressing,
  Feeds: feeds,
  Returns: returns,
  Truth: truth,
};

/** Measures in a database of its own and prints each figure as a ratio to its yardstick. `only` picks one by its name. Asserts nothing. */
export async function bench(serverUrl: string, only = ''): Promise<void> {
  if (only === 'million') return million(serverUrl);
  const name = `bench_${process.pid}`;
  const admin = new pg.Client({ connectionString: serverUrl });
  await admin.connect();
  await admin.query(`create database ${name}`);
  const url = serverUrl.replace(/\/[^/]*$/, `/${name}`);
  const { db } = connect(url, () => {}, 20);
  try {
    await migrate(db);
    console.log(`Node ${process.version}, ${cpus().length} × ${cpus()[0]?.model ?? 'unknown'}`);
    for (const [title, measure] of Object.entries(ALL)) {
      if (!title.toLowerCase().startsWith(only.toLowerCase())) continue;
      console.log(`${title}:`);
      for (const figure of [await measure(db, url)].flat()) console.log(line(figure));
    }
  } finally {
    await db.destroy();
    await admin.query(`drop database ${name} with (force)`);
    await admin.end();
  }
}

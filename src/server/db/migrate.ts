import { type Kysely, type Migration, Migrator, sql } from 'kysely';
import * as accounts from './migrations/0001-accounts';
import * as senders from './migrations/0002-senders';
import * as postOffice from './migrations/0003-post-office';
import * as readers from './migrations/0004-readers';
import * as letters from './migrations/0005-letters';
import * as totals from './migrations/0006-totals';
import * as keeping from './migrations/0007-keeping';
import * as transfer from './migrations/0008-transfer';
import * as exporting from './migrations/0009-exports';
import * as choices from './migrations/0010-choices';
import * as whole from './migrations/0011-whole';
import * as closing from './migrations/0012-closing';
import * as lists from './migrations/0013-lists';
import * as cold from './migrations/0014-cold';
import * as degrees from './migrations/0015-degrees';
import * as writing from './migrations/0016-writing';
import * as layouts from './migrations/0017-layouts';
import * as addressing from './migrations/0018-addressing';
import * as results from './migrations/0019-results';
import * as feeds from './migrations/0020-feeds';
import * as rules from './migrations/0021-rules';
import * as returns from './migrations/0022-returns';
import * as growth from './migrations/0023-growth';
import * as watch from './migrations/0024-watch';
import * as seeds from './migrations/0025-seeds';
import * as oldEvents from './migrations/0026-old-events';
import * as listDays from './migrations/0027-list-days';
import * as coldCounts from './migrations/0028-cold-counts';
import * as rampDays from './migrations/0029-ramp-days';
import * as itemSources from './migrations/0030-item-sources';
import * as toldByHubs from './migrations/0031-told-by-hubs';
import * as cutFeeds from './migrations/0032-cut-feeds';
import * as signedReports from './migrations/0033-signed-reports';

/** In order; a migration that has run anywhere is never edited, a new one is added. */
const MIGRATIONS: Record<string, Migration> = {
  '0001-accounts': accounts,
  '0002-senders': senders,
  '0003-post-office': postOffice,
  '0004-readers': readers,
  '0005-letters': letters,
  '0006-totals': totals,
  '0007-keeping': keeping,
  '0008-transfer': transfer,
  '0009-exports': exporting,
  '0010-choices': choices,
  '0011-whole': whole,
  '0012-closing': closing,
  '0013-lists': lists,
  '0014-cold': cold,
  '0015-degrees': degrees,
  '0016-writing': writing,
  '0017-layouts': layouts,
  '0018-addressing': addressing,
  '0019-results': results,
  '0020-feeds': feeds,
  '0021-rules': rules,
  '0022-returns': returns,
  '0023-growth': growth,
  '0024-watch': watch,
  '0025-seeds': seeds,
  '0026-old-events': oldEvents,
  '0027-list-days': listDays,
  '0028-cold-counts': coldCounts,
  '0029-ramp-days': rampDays,
  '0030-item-sources': itemSources,
  '0031-told-by-hubs': toldByHubs,
  '0032-cut-feeds': cutFeeds,
  '0033-signed-reports': signedReports,
};

/** The migrations that have not run there yet, in order. */
export async function pendingMigrations<T>(db: Kysely<T>): Promise<string[]> {
  const table = await sql<{ name: string | null }>`select to_regclass('kysely_migration')::text as name`.execute(db);
  const { rows } = table.rows[0]?.name
    ? await sql<{ name: string }>`select name from kysely_migration`.execute(db)
    : { rows: [] };
  return Object.keys(MIGRATIONS).filter((name) => !rows.some((row) => row.name === name));
}

/** Brings the schema forward. Safe to run from several processes at once; throws the first migration's error. */
export async function migrate<T>(db: Kysely<T>): Promise<void> {
  if (await isCurrent(db)) return;
  const migrator = new Migrator({ db, provider: { getMigrations: async () => MIGRATIONS } });
  const { error } = await migrator.migrateToLatest();
  if (error) throw error;
}

/**
 * Do all migrations stand, and no others? Asked first, because the migrator reads the columns of every schema of the database, and fails when
 * the job queue of a worker that starts at the same moment alters one of its own.
 */
async function isCurrent<T>(db: Kysely<T>): Promise<boolean> {
  const table = await sql<{ name: string | null }>`select to_regclass('kysely_migration')::text as name`.execute(db);
  if (!table.rows[0]?.name) return false;
  const { rows } = await sql<{ name: string }>`select name from kysely_migration order by name`.execute(db);
  return rows.map((row) => row.name).join() === Object.keys(MIGRATIONS).join();
}

import { sql } from 'kysely';
import type { Db } from './connection';

/**
 * A transaction among the people of tries: the tables of the schema `rehearsal` stand before those of the same names, so that the same code works for
 * a writer's try of their own form and nothing else of the house can meet it.
 */
export const inRehearsal = <T>(db: Db, work: (db: Db) => Promise<T>): Promise<T> =>
  db.transaction().execute(async (trx) => {
    await sql`set local search_path = rehearsal, public`.execute(trx);
    return work(trx);
  });

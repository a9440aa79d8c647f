import { Kysely, PostgresDialect, sql } from 'kysely';
import pg from 'pg';
import type { Schema } from './schema';

// A date is a calendar day, not an instant: it stays YYYY-MM-DD and never passes through a time zone.
pg.types.setTypeParser(pg.types.builtins.DATE, (value) => value);

export type Db = Kysely<Schema>;
export type Connection = { db: Db; pool: pg.Pool };

const names = new Map<string, string>();
const MOST_NAMES = 300;

/**
 * A client that gives every statement with parameters a name, so that PostgreSQL plans it once a connection: for processes that say the
 * same few things all day.
 */
class PreparingClient extends pg.Client {
  override query(...given: unknown[]): never {
    const [text, values, more] = given;
    const plain = super.query as unknown as (...given: unknown[]) => never;
    if (typeof text !== 'string' || !Array.isArray(values) || values.length === 0 || more) return plain.apply(this, given);
    let name = names.get(text);
    if (!name && names.size < MOST_NAMES) {
      name = `inkset_${names.size}`;
      names.set(text, name);
    }
    return plain.call(this, { text, values, name });
  }
}

/**
 * Opens a pool. A connection lost while idle (a database restart) is reported and replaced at the next use; without the
 * listener the process would end.
 */
export function connect(url: string, onLost: (error: Error) => void, max = 10, { prepares = false } = {}): Connection {
  const Client = prepares ? PreparingClient : pg.Client;
  const pool = new pg.Pool({ connectionString: url, max, connectionTimeoutMillis: 5_000, Client });
  pool.on('error', onLost);
  pool.on('connect', (client) => client.on('error', onLost));
  return { pool, db: new Kysely<Schema>({ dialect: new PostgresDialect({ pool }) }) };
}

/** SQLSTATE classes and socket errors that mean "the database is away", not "the query is wrong". */
const AWAY = /^(08|57P0|53)|^(ECONNREFUSED|ECONNRESET|EPIPE|ETIMEDOUT)$/;

/** Is this error the database being away or going down? Then the same call may work later. */
export function isAway(error: unknown): boolean {
  if (!(error instanceof Error)) return false;
  const code = (error as { code?: string }).code ?? '';
  return (
    AWAY.test(code) ||
    /Connection terminated|timeout exceeded when trying to connect|Client has encountered a connection error/.test(error.message)
  );
}

/** Did two transactions get in each other's way (deadlock, serialisation)? Then the same work may go through at once. */
export const isTransient = (error: unknown): boolean =>
  ['40P01', '40001', '55P03'].includes((error as { code?: string } | null)?.code ?? '');

const MOST_RETRIES = 20;

/** Runs a transaction again that got in another's way, after a moment of chance, at most 20 times; other errors pass through. */
export async function inTransaction<T>(db: Db, work: (trx: Db) => Promise<T>): Promise<T> {
  for (let tries = 0; ; tries += 1) {
    try {
      return await db.transaction().execute(work);
    } catch (error) {
      if (!isTransient(error) || tries >= MOST_RETRIES) throw error;
      await new Promise((resolve) => setTimeout(resolve, Math.random() * 20 * (tries + 1)));
    }
  }
}

/** Runs `work` until the database answers, waiting a little longer each time (at most 2 s); other errors pass through. */
export async function untilBack<T>(work: () => Promise<T>, wait: (ms: number) => Promise<void>): Promise<T> {
  for (let tries = 0; ; tries += 1) {
    try {
      return await work();
    } catch (error) {
      if (!isAway(error)) throw error;
      await wait(Math.min(2_000, 100 * 2 ** Math.min(tries, 5)));
    }
  }
}

/** What PostgreSQL says of a statement that took too long. */
const CANCELED = '57014';

/** Asks what may take long, and lets go of it after so many milliseconds: null then. */
export async function soon<T>(db: Db, ms: number, ask: (trx: Db) => Promise<T>): Promise<T | null> {
  try {
    return await db.transaction().execute(async (trx) => {
      await sql`set local statement_timeout = ${sql.lit(ms)}`.execute(trx);
      return ask(trx);
    });
  } catch (error) {
    if ((error as { code?: string }).code === CANCELED) return null;
    throw error;
  }
}

import type { Selectable } from 'kysely';
import type { Logger } from 'pino';
import type { Clock } from './clock/clock';
import type { Config } from './config';
import type { Db } from './db/connection';
import type { NewsletterTable } from './db/schema';
import type { Resolver } from './dns/resolver';

/** What every use case gets as its first argument. */
export type Context = { db: Db; clock: Clock; config: Config; log: Logger; resolver: Resolver };

export type Newsletter = Selectable<NewsletterTable>;

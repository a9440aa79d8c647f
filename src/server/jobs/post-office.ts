import { existsSync, readdirSync } from 'node:fs';
import { setPriority } from 'node:os';
import type { Context } from '../context';
import { PostOffice } from '../mail/post-office';
import { Singles } from '../mail/singles';
import { Copies } from '../sending/copies';
import { type Said, Taken, tellMailboxes } from '../sending/mailboxes';
import { findRoutes } from '../sending/routing';

/** A worker's post office with both its sources: letters, and single mails, whose endings are told to their readers' mailboxes too. */
export function postOffice(ctx: Context, workerId: string): PostOffice {
  const taken = new Taken();
  const singles = new Singles(ctx, workerId, async (db, ended) => {
    const said = ended.flatMap(({ row, result }): Said[] => {
      const { ending } = result;
      if (!row.reader_id || !row.newsletter_id || (ending.kind !== 'dead' && ending.kind !== 'refused')) return [];
      const weight = ending.kind === 'refused' ? ending.evidence : 0;
      return [{ readerId: row.reader_id, newsletterId: row.newsletter_id, routeId: row.route_id, outcome: ending, weight }];
    });
    if (said.length) await tellMailboxes(ctx, db, said, taken);
  });
  return new PostOffice(ctx, workerId, singles, new Copies(ctx, workerId, taken), (found) => findRoutes(ctx, found));
}

/** By so much a worker stands back (nice, 0 to 19). Far enough for pages to go first, near enough for a third of a processor where everybody wants it. */
export const STANDS_BACK = 5;

/**
 * What leaves in bulk takes a processor that nobody who waits for a page wants: this process stands back with all its threads, of which those that sign were begun
 * before it could say so. Where the system does not let it, it works as before.
 */
export function standBack(ctx: Pick<Context, 'log'>): void {
  // Linux has a priority for each thread, and their numbers stand here; elsewhere a process has one.
  const threads = existsSync('/proc/self/task') ? readdirSync('/proc/self/task').map(Number) : [0];
  for (const thread of threads)
    try {
      setPriority(thread, STANDS_BACK);
    } catch (error) {
      // One that has ended meanwhile, or a system that does not let it.
      ctx.log.debug({ reason: (error as Error).message }, 'this worker cannot stand back behind pages');
    }
}

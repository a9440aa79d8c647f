import { sql } from 'kysely';
import { nextTry, type Outcome } from '@/core/sending/outcome';
import type { Context } from '../context';
import { untilBack } from '../db/connection';
import { type Claim, type Result, recordOutcomes } from '../delivery/outcomes';
import { relayLine, relayRoom } from '../mail/relay';
import { NoRoute, openLine } from '../mail/routes';
import { LineDown, type MailLine } from '../mail/smtp';
import { messageFor, type Prepared, prepare } from './prepared';

const BATCH = 200;
/** Connections to one mailbox provider at a time. */
const LINES = 6;

const pause = (ms: number) => new Promise<void>((resolve) => setTimeout(resolve, ms));

/**
 * Sends everything that is due on one route (a mailbox provider's hosts, or a newsletter's relay), batch after batch: claim, hand over on a few lines, write the results.
 * The results outlive the database being away: they are kept and written once it is back. When the provider cannot be reached,
 * the rest of its queue waits instead of trying the same door again for each letter. Returns how many were handed over.
 */
export async function deliverTo(ctx: Context, route: string, workerId: string, stopping: () => boolean): Promise<number> {
  const lines: MailLine[] = [];
  const letters = new Map<string, Promise<Prepared>>();
  let handed = 0;
  let down: LineDown | null = null;
  // While one batch is handed over, the next is being claimed and the results of the one before are being written.
  let next = settle(claim(ctx, route, workerId));
  let written = settle(Promise.resolve());
  try {
    for (let batch = (await next)(); batch.length > 0 && !stopping() && !down; batch = (await next)()) {
      next = settle(claim(ctx, route, workerId));
      const done = await handOver(ctx, route, batch, lines, letters);
      (await written)();
      written = settle(untilBack(() => recordOutcomes(ctx, done.results, workerId), pause));
      handed += done.results.filter((result) => result.outcome.kind === 'delivered').length;
      down = done.down;
    }
  } finally {
    for (const line of lines) line?.close();
    const results = await written;
    const untried = (await next)();
    if (untried.length) await untilBack(() => release(ctx, untried, workerId), pause);
    results();
  }
  if (down) await postpone(ctx, route, down.message, new Date(ctx.clock.now().getTime() + 60_000));
  return handed;
}

/** Waits for work that runs beside other work: its error is thrown when its result is asked for, not before. */
const settle = <T>(work: Promise<T>): Promise<() => T> =>
  work.then(
    (value) => () => value,
    (error) => () => {
      throw error;
    },
  );

/** Gives back what was claimed and not tried. */
async function release(ctx: Context, batch: Claim[], workerId: string): Promise<void> {
  await sql`
    update deliveries d set state = 'queued', claimed_by = null
    from unnest(${batch.map((item) => item.sent_on)}::date[], ${batch.map((item) => item.id)}::bigint[]) as mine(sent_on, id)
    where d.sent_on = mine.sent_on and d.id = mine.id and d.state = 'claimed' and d.claimed_by = ${workerId}`.execute(ctx.db);
}

/** Takes a batch for this worker. SKIP LOCKED lets several workers take from one provider's queue without waiting. */
async function claim(ctx: Context, route: string, workerId: string): Promise<Claim[]> {
  const room = relayOwner(route) ? await relayRoom(ctx, relayOwner(route)!) : null;
  if (room?.left === 0) {
    await postpone(ctx, route, 'Your SMTP service takes no more letters for now; the rest follows.', room.again);
    return [];
  }
  const { rows } = await sql<Claim>`
    update deliveries d set state = 'claimed', claimed_by = ${workerId}
    from (select sent_on, id from deliveries
          where route = ${route} and state = 'queued' and due_at <= ${ctx.clock.now()}
          order by due_at, id limit ${Math.min(BATCH, room?.left ?? BATCH)} for update skip locked) mine
    where d.sent_on = mine.sent_on and d.id = mine.id
    returning d.id, d.sent_on, d.letter_id, d.newsletter_id, d.reader_id, d.address, d.attempts`.execute(ctx.db);
  return rows;
}

async function handOver(ctx: Context, route: string, batch: Claim[], lines: MailLine[], letters: Map<string, Promise<Prepared>>) {
  const results: Result[] = [];
  const queue = [...batch];
  let down: LineDown | null = null;
  const finish = (item: Claim, outcome: Outcome) => {
    const again = outcome.kind === 'later' ? nextTry(item.attempts + 1, ctx.clock.now()) : null;
    results.push({ item, outcome, again });
  };
  const lane = async (n: number) => {
    for (let item = queue.shift(); item; item = queue.shift()) {
      if (down) {
        finish(item, { kind: 'later', response: down.message });
        continue;
      }
      try {
        let letter = letters.get(item.letter_id);
        if (!letter) {
          letter = prepare(ctx, item.letter_id);
          letters.set(item.letter_id, letter);
        }
        const { envelope, message } = await messageFor(await letter, {
          id: item.id,
          sentOn: item.sent_on,
          address: item.address,
        });
        lines[n] ??= await openRoute(ctx, route);
        finish(item, await lines[n].send(envelope, message));
      } catch (error) {
        delete lines[n];
        if (error instanceof NoRoute) finish(item, { kind: 'dead', response: error.message });
        else if (error instanceof LineDown) {
          down = error;
          finish(item, { kind: 'later', response: error.message });
        } else {
          // Not the way and not the mailbox: something of ours. The letter waits, and the log says what happened.
          ctx.log.error({ err: error, letter: item.letter_id }, 'a delivery could not be made');
          letters.delete(item.letter_id);
          finish(item, { kind: 'later', response: 'Something on our side failed; we try again.' });
        }
      }
    }
  };
  await Promise.all(Array.from({ length: Math.min(LINES, batch.length) }, (_, n) => lane(n)));
  return { results, down: down as LineDown | null };
}

/** Lets the rest of a route's queue wait, with the reason. */
async function postpone(ctx: Context, route: string, reason: string, until: Date): Promise<void> {
  ctx.log.warn({ route, reason }, 'letters wait');
  await ctx.db
    .updateTable('deliveries')
    .set({ due_at: until, response: reason })
    .where('route', '=', route)
    .where('state', '=', 'queued')
    .where('due_at', '<=', ctx.clock.now())
    .execute();
}

/** The newsletter whose relay a route is, or null for a mailbox provider's own hosts. */
const relayOwner = (route: string) => (route.startsWith('relay:') ? route.slice(6) : null);

async function openRoute(ctx: Context, route: string): Promise<MailLine> {
  const owner = relayOwner(route);
  if (!owner) return openLine(ctx, route);
  const line = await relayLine(ctx, owner);
  if (!line) throw new LineDown({ host: 'Your SMTP service', address: '', port: 0 }, 'connect', 'is switched off');
  return line;
}

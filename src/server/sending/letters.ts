import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Audience } from '@/core/sending/audience';
import { afterAct, type LetterAct, type LetterState, statesFor } from '@/core/sending/letter-state';
import { audienceSchema } from '@/core/sending/schemas';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import type { LetterTable } from '../db/schema';
import { newId } from '../ids';
import { routesDue } from './copies';
import { countLetters } from './counts';
import { countRamp } from './ramp-days';

export type NewLetter = {
  newsletterId: string;
  kind?: LetterTable['kind'];
  postId: string | null;
  autoSendId: string | null;
  layoutId: string | null;
  audience: Audience;
  senderId: string;
  subject: string;
  previewLine: string;
  dueAt: Date;
  /** It waits for somebody to let it go. */
  draft?: boolean;
};

/** Puts a letter on the runway, in the caller's transaction. It leaves by itself once it is due. */
export async function scheduleLetter(ctx: Context, db: Db, letter: NewLetter): Promise<string> {
  const id = newId();
  const now = ctx.clock.now();
  await db
    .insertInto('letters')
    .values({
      id,
      newsletter_id: letter.newsletterId,
      kind: letter.kind ?? 'post',
      post_id: letter.postId,
      auto_send_id: letter.autoSendId,
      layout_id: letter.layoutId,
      audience: JSON.stringify(check(audienceSchema, letter.audience)),
      sender_id: letter.senderId,
      subject: letter.subject,
      preview_line: letter.previewLine,
      state: letter.draft ? 'draft' : 'scheduled',
      state_at: now,
      due_at: letter.dueAt,
      created_at: now,
    })
    .execute();
  return id;
}

/**
 * Moves a letter by an act, with its cause, if it is in a state from which the act leads somewhere. Returns the state it is in then, or null where the
 * act means nothing. Every change of a letter's state goes through here (core/sending/letter-state).
 */
export async function moveLetter(
  ctx: Context,
  db: Db,
  id: string,
  act: LetterAct,
  cause: string | null = null,
  set: Partial<Record<'due_at' | 'started_at' | 'finished_at', Date>> = {},
): Promise<LetterState | null> {
  const row = await db
    .selectFrom('letters')
    .select('state')
    .where('id', '=', id)
    .where('state', 'in', statesFor(act))
    .forUpdate()
    .executeTakeFirst();
  const next = row && afterAct(row.state, act);
  if (!next) return null;
  await db
    .updateTable('letters')
    .set({ state: next, cause, state_at: ctx.clock.now(), ...set })
    .where('id', '=', id)
    .execute();
  return next;
}

const SAID: Partial<Record<LetterAct, string>> = {
  pause: 'This letter is not on its way, so there is nothing to pause.',
  resume: 'This letter is not paused.',
  stop: 'This letter is not on its way, so there is nothing to stop.',
  unschedule: 'This letter has begun to leave already.',
};

async function own(ctx: Context, db: Db, newsletter: Newsletter, id: string, act: LetterAct, cause: string): Promise<void> {
  const letter = await db
    .selectFrom('letters')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!letter) throw new Fault('not-found', 'There is no such letter.');
  if (!(await moveLetter(ctx, db, id, act, cause)))
    throw new Fault('conflict', SAID[act] ?? 'This cannot be done with this letter now.');
}

/** Holds a letter that is on its way: what is not on a wire waits, at once. */
export async function pauseLetter(ctx: Context, newsletter: Newsletter, id: string, by: string): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    await own(ctx, trx, newsletter, id, 'pause', `Paused by ${by}`);
    await rest(trx, id, true);
  });
}

/** Does the same for a reason of our own, in the caller's transaction. */
export async function pauseFor(ctx: Context, db: Db, id: string, cause: string): Promise<void> {
  if (await moveLetter(ctx, db, id, 'pause', cause)) await rest(db, id, true);
}

/** Takes a letter off the runway: it goes nowhere until it is given a time again. */
export async function callBack(ctx: Context, newsletter: Newsletter, id: string, by: string): Promise<void> {
  await ctx.db.transaction().execute((trx) => own(ctx, trx, newsletter, id, 'unschedule', `Called back by ${by}`));
}

/** Lets a paused letter go on where it was. */
export async function resumeLetter(ctx: Context, newsletter: Newsletter, id: string, by: string): Promise<void> {
  const letter = await ctx.db
    .selectFrom('letters')
    .select('domain_id')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  // What was to leave on the days of the pause is spread over those to come, before any of it leaves.
  if (letter?.domain_id) await countRamp(ctx, letter.domain_id);
  await ctx.db.transaction().execute(async (trx) => {
    await own(ctx, trx, newsletter, id, 'resume', `Resumed by ${by}`);
    await rest(trx, id, false);
    // Its pace from before the pause says nothing of now.
    await trx.deleteFrom('letter_progress').where('letter_id', '=', id).execute();
  });
}

async function rest(db: Db, id: string, resting: boolean): Promise<void> {
  const { rows } = await sql<{ route_id: number }>`
    update route_jobs j set resting = ${resting} from (select route_id, letter_id from route_jobs where letter_id = ${id} order by route_id for update) l
    where j.route_id = l.route_id and j.letter_id = l.letter_id returning j.route_id`.execute(db);
  await routesDue(
    db,
    rows.map((row) => row.route_id),
  );
}

/** Ends a letter for good: whoever has not got it yet does not get it. What is on a wire at this moment may still arrive. */
export async function stopLetter(ctx: Context, newsletter: Newsletter, id: string, by: string): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    await own(ctx, trx, newsletter, id, 'stop', `Stopped by ${by}`);
    await trx.updateTable('letters').set({ finished_at: ctx.clock.now() }).where('id', '=', id).execute();
    const { rows: jobs } = await sql<{ route_id: number }>`
      delete from route_jobs where letter_id = ${id} returning route_id`.execute(trx);
    const { rows } = await sql<{ domain_id: number; n: number }>`
      with gone as (
        update deliveries d set state = 'cancelled', claimed_by = null from letters l
        where l.id = ${id} and d.letter_id = l.id and d.sent_on = l.sent_on and d.state in ('kept', 'queued', 'claimed') returning d.domain_id)
      select domain_id, count(*)::int as n from gone group by 1`.execute(trx);
    await countLetters(
      trx,
      rows.map((row) => ({ newsletterId: newsletter.id, letterId: id, domainId: row.domain_id, cancelled: row.n })),
    );
    await routesDue(
      trx,
      jobs.map((job) => job.route_id),
    );
  });
}

/** Gives a letter that has not left yet another sender: any confirmed one of the newsletter's. A letter held for its sender is looked at again at once. */
export async function chooseSender(ctx: Context, newsletter: Newsletter, id: string, senderId: string): Promise<void> {
  const sender = await ctx.db
    .selectFrom('senders')
    .select(['id', 'address', 'confirmed_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', senderId)
    .executeTakeFirst();
  if (!sender) throw new Fault('invalid', 'Choose a sender.', { senderId: 'Choose a sender.' });
  if (!sender.confirmed_at)
    throw new Fault('conflict', `${sender.address} is not confirmed yet, so it cannot send. Nothing was changed.`);
  await ctx.db.transaction().execute(async (trx) => {
    const result = await trx
      .updateTable('letters')
      .set({ sender_id: sender.id })
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .where('state', 'in', ['draft', 'scheduled', 'held'])
      .executeTakeFirst();
    if (result.numUpdatedRows === 0n) throw new Fault('conflict', 'This letter has left already; its sender stays.');
    await moveLetter(ctx, trx, id, 'release', null, { due_at: ctx.clock.now() });
  });
}

/** Marks letters as sent that have nothing left to send. Those that stand in no queue any more are looked at one by one, which is cheap; the others are not. */
export async function finishLetters(ctx: Context): Promise<void> {
  const { rows } = await sql<{ id: string; sent_on: string }>`
    select l.id, l.sent_on from letters l where l.state = 'sending' and not exists (select 1 from route_jobs j where j.letter_id = l.id)`.execute(
    ctx.db,
  );
  for (const { id, sent_on } of rows) {
    const { rows: left } = await sql<{ state: string }>`
      (select state from deliveries where letter_id = ${id} and sent_on = ${sent_on}::date and state = 'queued' limit 1)
      union all (select state from deliveries where letter_id = ${id} and sent_on = ${sent_on}::date and state = 'kept' limit 1)
      union all (select state from deliveries where letter_id = ${id} and sent_on = ${sent_on}::date and state = 'claimed' and claimed_by is not null limit 1)`.execute(
      ctx.db,
    );
    if (left.length === 0)
      await ctx.db.transaction().execute((trx) => moveLetter(ctx, trx, id, 'finish', null, { finished_at: ctx.clock.now() }));
  }
}

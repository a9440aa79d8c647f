import Joi from 'joi';
import { Fault } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { slugify } from '@/core/newsletters/slug';
import { ANSWER_DAYS, COLD_DAYS, coldFor, silentAfter } from '@/core/readers/cold';
import type { Document } from '@/core/writing/document';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { newId } from '../ids';
import { mailOwners } from '../newsletters/alerts';
import { howMany } from '../readers/table';
import { moveLetter, scheduleLetter } from '../sending/letters';
import { startBulk } from './bulk';
import { coldKept, countSilent } from './cold-counts';

const DAY_MS = 86_400_000;

export type Asking = {
  id: string;
  days: number;
  by: string;
  beganAt: Date;
  letterId: string | null;
  /** How many got the question so far. */
  asked: number;
  /** How many of them are as cold as before, counted at a moment; null for just now. */
  silent: number;
  countedAt: Date | null;
  /** From when on those may be let go; null while the question is on its way. */
  readyAt: Date | null;
  ready: boolean;
};

/** The question that is out, or null; where readers are many, with who said nothing as it was last counted, unless it must be so now. */
export async function askingOf(ctx: Context, newsletter: Newsletter, now = false): Promise<Asking | null> {
  const row = await ctx.db
    .selectFrom('cleanups as c')
    .leftJoin('letters as l', 'l.id', 'c.letter_id')
    .selectAll('c')
    .select(['l.finished_at', 'l.state'])
    // Of this one letter: joined, the counts of all letters would be added up.
    .select((eb) =>
      eb.selectFrom('letter_counts as k').select('k.delivered').whereRef('k.letter_id', '=', 'c.letter_id').as('delivered'),
    )
    .where('c.newsletter_id', '=', newsletter.id)
    .where('c.ended_at', 'is', null)
    .executeTakeFirst();
  if (!row) return null;
  const kept = now ? null : await coldKept(ctx, newsletter.id);
  const known = kept?.question && kept.question.letterId === row.letter_id ? kept.question.silent : null;
  const over = row.finished_at && (row.state === 'sent' || row.state === 'stopped');
  const readyAt = over ? new Date(row.finished_at!.getTime() + ANSWER_DAYS * DAY_MS) : null;
  return {
    id: row.id,
    days: row.days,
    by: row.by_name,
    beganAt: row.began_at,
    letterId: row.letter_id,
    asked: row.delivered ?? 0,
    silent: known ?? (row.letter_id ? await countSilent(ctx, newsletter, row.letter_id, row.days) : 0),
    countedAt: known === null ? null : new Date(kept!.at),
    readyAt,
    ready: readyAt !== null && readyAt <= ctx.clock.now(),
  };
}

const schema = Joi.object<{ days: number; subject: string; words: string; button: string; senderId: string }>({
  days: Joi.number()
    .valid(...COLD_DAYS)
    .required()
    .label('For how long'),
  subject: Joi.string().trim().max(150).required().label('Subject'),
  words: Joi.string().trim().max(2_000).required().label('What it says'),
  button: Joi.string().trim().max(60).required().label('Button'),
  senderId: Joi.string().uuid().required().label('Sender'),
});

/** Asks those who have been cold for so long, by a letter of its own, whether they want to go on reading. Throws "invalid" and "conflict". */
export async function askCold(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  raw: unknown,
): Promise<{ letterId: string }> {
  const { days, subject, words, button, senderId } = check(schema, raw);
  const condition = coldFor(days);
  if ((await howMany(ctx, newsletter, { find: '', condition })) === 0)
    throw new Fault('conflict', 'Nobody has been cold for so long. Nothing was sent.');
  const now = ctx.clock.now();
  const document: Document = {
    version: 1,
    nodes: [
      ...words.split(/\n{2,}/).map((text) => ({ kind: 'paragraph' as const, inline: [{ kind: 'text' as const, text }] })),
      { kind: 'stay', label: button },
    ],
  };
  return inTransaction(ctx.db, async (trx) => {
    await trx.selectFrom('newsletters').select('id').where('id', '=', newsletter.id).forNoKeyUpdate().executeTakeFirst();
    const open = await trx
      .selectFrom('cleanups')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('ended_at', 'is', null)
      .executeTakeFirst();
    if (open) throw new Fault('conflict', 'A question is out already. Let those go who said nothing, or end it, first.');
    const sender = await trx
      .selectFrom('senders')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', senderId)
      .executeTakeFirst();
    if (!sender) throw new Fault('invalid', 'This sender is not there any more.', { senderId: 'Choose again.' });
    const postId = newId();
    await trx
      .insertInto('posts')
      .values({
        id: postId,
        newsletter_id: newsletter.id,
        slug: `${slugify(subject) || 'question'}-${postId.slice(-6)}`,
        title: subject,
        document: JSON.stringify(document),
        created_at: now,
        updated_at: now,
      })
      .execute();
    const letterId = await scheduleLetter(ctx, trx, {
      newsletterId: newsletter.id,
      postId,
      autoSendId: null,
      layoutId: null,
      audience: { to: [{ kind: 'those', condition }], without: [] },
      senderId,
      subject,
      previewLine: words.split('\n')[0]!.slice(0, 150),
      dueAt: now,
    });
    await trx
      .insertInto('cleanups')
      .values({ id: newId(), newsletter_id: newsletter.id, days, letter_id: letterId, by_name: person.name, began_at: now })
      .execute();
    return { letterId };
  });
}

/** Takes off every list, as an act that can be taken back for a week, who was asked and is as cold as before. Throws "conflict" where it is too early. */
export async function letGo(ctx: Context, newsletter: Newsletter, person: Pick<Person, 'name'>): Promise<void> {
  const asking = await askingOf(ctx, newsletter, true);
  if (!asking?.letterId) throw new Fault('conflict', 'No question is out.');
  if (!asking.ready)
    throw new Fault('conflict', `They have ${ANSWER_DAYS} days to answer from when it was sent. Nobody was let go.`);
  if (asking.silent > 0)
    await startBulk(ctx, newsletter, person, {
      act: 'let go',
      whom: { condition: silentAfter(asking.letterId, asking.days), find: '' },
      what: {},
    });
  await endAsking(ctx, newsletter);
}

/** Ends a question without letting anybody go; one that has not begun to leave goes nowhere. */
export async function endAsking(ctx: Context, newsletter: Newsletter): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const row = await trx
      .updateTable('cleanups')
      .set({ ended_at: ctx.clock.now() })
      .where('newsletter_id', '=', newsletter.id)
      .where('ended_at', 'is', null)
      .returning('letter_id')
      .executeTakeFirst();
    if (row?.letter_id) await moveLetter(ctx, trx, row.letter_id, 'unschedule', 'Its question was ended');
  });
}

/** Tells owners, once, that the time to answer is over. */
export async function tellAsked(ctx: Context): Promise<void> {
  const now = ctx.clock.now();
  const rows = await ctx.db
    .selectFrom('cleanups as c')
    .innerJoin('letters as l', 'l.id', 'c.letter_id')
    .select(['c.id', 'c.newsletter_id'])
    .where('c.ended_at', 'is', null)
    .where('c.told_at', 'is', null)
    .where('l.finished_at', '<=', new Date(now.getTime() - ANSWER_DAYS * DAY_MS))
    .limit(50)
    .execute();
  for (const { id, newsletter_id } of rows) {
    const newsletter = await ctx.db
      .selectFrom('newsletters')
      .selectAll()
      .where('id', '=', newsletter_id)
      .executeTakeFirstOrThrow();
    const asking = await askingOf(ctx, newsletter, true);
    if (!asking?.ready || newsletter.removed_at || newsletter.closing_at) continue;
    await inTransaction(ctx.db, async (trx) => {
      const { numUpdatedRows } = await trx
        .updateTable('cleanups')
        .set({ told_at: now })
        .where('id', '=', id)
        .where('told_at', 'is', null)
        .executeTakeFirst();
      if (!numUpdatedRows) return;
      await mailOwners(
        ctx,
        trx,
        newsletter.id,
        newsletter,
        `${counted(asking.silent, 'person', 'people')} of ${asking.asked} said nothing`,
        [
          'The time to answer your last question is over. Whoever answered, or read anything since, stays by themselves.',
          'Say on the desk whether the others are let go.',
        ],
        '/readers/cold',
        { told: 'must know' },
      );
    });
  }
}

import { Fault } from '@/core/faults';
import { sampleAnswers } from '@/core/forms/sample';
import { parseAddress } from '@/core/readers/address';
import type { Context, Newsletter } from '../context';
import { inRehearsal } from '../db/rehearsal';
import { newId } from '../ids';
import { limit, limitMailTo } from '../limits';
import { hashToken, mailedToken } from '../secrets';
import { formOf } from './forms';

/** What a try goes through, in order. */
export const TRIAL_STEPS = ['sent in', 'confirmation left', 'mailbox accepted', 'clicked', 'reading', 'welcome left'] as const;
export type TrialStep = {
  step: (typeof TRIAL_STEPS)[number];
  at: Date | null;
  /** Why it will not come, or what the mailbox said. */
  note: string;
  state: 'done' | 'waiting' | 'skipped' | 'failed';
};
export type TrialView = { id: string; address: string; startedAt: Date; steps: TrialStep[]; ended: boolean };

const FAILED = new Set(['bounced', 'refused', 'given up', 'aside']);
const GOES_AFTER_MS = 3_600_000;
const TOKEN_GOOD_MS = 60_000;

/**
 * Sends a form's live version in as a visitor would, by the same public path, with the writer's own address. The reader this makes is in no list,
 * count or letter, stands beside a reader of the same address, and goes when the try ends. An earlier try of the form ends.
 */
export async function startTrial(
  ctx: Context,
  newsletter: Newsletter,
  formId: string,
  typed: string,
  handle: (request: Request) => Promise<Response>,
): Promise<{ id: string }> {
  const form = await formOf(ctx, newsletter, formId);
  if (form.archivedAt) throw new Fault('conflict', 'This form is put away. Use it again, then try it.');
  const address = parseAddress(typed);
  if (!address) throw new Fault('invalid', 'This does not look like an email address.', { address: 'Type your own address.' });
  await limit(ctx, `trial:${newsletter.id}`, 20, 3600, 'You have tried very often in this hour. Please wait a little.');
  await limitMailTo(ctx, address.full);
  await endTrials(ctx, (query) => query.where('form_id', '=', form.id));
  const id = newId();
  const { token, hash } = mailedToken();
  await ctx.db
    .insertInto('trials')
    .values({
      id,
      form_id: form.id,
      newsletter_id: newsletter.id,
      address: address.full,
      token_hash: hash,
      started_at: ctx.clock.now(),
    })
    .execute();
  const response = await handle(
    new Request(`${ctx.config.linkOrigin}/e/form/${form.publicId}`, {
      method: 'POST',
      headers: { accept: 'application/json' },
      // Whoever tries with such an address knows it: no hint stops them.
      body: new URLSearchParams({ ...sampleAnswers(form.definition, address.full), trial: token, sure: address.full }),
    }),
  );
  if (!response.ok) {
    await endTrials(ctx, (query) => query.where('id', '=', id));
    const { error } = (await response.json()) as { error: { sentence: string } };
    throw new Fault('invalid', `The form answered: ${error.sentence}`);
  }
  return { id };
}

/** The open try that a form was sent in with, or null; good once. */
export async function takeTrial(ctx: Context, formId: string, token: string): Promise<string | null> {
  const row = await ctx.db
    .updateTable('trials')
    .set({ sent_in_at: ctx.clock.now() })
    .where('token_hash', '=', hashToken(token))
    .where('form_id', '=', formId)
    .where('sent_in_at', 'is', null)
    .where('ended_at', 'is', null)
    .where('started_at', '>', new Date(ctx.clock.now().getTime() - TOKEN_GOOD_MS))
    .returning('id')
    .executeTakeFirst();
  return row?.id ?? null;
}

/** How far a try has come. */
export async function trialOf(ctx: Context, newsletter: Newsletter, id: string): Promise<TrialView> {
  const trial = await ctx.db
    .selectFrom('trials as t')
    .innerJoin('forms as f', 'f.id', 't.form_id')
    .select(['t.id', 't.address', 't.started_at', 't.sent_in_at', 't.ended_at', 'f.definition'])
    .where('t.newsletter_id', '=', newsletter.id)
    .where('t.id', '=', id)
    .executeTakeFirst();
  if (!trial) throw new Fault('not-found', 'This try is gone.');
  // The reader of a try has its number.
  const of = trial.id;
  const mails = await ctx.db
    .selectFrom('mails')
    .select(['kind', 'state', 'left_at', 'delivered_at', 'response'])
    .where('reader_id', '=', of)
    .orderBy('id')
    .execute();
  const { confirmation, membership } = await inRehearsal(ctx.db, async (db) => ({
    confirmation: await db.selectFrom('confirmations').select('used_at').where('reader_id', '=', of).executeTakeFirst(),
    membership: await db
      .selectFrom('memberships')
      .select('joined_at')
      .where('reader_id', '=', of)
      .orderBy('joined_at')
      .executeTakeFirst(),
  }));
  const [letter, welcome] = ['confirmation', 'welcome'].map((kind) => mails.find((mail) => mail.kind === kind));
  const unasked = !confirmation && membership?.joined_at ? 'Its lists ask for no confirmation.' : '';
  const step = (name: TrialStep['step'], at: Date | null | undefined, skipped = '', said = '', failed = false): TrialStep => ({
    step: name,
    at: at ?? null,
    note: at || failed ? said : skipped,
    state: failed ? 'failed' : at ? 'done' : skipped ? 'skipped' : 'waiting',
  });
  const said = letter?.response ?? '';
  return {
    id: trial.id,
    address: trial.address,
    startedAt: trial.started_at,
    ended: trial.ended_at !== null,
    steps: [
      step('sent in', trial.sent_in_at),
      step('confirmation left', letter?.left_at, unasked),
      step('mailbox accepted', letter?.delivered_at, unasked, said, letter !== undefined && FAILED.has(letter.state)),
      step('clicked', confirmation?.used_at, unasked),
      step('reading', membership?.joined_at),
      step('welcome left', welcome?.left_at, trial.definition.next?.welcome?.on ? '' : 'The form sends none.'),
    ],
  };
}

/** Ends a try and takes away everything it made. Ending twice does nothing. */
export async function endTrial(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await endTrials(ctx, (query) => query.where('newsletter_id', '=', newsletter.id).where('id', '=', id));
}

/** Ends tries that nobody has ended for an hour. */
export async function endOldTrials(ctx: Context): Promise<void> {
  await endTrials(ctx, (query) => query.where('started_at', '<', new Date(ctx.clock.now().getTime() - GOES_AFTER_MS)));
}

const openTrials = (ctx: Context) =>
  ctx.db.updateTable('trials').set({ ended_at: ctx.clock.now() }).where('ended_at', 'is', null);

async function endTrials(
  ctx: Context,
  which: (query: ReturnType<typeof openTrials>) => ReturnType<typeof openTrials>,
): Promise<void> {
  const ended = await which(openTrials(ctx)).returning('id').execute();
  const ids = ended.map((row) => row.id);
  if (ids.length === 0) return;
  await inRehearsal(ctx.db, async (db) => {
    for (const table of ['memberships', 'consents', 'confirmations', 'reader_answers', 'reader_tags'] as const)
      await db.deleteFrom(table).where('reader_id', 'in', ids).execute();
    await db.deleteFrom('readers').where('id', 'in', ids).execute();
    await db.deleteFrom('mails').where('reader_id', 'in', ids).execute();
  });
}

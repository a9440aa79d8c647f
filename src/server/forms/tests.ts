import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { probabilityBetter, type Rate, rate } from '@/core/growth/rates';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';
import { complete, formOf, publishForm, saveDraft } from './forms';

export type ArmView = { shown: number; sentIn: number; confirmed: number; rate: Rate | null };
export type TestView = {
  startedAt: Date;
  heading: string;
  a: ArmView;
  b: ArmView /** That b confirms more of those who saw it. */;
  bWins: number;
};

/** Shows the draft beside what is live, at random and the same to each visitor, until it is ended. */
export async function startTest(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const form = await formOf(ctx, newsletter, id);
  if (!form.draft)
    throw new Fault('conflict', 'Change something first: what you have written and not published becomes version B.');
  const started = await ctx.db
    .insertInto('form_tests')
    .values({ id: newId(), form_id: form.id, definition: JSON.stringify(form.draft.definition), started_at: ctx.clock.now() })
    .onConflict((c) => c.column('form_id').where('ended_at', 'is', null).doNothing())
    .executeTakeFirst();
  if (!started.numInsertedOrUpdatedRows) throw new Fault('conflict', 'A test is running already. End it first.');
  await ctx.db
    .updateTable('forms')
    .set({ draft: null, draft_list_ids: null, draft_saved_at: null })
    .where('id', '=', form.id)
    .execute();
}

/** Ends a test and keeps one of the two; b becomes a new version of the form. */
export async function endTest(ctx: Context, newsletter: Newsletter, id: string, keep: 'a' | 'b'): Promise<void> {
  const form = await formOf(ctx, newsletter, id);
  const test = await ctx.db
    .updateTable('form_tests')
    .set({ ended_at: ctx.clock.now(), kept: keep })
    .where('form_id', '=', form.id)
    .where('ended_at', 'is', null)
    .returning('definition')
    .executeTakeFirst();
  if (!test) throw new Fault('conflict', 'No test is running.');
  if (keep === 'a') return;
  await saveDraft(ctx, newsletter, id, { name: form.name, listIds: form.listIds, definition: complete(test.definition) });
  await publishForm(ctx, newsletter, id);
}

/** The running test of a form with what each version has brought, or null. */
export async function testOf(ctx: Context, newsletter: Newsletter, id: string): Promise<TestView | null> {
  const test = await ctx.db
    .selectFrom('form_tests as t')
    .innerJoin('forms as f', 'f.id', 't.form_id')
    .select(['t.started_at', 't.definition', 'f.id'])
    .where('f.newsletter_id', '=', newsletter.id)
    .where('f.id', '=', id)
    .where('t.ended_at', 'is', null)
    .executeTakeFirst();
  if (!test) return null;
  const { rows } = await sql<{ variant: string; shown: number; sentIn: number; confirmed: number }>`
    select variant, sum(loaded)::int as shown, sum(sent_in)::int as "sentIn", sum(confirmed)::int as confirmed
    from form_days where form_id = ${test.id} and variant in ('a', 'b') and day >= ${test.started_at.toISOString().slice(0, 10)}::date - 1 group by variant`.execute(
    ctx.db,
  );
  const arm = (letter: string): ArmView => {
    const row = rows.find((entry) => entry.variant === letter) ?? { shown: 0, sentIn: 0, confirmed: 0 };
    return { shown: row.shown, sentIn: row.sentIn, confirmed: row.confirmed, rate: rate(row.confirmed, row.shown) };
  };
  const [a, b] = [arm('a'), arm('b')];
  const bWins = probabilityBetter({ shown: a.shown, converted: a.confirmed }, { shown: b.shown, converted: b.confirmed });
  return { startedAt: test.started_at, heading: complete(test.definition).heading, a, b, bWins };
}

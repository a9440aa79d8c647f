import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { type Answer, newField, readAnswer } from '@/core/forms/fields';
import { fill, wordsOf } from '@/core/forms/words';
import { firstNameSchema } from '@/core/readers/bulk';
import { folded } from '@/core/readers/condition';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { keepAnswers } from '../forms/fields';
import { mailToConfirm } from './acts';

const schema = Joi.object<{ firstName: string; note: string }>({
  firstName: firstNameSchema,
  note: Joi.string().trim().allow('').max(4_000).default('').label('Note'),
}).unknown();

/** Changes what is kept of a reader: name, note, and answers under the ids of their fields. Throws "invalid" with a sentence a field, or "not-found". */
export async function changeReader(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  raw: Record<string, unknown>,
): Promise<void> {
  const { firstName, note } = check(schema, raw);
  const fields = await ctx.db
    .selectFrom('fields')
    .select(['id', 'key', 'label', 'kind', 'options'])
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  const answers: Record<string, Answer> = {};
  const cleared: string[] = [];
  const faults: Record<string, string> = {};
  for (const field of fields) {
    const name = `field ${field.id}`;
    if (!(name in raw)) continue;
    const read = readAnswer({ ...newField(field.key, field.kind, field.label), options: field.options }, String(raw[name] ?? ''));
    if ('problem' in read) faults[name] = fill(wordsOf('en').problems[read.problem], { label: field.label });
    // Nothing said is no “no”.
    else if (read.value === null || (field.kind === 'yes/no' && raw[name] === '')) cleared.push(field.id);
    else answers[field.key] = read.value;
  }
  const [first] = Object.values(faults);
  if (first) throw new Fault('invalid', first, faults);
  await inTransaction(ctx.db, async (trx) => {
    const row = await trx
      .updateTable('readers')
      .set({ first_name: firstName || null, name_key: firstName ? folded(firstName) : null, note })
      .where('id', '=', id)
      .where('newsletter_id', '=', newsletter.id)
      .returning('id')
      .executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such reader.');
    await keepAnswers(ctx, trx, [{ newsletterId: newsletter.id, readerId: id, answers }]);
    await sql`delete from reader_answers where reader_id = ${id} and field_id = any(${cleared}::uuid[])`.execute(trx);
  });
}

/**
 * Sends somebody who waits their confirmation letter again, as it came the last time: from the form that they filled in, or as from a member who added
 * them; at most three a day. Throws "conflict" where they wait for nothing, or had three today.
 */
export async function resendConfirmation(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const lists = await trx
      .selectFrom('memberships as m')
      .innerJoin('lists as l', 'l.id', 'm.list_id')
      .select(['l.id', 'l.public_name'])
      .where('m.reader_id', '=', id)
      .where('m.newsletter_id', '=', newsletter.id)
      .where('m.state', '=', 'waiting')
      .orderBy('l.position')
      .execute();
    if (lists.length === 0) throw new Fault('conflict', 'They are not waiting for a confirmation.');
    const { address_state: state } = await trx
      .selectFrom('readers')
      .select('address_state')
      .where('id', '=', id)
      .executeTakeFirstOrThrow();
    // To an address that complained only its owner's own sign-up sends one.
    if (state === 'suppressed') throw new Fault('conflict', 'Their address is suppressed: nothing is sent there at your wish.');
    const form = await trx
      .selectFrom('forms as f')
      .leftJoin('confirmations as c', (join) => join.onRef('c.form_id', '=', 'f.id').on('c.reader_id', '=', id))
      .select(['f.id', 'f.name', 'f.definition', 'c.variant'])
      .where('f.newsletter_id', '=', newsletter.id)
      .where((eb) => eb.or([eb('c.reader_id', '=', id), eb('f.hosted', '=', true)]))
      .orderBy(sql`c.sent_at desc nulls last`)
      .limit(1)
      .executeTakeFirstOrThrow();
    const typed = form.variant === null ? 'by hand' : 'in a form';
    if ((await mailToConfirm(ctx, trx, newsletter, [id], { form, lists, variant: form.variant ?? '', typed })) === 0)
      throw new Fault('conflict', 'They have had three confirmation letters today. Try again tomorrow; nothing was lost.');
  });
}

/** Everything that is kept of one reader, as it stands in the tables, for them to have. Throws "not-found". */
export async function dataOf(ctx: Context, newsletter: Newsletter, id: string): Promise<Record<string, unknown>> {
  const rows = async (query: ReturnType<typeof sql<Record<string, unknown>>>) => (await query.execute(ctx.db)).rows;
  const [reader] = await rows(sql`
    select r.address, r.first_name, r.standing, r.created_at as first_came, r.source_page as page, r.source_referrer as came_from, r.source_name as source, r.source_placement as placement,
      r.source_language as language, r.zone, r.first_touch as first_visit, r.last_touch as last_visit, r.letters_got, r.last_sent_at, r.last_read_at, r.last_clicked_at,
      nullif(r.warmth, -1) as warmth, r.note, f.name as form, r.address_state,
      (select s.reason from suppressions s where s.newsletter_id = r.newsletter_id and s.address_key = r.address_key) as suppressed_for
    from readers r left join forms f on f.id = r.source_form_id where r.id = ${id} and r.newsletter_id = ${newsletter.id}`);
  if (!reader) throw new Fault('not-found', 'There is no such reader.');
  const [lists, rhythms, tags, answers, consents, letters, events] = await Promise.all([
    rows(
      sql`select l.public_name as list, m.state, m.since, m.joined_at as read_since from memberships m join lists l on l.id = m.list_id where m.reader_id = ${id} order by l.position`,
    ),
    rows(
      sql`select a.name as new_posts, x.lane as rhythm, x.chosen_at from reader_rhythms x join auto_sends a on a.id = x.auto_send_id where x.reader_id = ${id} order by x.chosen_at`,
    ),
    rows(sql`select tag, at from reader_tags where reader_id = ${id} order by tag`),
    rows(
      sql`select f.label as question, a.value as answer, a.at from reader_answers a join fields f on f.id = a.field_id where a.reader_id = ${id} order by f.created_at`,
    ),
    rows(
      sql`select act, list_name as list, state, at, actor, actor_name, page, referrer, wording, network, agent from consents where reader_id = ${id} order by id`,
    ),
    rows(sql`select l.subject, d.address, d.state, d.delivered_at, d.opened_at, d.opened_by_machine_at, d.clicked_at, d.left_at, d.response from deliveries d join letters l on l.id = d.letter_id
      where d.reader_id = ${id} order by d.due_at`),
    rows(sql`select e.kind, e.at, e.machine, e.agent, k.url as link from events e left join letter_links k on k.letter_id = e.letter_id and k.position = e.link_position
      where e.reader_id = ${id} order by e.at`),
  ]);
  return {
    newsletter: newsletter.name,
    as_of: ctx.clock.now(),
    reader,
    lists,
    rhythms,
    tags,
    answers,
    consents,
    letters,
    events,
  };
}

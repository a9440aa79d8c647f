import Joi from 'joi';
import { type RawBuilder, sql } from 'kysely';
import { Fault } from '@/core/faults';
import { type Answer, FIELD_KINDS, type FieldKind, type FormField } from '@/core/forms/fields';
import { readField } from '@/core/importing/judge';
import { folded } from '@/core/readers/condition';
import { type KindChange, type Merging, merged, type Stands, withListReplaced } from '@/core/readers/merging';
import type { Person } from '../auth/session';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { insertRows } from '../db/rows';
import { cancelWhatTheyLeft } from '../sending/silence';
import { lastAct, withQueued } from './acts';
import { thingsOf } from './things';

/*
 * Changes of what readers are kept by, that are shown before they happen: one list that goes into another, and a field that becomes one of another kind.
 */

const standsSql = (alias: string): RawBuilder<unknown> =>
  sql`case when ${sql.ref(`${alias}.state`)} = 'left' and ${lastAct(sql.ref(alias))} = 'take off' then 'taken off' else ${sql.ref(`${alias}.state`)} end`;

async function twoLists(db: Db, newsletter: Newsletter, from: string, into: string) {
  const lists = await db
    .selectFrom('lists')
    .select(['id', 'name', 'archived_at'])
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  const [a, b] = [from, into].map((id) => lists.find((list) => list.id === id));
  if (!a || !b) throw new Fault('not-found', 'One of the lists is not there any more.');
  if (a.id === b.id) throw new Fault('invalid', 'A list cannot go into itself.', { into: 'Choose another one.' });
  if (b.archived_at) throw new Fault('conflict', `“${b.name}” is put away. Take it out again first.`);
  return { from: a, into: b };
}

/** What would become of everybody, were one list to go into another. Changes nothing. */
export async function mergingOf(ctx: Context, newsletter: Newsletter, from: string, into: string): Promise<Merging> {
  const lists = await twoLists(ctx.db, newsletter, from, into);
  const { rows } = await sql<{ from: Stands; into: Stands; n: number }>`
    select ${standsSql('a')} as "from", ${standsSql('b')} as "into", count(*)::int as n
    from memberships a left join memberships b on b.reader_id = a.reader_id and b.list_id = ${into}::uuid where a.list_id = ${from}::uuid group by 1, 2 order by 3 desc`.execute(
    ctx.db,
  );
  return {
    from: lists.from.name,
    into: lists.into.name,
    people: rows.map((row) => ({ ...row, become: merged(row.from, row.into) })),
  };
}

/**
 * Lets one list go into another, with everybody on it and everything that names it: forms, auto-sends, segments, letters that have not left. What becomes of
 * whom is `merged`; each entry in the record of consent says which list they came from.
 */
export async function mergeLists(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  from: string,
  raw: unknown,
): Promise<void> {
  const { into } = check(Joi.object<{ into: string }>({ into: Joi.string().uuid().required().label('List') }), raw);
  await inTransaction(ctx.db, async (trx) => {
    const lists = await twoLists(trx, newsletter, from, into);
    await sql`select id from lists where id in (${from}, ${into}) order by id for update`.execute(trx);
    const now = ctx.clock.now();
    await sql`
      create temporary table merging on commit drop as
      select a.reader_id, a.since, a.joined_at, ${standsSql('a')} as was, ${standsSql('b')} as there, b.state as before
      from memberships a left join memberships b on b.reader_id = a.reader_id and b.list_id = ${into}::uuid where a.list_id = ${from}::uuid`.execute(
      trx,
    );
    // The same rule as in core, which is held against this by a test.
    const then = sql`case when there = 'left' then 'left' when 'reading' in (was, coalesce(there, '')) then 'reading' when 'waiting' in (was, coalesce(there, '')) then 'waiting' else 'left' end`;
    const { rows: moved } = await sql<{ reader_id: string; state: string }>`
      insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
      select reader_id, ${into}::uuid, ${newsletter.id}::uuid, ${then}, ${now}::timestamptz, joined_at from merging where before is distinct from ${then} and not (was = 'taken off' and there is null) order by reader_id
      on conflict (reader_id, list_id) do update set state = excluded.state, since = excluded.since, joined_at = coalesce(memberships.joined_at, excluded.joined_at)
      returning reader_id, state`.execute(trx);
    await sql`
      insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor, actor_name, wording)
      select ${newsletter.id}::uuid, t.id, ${into}::uuid, ${lists.into.name}, 'add', t.state, ${now}::timestamptz, 'member', ${person.name}, ${`“${lists.from.name}” went into “${lists.into.name}”`}
      from unnest(${moved.map((row) => row.reader_id)}::uuid[], ${moved.map((row) => row.state)}::text[]) as t(id, state) where t.state <> 'left' order by t.id`.execute(
      trx,
    );
    // Who left only the one that goes is remembered as having left the other: the act is theirs, and keeps its moment.
    await sql`
      insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor, wording)
      select ${newsletter.id}::uuid, m.reader_id, ${into}::uuid, ${lists.into.name}, 'leave', 'left', m.since, 'reader', ${`Left “${lists.from.name}”, which went into “${lists.into.name}”`}
      from merging m where m.was = 'left' and m.before is null order by m.reader_id`.execute(trx);
    await sql`delete from memberships where list_id = ${from}`.execute(trx);
    await rename(trx, newsletter.id, from, into);
    await trx.deleteFrom('lists').where('id', '=', from).execute();
    for (const id of await withQueued(
      trx,
      moved.map((row) => row.reader_id),
    ))
      await cancelWhatTheyLeft(ctx, trx, id);
  });
}

/** Puts one list's id in the place of another's, wherever it is named. */
async function rename(db: Db, newsletterId: string, from: string, into: string): Promise<void> {
  const text = (column: string) => sql`replace(${sql.ref(column)}::text, ${from}, ${into})::jsonb`;
  const once = (column: string) =>
    sql`array(select distinct unnest(array_replace(${sql.ref(column)}, ${from}::uuid, ${into}::uuid)))`;
  const choice = (column: RawBuilder<unknown>) =>
    sql`case when jsonb_typeof(${column}->'listChoice') = 'array' then jsonb_set(${column}, '{listChoice}', (select coalesce(jsonb_agg(distinct c), '[]') from jsonb_array_elements(${column}->'listChoice') c)) else ${column} end`;
  await sql`
    update forms set definition = ${choice(text('definition'))}, list_ids = ${once('list_ids')}, draft = case when draft is not null then ${choice(text('draft'))} end,
      draft_list_ids = case when draft_list_ids is not null then ${once('draft_list_ids')} end
    where newsletter_id = ${newsletterId} and (${from}::uuid = any(list_ids) or ${from}::uuid = any(draft_list_ids) or definition::text like ${`%${from}%`} or draft::text like ${`%${from}%`})`.execute(
    db,
  );
  await sql`update form_versions v set definition = ${choice(text('v.definition'))}, list_ids = ${once('v.list_ids')} from forms f where f.id = v.form_id and f.newsletter_id = ${newsletterId}`.execute(
    db,
  );
  await sql`update form_tests v set definition = ${choice(text('v.definition'))} from forms f where f.id = v.form_id and f.newsletter_id = ${newsletterId}`.execute(
    db,
  );
  await sql`update confirmations set list_ids = ${once('list_ids')} where newsletter_id = ${newsletterId} and used_at is null and ${from}::uuid = any(list_ids)`.execute(
    db,
  );
  for (const segment of await db
    .selectFrom('segments')
    .select(['id', 'condition'])
    .where('newsletter_id', '=', newsletterId)
    .execute())
    await db
      .updateTable('segments')
      .set({ condition: JSON.stringify(withListReplaced(segment.condition, from, into)) })
      .where('id', '=', segment.id)
      .execute();
  for (const rule of await db
    .selectFrom('auto_sends')
    .select(['id', 'audience'])
    .where('newsletter_id', '=', newsletterId)
    .execute())
    await db
      .updateTable('auto_sends')
      .set({ audience: JSON.stringify(withListReplaced(rule.audience, from, into)) })
      .where('id', '=', rule.id)
      .execute();
  const letters = await db
    .selectFrom('letters')
    .select(['id', 'audience'])
    .where('newsletter_id', '=', newsletterId)
    .where('state', 'in', ['draft', 'scheduled', 'held', 'starting', 'sending', 'paused'])
    .execute();
  for (const letter of letters)
    await db
      .updateTable('letters')
      .set({ audience: JSON.stringify(withListReplaced(letter.audience, from, into)) })
      .where('id', '=', letter.id)
      .execute();
  await sql`update imports set plan = replace(plan::text, ${from}, ${into})::jsonb where newsletter_id = ${newsletterId} and plan is not null`.execute(
    db,
  );
}

const MOST_OPTIONS = 40;
const BATCH = 2_000;
const EXAMPLES = 5;
const asText = (value: Answer): string =>
  Array.isArray(value) ? value.join('; ') : value === true ? 'yes' : value === false ? 'no' : String(value ?? '');

/** Every answer of a field with what it becomes, some at a time. */
async function* converted(
  db: Db,
  field: { id: string; key: string; label: string; options: string[] },
  to: FieldKind,
  options: string[],
) {
  const as = { ...field, kind: to, options };
  for (let after = '00000000-0000-0000-0000-000000000000'; ; ) {
    const rows = await db
      .selectFrom('reader_answers')
      .select(['reader_id', 'value'])
      .where('field_id', '=', field.id)
      .where('reader_id', '>', after)
      .orderBy('reader_id')
      .limit(BATCH)
      .execute();
    if (rows.length === 0) return;
    yield rows.map((row) => ({
      id: row.reader_id,
      text: asText(row.value),
      value: readField(as, asText(row.value), 'day first'),
    }));
    after = rows.at(-1)!.reader_id;
  }
}

async function fieldOf(db: Db, newsletter: Newsletter, id: string) {
  const field = await db
    .selectFrom('fields')
    .selectAll()
    .where('id', '=', id)
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirst();
  if (!field) throw new Fault('not-found', 'There is no such field any more.');
  return field;
}

/** Choices are what was answered, the most frequent first. */
async function optionsOf(db: Db, field: { id: string; options: string[] }, to: FieldKind): Promise<string[]> {
  if (!to.includes('choice')) return [];
  if (field.options.length) return field.options;
  const { rows } = await sql<{ said: string }>`
    select said from (select case jsonb_typeof(value) when 'boolean' then case when value = 'true' then 'yes' else 'no' end else value #>> '{}' end as said from reader_answers where field_id = ${field.id}) a
    where length(said) between 1 and 80 group by 1 order by count(*) desc, 1 limit ${MOST_OPTIONS}`.execute(db);
  return rows.map((row) => row.said);
}

/** What a change of kind would do. Changes nothing. Throws "not-found" and "conflict", saying what asks for it by its kind. */
export async function kindChange(ctx: Context, newsletter: Newsletter, id: string, to: string): Promise<KindChange> {
  return looked(ctx.db, newsletter, id, check(kindSchema, to));
}
const kindSchema = Joi.string<FieldKind>()
  .valid(...FIELD_KINDS)
  .required();

async function looked(db: Db, newsletter: Newsletter, id: string, to: FieldKind): Promise<KindChange> {
  const field = await fieldOf(db, newsletter, id);
  const options = await optionsOf(db, field, to);
  let [fits, lost] = [0, 0];
  const examples = new Set<string>();
  for await (const batch of converted(db, field, to, options))
    for (const one of batch) {
      if (one.value !== undefined) fits += 1;
      else {
        lost += 1;
        if (examples.size < EXAMPLES) examples.add(one.text.slice(0, 80));
      }
    }
  return { label: field.label, from: field.kind, to, fits, lost, examples: [...examples], options };
}

/**
 * Makes a field one of another kind, with its answers and the questions of forms that ask for it; answers that do not fit go. Their number has to be typed
 * where there are any. Throws "invalid" for another number, and "conflict" while a segment or letter asks for it by its kind.
 */
export async function changeKind(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const { kind, typed } = check(
    Joi.object<{ kind: FieldKind; typed: string }>({ kind: kindSchema, typed: Joi.string().trim().allow('').default('') }),
    raw,
  );
  const needed =
    (await thingsOf(ctx, newsletter)).fields
      .find((field) => field.id === id)
      ?.neededBy.filter((name) => !name.startsWith('the form ')) ?? [];
  if (needed.length) throw new Fault('conflict', `It is asked for by its kind in ${needed.join(', ')}. Change that first.`);
  await inTransaction(ctx.db, async (trx) => {
    await sql`select id from fields where id = ${id} for update`.execute(trx);
    const { lost, options } = await looked(trx, newsletter, id, kind);
    if (lost > 0 && typed !== String(lost))
      throw new Fault('invalid', `Type ${lost}, the number of answers that go. Nothing was changed.`, {
        typed: 'Another number.',
      });
    const field = await fieldOf(trx, newsletter, id);
    if (kind.includes('choice') && options.length < 2)
      throw new Fault('invalid', 'A choice needs at least two different answers to choose from.');
    const now = ctx.clock.now();
    for await (const batch of converted(trx, field, kind, options)) {
      const gone = batch.filter((one) => one.value === undefined).map((one) => one.id);
      if (gone.length)
        await sql`delete from reader_answers where field_id = ${id} and reader_id = any(${gone}::uuid[])`.execute(trx);
      const rows = batch.flatMap(({ id: reader_id, value }) =>
        value === undefined
          ? []
          : [{ reader_id, field_id: id, value, folded: typeof value === 'string' ? folded(value) : null, at: now }],
      );
      if (rows.length)
        await sql`${insertRows('reader_answers', ['reader_id', 'field_id', 'value', 'folded', 'at'], rows)}
          on conflict (reader_id, field_id) do update set value = excluded.value, folded = excluded.folded`.execute(trx);
    }
    await trx
      .updateTable('fields')
      .set({ kind, options: JSON.stringify(options) })
      .where('id', '=', id)
      .execute();
    const forms = await trx
      .selectFrom('forms')
      .select(['id', 'definition', 'draft'])
      .where('newsletter_id', '=', newsletter.id)
      .execute();
    const asked = (fields: FormField[]) =>
      fields.map((one) => (one.key === field.key && one.kind !== 'hidden' ? { ...one, kind, options } : one));
    for (const form of forms)
      await trx
        .updateTable('forms')
        .set({
          definition: JSON.stringify({ ...form.definition, fields: asked(form.definition.fields) }),
          ...(form.draft ? { draft: JSON.stringify({ ...form.draft, fields: asked(form.draft.fields) }) } : {}),
        })
        .where('id', '=', form.id)
        .execute();
  });
}

import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { FieldKind } from '@/core/forms/fields';
import type { ListWelcome } from '@/core/forms/mails';
import { counted } from '@/core/growth/figures';
import { tagSchema } from '@/core/readers/bulk';
import { leavesOf } from '@/core/readers/condition';
import { withTagRenamed } from '@/core/readers/renaming';
import type { Audience, Part } from '@/core/sending/audience';
import { chipsOfLine } from '@/core/writing/line';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { newId } from '../ids';

/*
 * Lists, tags and fields: what readers are kept by. None is let go of while a form, a rule, a letter that has not left, or a segment needs it, and it is
 * said which.
 */

export type ListView = {
  id: string;
  name: string;
  publicName: string;
  description: string;
  public: boolean;
  doubleOptIn: boolean;
  welcome: ListWelcome | null;
  archived: boolean;
  reading: number;
  waiting: number;
  neededBy: string[];
};
/** `people`: who bears it, reading or not. */
export type TagView = { name: string; reading: number; people: number; neededBy: string[] };
export type FieldView = { id: string; label: string; kind: FieldKind; answers: number; neededBy: string[] };

/** Everything of a newsletter in which something may be named: each with how it is called, and its text. */
async function namersOf(db: Db, newsletterId: string) {
  const [forms, rules, letters, segments] = await Promise.all([
    sql<{ name: string; lists: string[]; tags: string[]; text: string }>`
      select name, list_ids || coalesce(draft_list_ids, '{}') as lists, definition::text || coalesce(draft::text, '') as text,
        array(select jsonb_array_elements_text(coalesce(definition #> '{next,tags}', '[]') || coalesce(draft #> '{next,tags}', '[]'))) as tags from forms
      where newsletter_id = ${newsletterId} and archived_at is null order by name`.execute(db),
    db
      .selectFrom('auto_sends')
      .select(['id', 'name', 'audience', 'settings'])
      .where('newsletter_id', '=', newsletterId)
      .execute(),
    db
      .selectFrom('letters')
      .select(['id', 'audience', 'subject'])
      .select(
        sql<
          string[]
        >`array(select distinct c->>'field' from posts p, jsonb_path_query(p.document, '$.**[*] ? (@.kind == "chip")') c where p.id = letters.post_id)`.as(
          'chips',
        ),
      )
      // All that is read before a letter is opened, chips and all.
      .select(
        sql<
          string[]
        >`array[subject, preview_line] || array(select v.subject from letter_versions v where v.letter_id = letters.id)`.as(
          'lines',
        ),
      )
      .where('newsletter_id', '=', newsletterId)
      .where('state', 'in', ['draft', 'scheduled', 'held', 'starting', 'sending', 'paused'])
      .execute(),
    db.selectFrom('segments').select(['id', 'name', 'condition']).where('newsletter_id', '=', newsletterId).execute(),
  ]);
  return { forms: forms.rows, rules, letters, segments };
}
type Namers = Awaited<ReturnType<typeof namersOf>>;

const partsOf = (letter: { audience: Audience }): Part[] => [...letter.audience.to, ...letter.audience.without];
const hasTag = (letter: { audience: Audience }, tag: string): boolean =>
  partsOf(letter).some(
    (part) =>
      (part.kind === 'tag' && part.tag === tag) ||
      (part.kind === 'those' && leavesOf(part.condition).some((leaf) => leaf.kind === 'tag' && leaf.tag === tag)),
  );
const asks = (lines: string[], key: string): boolean =>
  lines.some((line) => chipsOfLine(line).some(({ field }) => field === key));
const asForm = (name: string) => `the form “${name}”`;
const asLetter = (subject: string) => `the letter “${subject}”`;
const asRule = (name: string) => `the auto-send “${name}”`;
const asSegment = (name: string) => `the segment “${name}”`;

const needing = {
  list: ({ forms, rules, letters, segments }: Namers, id: string): string[] => [
    ...forms.filter((form) => form.lists.includes(id) || form.text.includes(id)).map((form) => asForm(form.name)),
    ...rules.filter((rule) => JSON.stringify(rule.audience).includes(id)).map((rule) => asRule(rule.name)),
    ...letters.filter((letter) => JSON.stringify(letter.audience).includes(id)).map((letter) => asLetter(letter.subject)),
    ...segments
      .filter((segment) => leavesOf(segment.condition).some((leaf) => leaf.kind === 'list' && leaf.id === id))
      .map((segment) => asSegment(segment.name)),
  ],
  tag: ({ forms, rules, letters, segments }: Namers, tag: string): string[] => [
    ...forms.filter((form) => form.tags.includes(tag)).map((form) => asForm(form.name)),
    ...rules.filter((rule) => hasTag(rule, tag)).map((rule) => asRule(rule.name)),
    ...letters.filter((letter) => hasTag(letter, tag)).map((letter) => asLetter(letter.subject)),
    ...segments
      .filter((segment) => leavesOf(segment.condition).some((leaf) => leaf.kind === 'tag' && leaf.tag === tag))
      .map((segment) => asSegment(segment.name)),
  ],
  field: ({ forms, rules, letters, segments }: Namers, field: { id: string; key: string }): string[] => [
    ...forms.filter((form) => form.text.includes(`"key": "${field.key}"`)).map((form) => asForm(form.name)),
    ...rules
      .filter((rule) => JSON.stringify(rule.audience).includes(field.id) || asks([rule.settings.subject], field.key))
      .map((rule) => asRule(rule.name)),
    ...letters
      .filter(
        (letter) =>
          JSON.stringify(letter.audience).includes(field.id) || letter.chips.includes(field.key) || asks(letter.lines, field.key),
      )
      .map((letter) => asLetter(letter.subject)),
    ...segments
      .filter((segment) => leavesOf(segment.condition).some((leaf) => leaf.kind === 'field' && leaf.id === field.id))
      .map((segment) => asSegment(segment.name)),
  ],
};

/** A newsletter's lists, tags and fields, with how many people each holds and what needs it. */
export async function thingsOf(
  ctx: Context,
  newsletter: Newsletter,
): Promise<{ lists: ListView[]; tags: TagView[]; fields: FieldView[] }> {
  const [namers, lists, tags, fields] = await Promise.all([
    namersOf(ctx.db, newsletter.id),
    ctx.db
      .selectFrom('lists as l')
      .leftJoin('people_totals as t', (join) =>
        join.onRef('t.newsletter_id', '=', 'l.newsletter_id').on('t.kind', '=', 'list').on(sql<boolean>`t.key = l.id::text`),
      )
      .selectAll('l')
      .select(['t.reading', 't.waiting'])
      .where('l.newsletter_id', '=', newsletter.id)
      .orderBy('l.position')
      .orderBy('l.created_at')
      .execute(),
    sql<{ name: string; reading: number; people: number }>`
      select g.name, coalesce(t.reading, 0) as reading, coalesce(t.reading + t.waiting + t.left_count + t.unreachable, 0) as people from tags g
      left join people_totals t on t.newsletter_id = g.newsletter_id and t.kind = 'tag' and t.key = g.name
      where g.newsletter_id = ${newsletter.id} order by lower(g.name)`.execute(ctx.db),
    sql<{ id: string; key: string; label: string; kind: FieldKind; answers: number }>`
      select f.id, f.key, f.label, f.kind, (select count(*)::int from reader_answers a where a.field_id = f.id) as answers from fields f
      where f.newsletter_id = ${newsletter.id} order by f.created_at`.execute(ctx.db),
  ]);
  return {
    lists: lists.map((row) => ({
      id: row.id,
      name: row.name,
      publicName: row.public_name,
      description: row.description,
      public: row.public,
      doubleOptIn: row.double_opt_in,
      welcome: row.welcome,
      archived: row.archived_at !== null,
      reading: row.reading ?? 0,
      waiting: row.waiting ?? 0,
      neededBy: needing.list(namers, row.id),
    })),
    tags: tags.rows.map((row) => ({ ...row, neededBy: needing.tag(namers, row.name) })),
    fields: fields.rows.map(({ key, ...row }) => ({ ...row, neededBy: needing.field(namers, { id: row.id, key }) })),
  };
}

const line = (most: number) =>
  Joi.string()
    .trim()
    .max(most)
    .pattern(/[\u0000-\u001f]/, { invert: true });
type ListInput = {
  name: string;
  publicName: string;
  description: string;
  public: boolean;
  doubleOptIn: boolean;
  welcome: boolean;
  welcomeSubject: string;
  welcomeWords: string;
};
const listSchema = Joi.object<ListInput>({
  name: line(80).required().label('Name'),
  publicName: line(80).allow('').default('').label('Name for readers'),
  description: line(200).allow('').default('').label('Description'),
  public: Joi.boolean().truthy('yes').falsy('no').default(true),
  doubleOptIn: Joi.boolean().truthy('yes').falsy('no').default(true),
  welcome: Joi.boolean().truthy('yes').falsy('no').default(false),
  welcomeSubject: line(150).allow('').default('').label('Subject of the welcome letter'),
  welcomeWords: Joi.string().trim().max(2_000).allow('').default('').label('Words of the welcome letter'),
});

const MOST_LISTS = 100;

/** Makes a list, or changes one. Throws "conflict" for a name that another has. */
export async function keepList(ctx: Context, newsletter: Newsletter, id: string | null, raw: unknown): Promise<{ id: string }> {
  const value = check(listSchema, raw);
  const values = {
    name: value.name,
    public_name: value.publicName || value.name,
    description: value.description,
    public: value.public,
    double_opt_in: value.doubleOptIn,
    welcome: value.welcome ? JSON.stringify({ subject: value.welcomeSubject, words: value.welcomeWords }) : null,
  };
  return inTransaction(ctx.db, async (trx) => {
    const rows = await trx
      .selectFrom('lists')
      .select(['id', 'name', 'position'])
      .where('newsletter_id', '=', newsletter.id)
      .forUpdate()
      .execute();
    if (rows.some((row) => row.id !== id && row.name.toLowerCase() === value.name.toLowerCase()))
      throw new Fault('conflict', `There is a list “${value.name}” already.`, { name: 'Taken already.' });
    if (id) {
      if (!rows.some((row) => row.id === id)) throw new Fault('not-found', 'There is no such list any more.');
      await trx.updateTable('lists').set(values).where('id', '=', id).execute();
      return { id };
    }
    if (rows.length >= MOST_LISTS) throw new Fault('invalid', `At most ${MOST_LISTS} lists can be kept.`);
    const made = newId();
    const position = Math.max(-1, ...rows.map((row) => row.position)) + 1;
    await trx
      .insertInto('lists')
      .values({ id: made, newsletter_id: newsletter.id, position, created_at: ctx.clock.now(), ...values })
      .execute();
    return { id: made };
  });
}

/** Moves a list up or down in the order in which readers are offered them; at an end it stays. */
export async function moveList(ctx: Context, newsletter: Newsletter, id: string, way: 'up' | 'down'): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rows = await trx
      .selectFrom('lists')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .orderBy('position')
      .orderBy('created_at')
      .forUpdate()
      .execute();
    const ids = rows.map((row) => row.id);
    const at = ids.indexOf(id);
    const to = way === 'up' ? at - 1 : at + 1;
    if (at < 0 || to < 0 || to >= ids.length) return;
    ids.splice(to, 0, ...ids.splice(at, 1));
    for (const [position, one] of ids.entries()) await trx.updateTable('lists').set({ position }).where('id', '=', one).execute();
  });
}

/**
 * Puts a list away, so that nothing new can be done with it, or takes it out again; its people stay on it. Throws "conflict" while something needs it,
 * or where it is the last one.
 */
export async function archiveList(ctx: Context, newsletter: Newsletter, id: string, away: boolean): Promise<void> {
  const { list, others } = await own(ctx, newsletter, id);
  if (away) refuseNeeded(`“${list.name}”`, list.neededBy);
  if (away && others === 0) throw new Fault('conflict', 'A newsletter needs one list. Make another one first.');
  await ctx.db
    .updateTable('lists')
    .set({ archived_at: away ? ctx.clock.now() : null })
    .where('id', '=', id)
    .execute();
}

/** Lets go of a list that nothing needs and nobody reads or waits for; what people agreed to stays in their records. Throws "conflict" otherwise. */
export async function removeList(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const { list, others } = await own(ctx, newsletter, id);
  refuseNeeded(`“${list.name}”`, list.neededBy);
  if (others === 0) throw new Fault('conflict', 'A newsletter needs one list. Make another one first.');
  await inTransaction(ctx.db, async (trx) => {
    const { rows } = await sql<{
      n: number;
    }>`select count(*)::int as n from memberships where list_id = ${id} and state <> 'left'`.execute(trx);
    if (rows[0]!.n > 0)
      throw new Fault(
        'conflict',
        `${counted(rows[0]!.n, 'person is', 'people are')} on “${list.name}”. Take them off, or put the list away instead.`,
      );
    await trx.deleteFrom('lists').where('id', '=', id).execute();
  });
}

async function own(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
): Promise<{ list: { name: string; neededBy: string[] }; others: number }> {
  const [namers, lists] = await Promise.all([
    namersOf(ctx.db, newsletter.id),
    ctx.db.selectFrom('lists').select(['id', 'name', 'archived_at']).where('newsletter_id', '=', newsletter.id).execute(),
  ]);
  const list = lists.find((one) => one.id === id);
  if (!list) throw new Fault('not-found', 'There is no such list any more.');
  return {
    list: { name: list.name, neededBy: needing.list(namers, id) },
    others: lists.filter((one) => one.id !== id && one.archived_at === null).length,
  };
}

function refuseNeeded(what: string, by: string[]): void {
  if (by.length) throw new Fault('conflict', `${what} is needed by ${by.join(', ')}. Change that first.`);
}

/**
 * Gives a tag another name, wherever it is named: on readers, in forms, segments, and letters that have not left. Where the other name is there already, the
 * two become one. Throws "not-found".
 */
export async function renameTag(ctx: Context, newsletter: Newsletter, from: string, raw: unknown): Promise<void> {
  const to = check(tagSchema, raw);
  if (to === from) return;
  await inTransaction(ctx.db, async (trx) => {
    const of = newsletter.id;
    const gone = await trx
      .deleteFrom('tags')
      .where('newsletter_id', '=', of)
      .where('name', '=', from)
      .returning('name')
      .executeTakeFirst();
    if (!gone) throw new Fault('not-found', 'There is no such tag any more.');
    await sql`insert into tags (newsletter_id, name) values (${of}, ${to}) on conflict do nothing`.execute(trx);
    await sql`
      insert into reader_tags (reader_id, newsletter_id, tag, at) select reader_id, newsletter_id, ${to}, at from reader_tags
      where newsletter_id = ${of} and tag = ${from} order by reader_id on conflict do nothing`.execute(trx);
    await sql`delete from reader_tags where newsletter_id = ${of} and tag = ${from}`.execute(trx);
    const renamed = (column: string) => sql`case when ${sql.ref(column)} #> '{next,tags}' ? ${from} then
      jsonb_set(${sql.ref(column)}, '{next,tags}', (select coalesce(jsonb_agg(distinct case when t = ${from} then ${to}::text else t end), '[]') from jsonb_array_elements_text(${sql.ref(column)} #> '{next,tags}') t))
      else ${sql.ref(column)} end`;
    await sql`update forms set definition = ${renamed('definition')}, draft = ${renamed('draft')} where newsletter_id = ${of}`.execute(
      trx,
    );
    await sql`update form_versions v set definition = ${renamed('v.definition')} from forms f where f.id = v.form_id and f.newsletter_id = ${of}`.execute(
      trx,
    );
    await sql`update form_tests v set definition = ${renamed('v.definition')} from forms f where f.id = v.form_id and f.newsletter_id = ${of}`.execute(
      trx,
    );
    const { segments, letters, rules } = await namersOf(trx, of);
    for (const { id, condition } of segments)
      await trx
        .updateTable('segments')
        .set({ condition: JSON.stringify(withTagRenamed(condition, from, to)) })
        .where('id', '=', id)
        .execute();
    const part = (one: Part): Part =>
      one.kind === 'tag' && one.tag === from
        ? { ...one, tag: to }
        : one.kind === 'those'
          ? { ...one, condition: withTagRenamed(one.condition, from, to) }
          : one;
    const tagged = ({ to: whom, without }: Audience) => JSON.stringify({ to: whom.map(part), without: without.map(part) });
    for (const { id, audience } of letters)
      await trx
        .updateTable('letters')
        .set({ audience: tagged(audience) })
        .where('id', '=', id)
        .execute();
    for (const { id, audience } of rules)
      await trx
        .updateTable('auto_sends')
        .set({ audience: tagged(audience) })
        .where('id', '=', id)
        .execute();
  });
}

/** Lets go of a tag that nothing needs; the people who had it stay. Throws "conflict" saying what needs it. */
export async function removeTag(ctx: Context, newsletter: Newsletter, name: string): Promise<void> {
  refuseNeeded(`“${name}”`, needing.tag(await namersOf(ctx.db, newsletter.id), name));
  await inTransaction(ctx.db, async (trx) => {
    await trx.deleteFrom('reader_tags').where('newsletter_id', '=', newsletter.id).where('tag', '=', name).execute();
    await trx.deleteFrom('tags').where('newsletter_id', '=', newsletter.id).where('name', '=', name).execute();
  });
}

/** Calls a field something else; its answers, and how forms ask for it, stay. */
export async function renameField(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const label = check(line(80).required().label('Name'), raw);
  const row = await ctx.db
    .updateTable('fields')
    .set({ label })
    .where('id', '=', id)
    .where('newsletter_id', '=', newsletter.id)
    .returning('id')
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no such field any more.');
}

/** Deletes a field and all answers to it, once their number was typed. Throws "invalid" for another number, "conflict" while something needs it. */
export async function removeField(ctx: Context, newsletter: Newsletter, id: string, typed: unknown): Promise<void> {
  const field = (await thingsOf(ctx, newsletter)).fields.find((one) => one.id === id);
  if (!field) throw new Fault('not-found', 'There is no such field any more.');
  refuseNeeded(`“${field.label}”`, field.neededBy);
  if (String(typed ?? '').trim() !== String(field.answers))
    throw new Fault('invalid', `Type ${field.answers}, the number of answers that go with it. Nothing was deleted.`, {
      typed: 'Another number.',
    });
  await ctx.db.deleteFrom('fields').where('id', '=', id).where('newsletter_id', '=', newsletter.id).execute();
}

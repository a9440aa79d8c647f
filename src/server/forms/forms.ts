import { randomBytes } from 'node:crypto';
import Joi from 'joi';
import { type Selectable, sql } from 'kysely';
import { Fault } from '@/core/faults';
import { type FormDefinition, formDefinitionSchema, startingForm } from '@/core/forms/definition';
import { effectiveLook, LOOKS } from '@/core/forms/look';
import { type FormSteps, NO_STEPS } from '@/core/growth/measures';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import type { Schema } from '../db/schema';
import { newId } from '../ids';
import { keepFields } from './fields';

export type FormView = {
  id: string;
  publicId: string;
  name: string;
  /** What visitors see now. */
  definition: FormDefinition;
  listIds: string[];
  /** What is being written, where it differs. */
  draft: { definition: FormDefinition; listIds: string[]; savedAt: Date } | null;
  version: number;
  hosted: boolean;
  archivedAt: Date | null;
  updatedAt: Date;
};
/** What the public side needs of a form in one query. */
export type PublicForm = FormView & {
  newsletter: {
    id: string;
    name: string;
    slug: string;
    colour: string;
    time_zone: string;
    postal_address: string;
    language: string;
  };
  lists: { id: string; name: string }[];
  /** The other version of a running test. */
  test: FormDefinition | null;
  /** Changes with every change of the form, its newsletter or its test. */
  mark: string;
};

const nameSchema = Joi.string().trim().max(80).required().label('Name');
const inputSchema = Joi.object<{ name: string; listIds: string[]; definition: FormDefinition }>({
  name: nameSchema,
  listIds: Joi.array()
    .items(Joi.string().uuid())
    .min(1)
    .required()
    .label('List')
    .messages({ 'array.min': 'A form needs at least one list.' }),
  definition: formDefinitionSchema.required(),
});

/** A form's name in public addresses: 12 letters and digits, not to be guessed from its neighbours. */
const newPublicId = () => randomBytes(6).toString('hex');

/** A stored definition with starting values for parts that were added since it was written. */
export const complete = (stored: unknown): FormDefinition =>
  formDefinitionSchema.validate(stored, { stripUnknown: true }).value as FormDefinition;

type NewForm = {
  db: Db;
  newsletterId: string;
  name: string;
  definition: FormDefinition;
  listIds: string[];
  hosted?: boolean;
  at: Date;
};

/** Puts a form and its first version in place, in the caller's transaction. */
export async function insertForm({ db, newsletterId, name, definition, listIds, hosted = false, at }: NewForm): Promise<string> {
  const id = newId();
  await db
    .insertInto('forms')
    .values({
      id,
      newsletter_id: newsletterId,
      public_id: newPublicId(),
      name,
      definition: JSON.stringify(definition),
      list_ids: listIds,
      hosted,
      created_at: at,
      updated_at: at,
    })
    .execute();
  await db
    .insertInto('form_versions')
    .values({ form_id: id, version: 1, definition: JSON.stringify(definition), list_ids: listIds, published_at: at })
    .execute();
  return id;
}

/** A new form that asks for the address only and gives the newsletter's first list; with one of the starting looks if wished. */
export async function createForm(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const { name, look } = check(
    Joi.object<{ name: string; look?: string }>({ name: nameSchema, look: Joi.string().valid(...Object.keys(LOOKS)) }),
    raw,
  );
  const list = await ctx.db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('position')
    .orderBy('created_at')
    .executeTakeFirstOrThrow();
  const start = startingForm(newsletter.name, newsletter.language);
  const definition = look ? { ...start, look: { ...start.look, ...LOOKS[look] } } : start;
  const id = await ctx.db
    .transaction()
    .execute((db) => insertForm({ db, newsletterId: newsletter.id, name, definition, listIds: [list.id], at: ctx.clock.now() }));
  return { id };
}

async function checkInput(ctx: Context, newsletter: Newsletter, raw: unknown) {
  const value = check(inputSchema, raw);
  const wanted = new Set([...value.listIds, ...value.definition.listChoice]);
  const own = await ctx.db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', 'in', [...wanted])
    .execute();
  if (own.length !== wanted.size)
    throw new Fault('invalid', 'One of these lists is gone. Choose again; nothing was changed.', { listIds: 'Choose again.' });
  return value;
}

const ofNewsletter = (db: Db, newsletter: Newsletter, id: string) =>
  db.selectFrom('forms').selectAll().where('newsletter_id', '=', newsletter.id).where('id', '=', id);

/** Saves what is being written. Pages that carry the form go on showing what was published. The name is for the writer alone and holds at once. */
export async function saveDraft(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<{ savedAt: Date }> {
  const value = await checkInput(ctx, newsletter, raw);
  const savedAt = ctx.clock.now();
  const result = await ctx.db
    .updateTable('forms')
    .set({ name: value.name, draft: JSON.stringify(value.definition), draft_list_ids: value.listIds, draft_saved_at: savedAt })
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n) throw new Fault('not-found', 'This form is gone.');
  return { savedAt };
}

/** Makes the draft what visitors see, as a new version; its new questions become fields of the newsletter. */
export async function publishForm(ctx: Context, newsletter: Newsletter, id: string): Promise<{ version: number }> {
  return ctx.db.transaction().execute(async (trx) => {
    const row = await ofNewsletter(trx, newsletter, id).forUpdate().executeTakeFirst();
    if (!row) throw new Fault('not-found', 'This form is gone.');
    if (!row.draft) return { version: row.version };
    // Checked once more: a list may have gone since it was saved.
    const value = await checkInput({ ...ctx, db: trx }, newsletter, {
      name: row.name,
      listIds: row.draft_list_ids,
      definition: row.draft,
    });
    return putVersion(ctx, trx, newsletter, row, value.definition, value.listIds);
  });
}

async function putVersion(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  row: { id: string; version: number },
  definition: FormDefinition,
  listIds: string[],
): Promise<{ version: number }> {
  const now = ctx.clock.now();
  await keepFields(ctx, db, newsletter, definition.fields);
  const version = row.version + 1;
  await db
    .insertInto('form_versions')
    .values({ form_id: row.id, version, definition: JSON.stringify(definition), list_ids: listIds, published_at: now })
    .execute();
  await db
    .updateTable('forms')
    .set({
      definition: JSON.stringify(definition),
      list_ids: listIds,
      version,
      updated_at: now,
      draft: null,
      draft_list_ids: null,
      draft_saved_at: null,
    })
    .where('id', '=', row.id)
    .execute();
  return { version };
}

/** Throws the draft away. */
export async function dropDraft(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await ctx.db
    .updateTable('forms')
    .set({ draft: null, draft_list_ids: null, draft_saved_at: null })
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .execute();
}

export type VersionView = { version: number; publishedAt: Date; heading: string };

/** A form's versions, newest first. */
export async function versionsOf(ctx: Context, newsletter: Newsletter, id: string): Promise<VersionView[]> {
  const rows = await ctx.db
    .selectFrom('form_versions as v')
    .innerJoin('forms as f', 'f.id', 'v.form_id')
    .select(['v.version', 'v.published_at', 'v.definition'])
    .where('f.newsletter_id', '=', newsletter.id)
    .where('f.id', '=', id)
    .orderBy('v.version', 'desc')
    .limit(50)
    .execute();
  return rows.map((row) => ({ version: row.version, publishedAt: row.published_at, heading: row.definition.heading }));
}

/** Brings an older version back as the draft, so that it can be looked at before it goes live. */
export async function restoreVersion(ctx: Context, newsletter: Newsletter, id: string, version: number): Promise<void> {
  const form = await ofNewsletter(ctx.db, newsletter, id).executeTakeFirst();
  const old =
    form &&
    (await ctx.db
      .selectFrom('form_versions')
      .select(['definition', 'list_ids'])
      .where('form_id', '=', form.id)
      .where('version', '=', version)
      .executeTakeFirst());
  if (!form || !old) throw new Fault('not-found', 'There is no such version.');
  await ctx.db
    .updateTable('forms')
    .set({ draft: JSON.stringify(old.definition), draft_list_ids: old.list_ids, draft_saved_at: ctx.clock.now() })
    .where('id', '=', form.id)
    .execute();
}

/** A copy under another name, with its own address and its own counts. */
export async function duplicateForm(ctx: Context, newsletter: Newsletter, id: string): Promise<{ id: string }> {
  const form = await formOf(ctx, newsletter, id);
  const { definition, listIds } = form.draft ?? form;
  const copy = await ctx.db.transaction().execute((db) =>
    insertForm({
      db,
      newsletterId: newsletter.id,
      name: `${form.name.slice(0, 70)}, copy`,
      definition,
      listIds,
      at: ctx.clock.now(),
    }),
  );
  return { id: copy };
}

/** Takes a form out of use, or brings it back. Pages that still carry it show nothing, and a post to it says that it is closed. */
export async function archiveForm(ctx: Context, newsletter: Newsletter, id: string, away: boolean): Promise<void> {
  const form = await formOf(ctx, newsletter, id);
  if (form.hosted && away)
    throw new Fault('conflict', 'This form is your sign-up page. It stays as long as the newsletter does.');
  await ctx.db
    .updateTable('forms')
    .set({ archived_at: away ? ctx.clock.now() : null })
    .where('id', '=', form.id)
    .execute();
}

/** A newsletter's forms with what they brought since they were made (`core/growth/measures`), oldest first; archived ones last. */
export async function formsOf(ctx: Context, newsletter: Newsletter): Promise<(FormView & FormSteps)[]> {
  const [rows, visits, people] = await Promise.all([
    ctx.db
      .selectFrom('forms')
      .selectAll()
      .where('newsletter_id', '=', newsletter.id)
      .orderBy(sql`archived_at is not null`)
      .orderBy('created_at')
      .execute(),
    sql<{ id: string; loaded: number; seen: number; started: number }>`
      select form_id as id, sum(loaded)::int as loaded, sum(seen)::int as seen, sum(started)::int as started from form_days
      where newsletter_id = ${newsletter.id} group by 1`.execute(ctx.db),
    sql<{ id: string; asked: number; confirmed: number; reading: number }>`
      select name as id, sum(asked)::int as asked, sum(confirmed)::int as confirmed, sum(reading)::int as reading from (
        select name, asked, confirmed, reading from source_months where newsletter_id = ${newsletter.id} and dimension = 'form'
        union all select name, asked, confirmed, reading from source_changes where newsletter_id = ${newsletter.id} and dimension = 'form') p group by 1`.execute(
      ctx.db,
    ),
  ]);
  const seen = new Map(visits.rows.map(({ id, ...counts }) => [id, counts]));
  const came = new Map(people.rows.map(({ id, ...counts }) => [id, counts]));
  return rows.map((row) => ({ ...view(row), ...NO_STEPS, ...seen.get(row.id), ...came.get(row.id) }));
}

/** One form of a newsletter. */
export async function formOf(ctx: Context, newsletter: Newsletter, id: string): Promise<FormView> {
  const row = await ofNewsletter(ctx.db, newsletter, id).executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This form is gone.');
  return view(row);
}

/** PostgreSQL gives a row another xmin whenever it is written. */
const MARK = sql<string>`concat(forms.xmin, ' ', n.xmin, ' ', t.xmin)`;

/** The marks that these forms have now, by their ids: cheaper than reading them again. */
export async function marksOf(db: Db, formIds: string[]): Promise<Map<string, string>> {
  const rows = await db
    .selectFrom('forms')
    .innerJoin('newsletters as n', 'n.id', 'forms.newsletter_id')
    .leftJoin('form_tests as t', (join) => join.onRef('t.form_id', '=', 'forms.id').on('t.ended_at', 'is', null))
    .select(['forms.id', MARK.as('mark')])
    .where(sql<boolean>`forms.id = any(${[...new Set(formIds)]}::uuid[])`)
    .execute();
  return new Map(rows.map((row) => [row.id, row.mark]));
}

/** Forms by their public names, in that order, with what of their newsletters a visitor may see; null for unknown ones. The look has the newsletter's colour in it. */
export async function publicForms(ctx: Pick<Context, 'db'>, publicIds: string[]): Promise<(PublicForm | null)[]> {
  const rows = await ctx.db
    .selectFrom('forms')
    .innerJoin('newsletters as n', 'n.id', 'forms.newsletter_id')
    .leftJoin('form_tests as t', (join) => join.onRef('t.form_id', '=', 'forms.id').on('t.ended_at', 'is', null))
    .selectAll('forms')
    .select(['n.closing_at', 'n.name as n_name', 'n.slug', 'n.colour', 'n.time_zone', 'n.postal_address', 'n.language'])
    .select(['t.id as test_id', 't.definition as test', MARK.as('mark')])
    .select(
      sql<
        { id: string; name: string }[]
      >`(select coalesce(json_agg(json_build_object('id', l.id, 'name', l.public_name) order by l.position, l.created_at), '[]') from lists l where l.newsletter_id = forms.newsletter_id)`.as(
        'lists',
      ),
    )
    .where(sql<boolean>`public_id = any(${[...new Set(publicIds)]}::text[])`)
    .execute();
  const found = new Map(
    rows.map((row) => {
      const { newsletter_id: id, n_name: name, slug, colour, time_zone, postal_address, language } = row;
      const shown = (definition: FormDefinition) => ({ ...definition, look: effectiveLook(definition.look, colour) });
      const form = view(row);
      const publicForm: PublicForm = {
        ...form,
        // A newsletter that is to be deleted takes nobody in.
        archivedAt: form.archivedAt ?? row.closing_at,
        definition: shown(form.definition),
        newsletter: { id, name, slug, colour, time_zone, postal_address, language },
        lists: row.lists.filter((list) => form.definition.listChoice.includes(list.id)),
        test: row.test ? shown(completeOnce(row.test_id!, row.test)) : null,
        mark: row.mark,
      };
      return [row.public_id, publicForm];
    }),
  );
  return publicIds.map((id) => found.get(id) ?? null);
}

/** One form by its public name, or null (see `publicForms`). */
export const publicForm = async (ctx: Pick<Context, 'db'>, publicId: string): Promise<PublicForm | null> =>
  (await publicForms(ctx, [publicId]))[0]!;

/** A newsletter's form by its id, as visitors see it; null where it is gone. */
export async function publicFormById(ctx: Context, newsletter: Pick<Newsletter, 'id'>, id: string): Promise<PublicForm | null> {
  const row = await ctx.db
    .selectFrom('forms')
    .select('public_id')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  const form = row ? await publicForm(ctx, row.public_id) : null;
  return form?.archivedAt ? null : form;
}

/** The form of a newsletter's own sign-up page. */
export async function hostedForm(ctx: Context, newsletter: Newsletter): Promise<PublicForm | null> {
  const row = await ctx.db
    .selectFrom('forms')
    .select('public_id')
    .where('newsletter_id', '=', newsletter.id)
    .where('hosted', '=', true)
    .executeTakeFirst();
  return row ? publicForm(ctx, row.public_id) : null;
}

/** Versions and tests never change once they are published, so each is checked once a process and not once a visitor. */
const definitions = new Map<string, FormDefinition>();
function completeOnce(key: string, stored: unknown): FormDefinition {
  const known = definitions.get(key);
  if (known) return known;
  if (definitions.size > 5_000) definitions.clear();
  const definition = complete(stored);
  definitions.set(key, definition);
  return definition;
}

function view(row: Selectable<Schema['forms']>): FormView {
  return {
    id: row.id,
    publicId: row.public_id,
    name: row.name,
    definition: completeOnce(`${row.id}.${row.version}`, row.definition),
    listIds: row.list_ids,
    draft: row.draft && {
      definition: complete(row.draft),
      listIds: row.draft_list_ids ?? row.list_ids,
      savedAt: row.draft_saved_at ?? row.updated_at,
    },
    version: row.version,
    hosted: row.hosted,
    archivedAt: row.archived_at,
    updatedAt: row.updated_at,
  };
}

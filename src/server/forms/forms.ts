import { randomBytes } from 'node:crypto';
import Joi from 'joi';
import { Fault } from '@/core/faults';
import { type FormDefinition, formDefinitionSchema, startingForm } from '@/core/forms/definition';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';

export type FormView = {
  id: string;
  publicId: string;
  name: string;
  definition: FormDefinition;
  listIds: string[];
  hosted: boolean;
  updatedAt: Date;
};
export type FormSums = { loaded: number; sentIn: number; confirmed: number };
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
};

const inputSchema = Joi.object<{ name: string; listIds: string[]; definition: FormDefinition }>({
  name: Joi.string().trim().max(80).required().label('Name'),
  listIds: Joi.array()
    .items(Joi.string().uuid())
    .min(1)
    .required()
    .label('List')
    .messages({ 'array.min': 'A form needs at least one list.' }),
  definition: formDefinitionSchema.required(),
});

/** A form's name in public addresses: 12 letters and digits, not to be guessed from its neighbours. */
export const newPublicId = () => randomBytes(6).toString('hex');

/** A new form that asks for the address only and gives the newsletter's first list. */
export async function createForm(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const { name } = check(Joi.object({ name: Joi.string().trim().max(80).required().label('Name') }), raw);
  const list = await ctx.db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('position')
    .orderBy('created_at')
    .executeTakeFirstOrThrow();
  const id = newId();
  const now = ctx.clock.now();
  await ctx.db
    .insertInto('forms')
    .values({
      id,
      newsletter_id: newsletter.id,
      public_id: newPublicId(),
      name,
      definition: JSON.stringify(startingForm(newsletter.name)),
      list_ids: [list.id],
      created_at: now,
      updated_at: now,
    })
    .execute();
  return { id };
}

/** Saves a form. Its lists must be the newsletter's own. */
export async function saveForm(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<{ updatedAt: Date }> {
  const value = check(inputSchema, raw);
  const own = await ctx.db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', 'in', value.listIds)
    .execute();
  if (own.length !== new Set(value.listIds).size)
    throw new Fault('invalid', 'One of these lists is gone. Choose again; nothing was changed.', { listIds: 'Choose again.' });
  const updatedAt = ctx.clock.now();
  const result = await ctx.db
    .updateTable('forms')
    .set({ name: value.name, definition: JSON.stringify(value.definition), list_ids: value.listIds, updated_at: updatedAt })
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n) throw new Fault('not-found', 'This form is gone.');
  return { updatedAt };
}

/** A newsletter's forms with what they brought since they were made, oldest first. */
export async function formsOf(ctx: Context, newsletter: Newsletter): Promise<(FormView & FormSums)[]> {
  const rows = await ctx.db
    .selectFrom('forms')
    .leftJoin('form_days', 'form_days.form_id', 'forms.id')
    .where('forms.newsletter_id', '=', newsletter.id)
    .groupBy('forms.id')
    .selectAll('forms')
    .select((eb) => [
      eb.fn.coalesce(eb.fn.sum<string>('loaded'), eb.lit(0)).as('loaded'),
      eb.fn.coalesce(eb.fn.sum<string>('sent_in'), eb.lit(0)).as('sentIn'),
      eb.fn.coalesce(eb.fn.sum<string>('confirmed'), eb.lit(0)).as('confirmed'),
    ])
    .orderBy('forms.created_at')
    .execute();
  return rows.map((row) => ({
    ...view(row),
    loaded: Number(row.loaded),
    sentIn: Number(row.sentIn),
    confirmed: Number(row.confirmed),
  }));
}

/** One form of a newsletter with its counts. */
export async function formOf(ctx: Context, newsletter: Newsletter, id: string): Promise<FormView & FormSums> {
  const found = (await formsOf(ctx, newsletter)).find((form) => form.id === id);
  if (!found) throw new Fault('not-found', 'This form is gone.');
  return found;
}

/** A form by its public name, with what of its newsletter a visitor may see; or null. */
export async function publicForm(ctx: Pick<Context, 'db'>, publicId: string): Promise<PublicForm | null> {
  const row = await ctx.db
    .selectFrom('forms')
    .innerJoin('newsletters as n', 'n.id', 'forms.newsletter_id')
    .selectAll('forms')
    .select(['n.name as n_name', 'n.slug', 'n.colour', 'n.time_zone', 'n.postal_address', 'n.language'])
    .where('public_id', '=', publicId)
    .executeTakeFirst();
  if (!row) return null;
  const { newsletter_id: id, n_name: name, slug, colour, time_zone, postal_address, language } = row;
  return { ...view(row), newsletter: { id, name, slug, colour, time_zone, postal_address, language } };
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

function view(row: {
  id: string;
  public_id: string;
  name: string;
  definition: FormDefinition;
  list_ids: string[];
  hosted: boolean;
  updated_at: Date;
}): FormView {
  return {
    id: row.id,
    publicId: row.public_id,
    name: row.name,
    definition: row.definition,
    listIds: row.list_ids,
    hosted: row.hosted,
    updatedAt: row.updated_at,
  };
}

import { Fault } from '@/core/faults';
import type { Answer, FieldKind, FormField } from '@/core/forms/fields';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { newId } from '../ids';

export type FieldView = { key: string; label: string; kind: FieldKind; options: string[] };

/** The newsletter's own fields, for forms and the readers area alike. */
export async function fieldsOf(ctx: Pick<Context, 'db'>, newsletter: Newsletter): Promise<FieldView[]> {
  return ctx.db
    .selectFrom('fields')
    .select(['key', 'label', 'kind', 'options'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .execute();
}

const BUILT_IN = new Set(['email', 'first_name']);

/** Makes fields of a form's new questions. A known key keeps its kind: answers that are there could not be read otherwise. */
export async function keepFields(ctx: Context, db: Db, newsletter: Newsletter, asked: FormField[]): Promise<void> {
  const known = new Map((await fieldsOf({ db }, newsletter)).map((field) => [field.key, field]));
  for (const field of asked) {
    if (BUILT_IN.has(field.key) || field.kind === 'email') continue;
    const kind: FieldKind = field.kind === 'hidden' ? 'text' : field.kind;
    const before = known.get(field.key);
    if (before && before.kind !== kind)
      throw new Fault(
        'conflict',
        `“${field.label}” is kept as ${before.kind} already; as ${kind} it would need another name. Nothing was published.`,
      );
    await db
      .insertInto('fields')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        key: field.key,
        label: field.label,
        kind,
        options: JSON.stringify(field.options),
        created_at: ctx.clock.now(),
      })
      .onConflict((c) =>
        c
          .columns(['newsletter_id', 'key'])
          .doUpdateSet({ options: JSON.stringify([...new Set([...(before?.options ?? []), ...field.options])]) }),
      )
      .execute();
  }
}

/** Keeps a reader's answers; a newer answer takes the place of an older one. In the caller's transaction. */
export async function keepAnswers(
  ctx: Context,
  db: Db,
  newsletterId: string,
  readerId: string,
  answers: Record<string, Answer>,
): Promise<void> {
  const keys = Object.keys(answers);
  if (keys.length === 0) return;
  const rows = await db
    .selectFrom('fields')
    .select(['id', 'key'])
    .where('newsletter_id', '=', newsletterId)
    .where('key', 'in', keys)
    .execute();
  if (rows.length === 0) return;
  await db
    .insertInto('reader_answers')
    .values(
      rows.map((row) => ({
        reader_id: readerId,
        field_id: row.id,
        value: JSON.stringify(answers[row.key]),
        at: ctx.clock.now(),
      })),
    )
    .onConflict((c) =>
      c.columns(['reader_id', 'field_id']).doUpdateSet((eb) => ({ value: eb.ref('excluded.value'), at: eb.ref('excluded.at') })),
    )
    .execute();
}

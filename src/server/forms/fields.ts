import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Answer, FieldKind, FormField } from '@/core/forms/fields';
import { folded } from '@/core/readers/condition';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';
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

/** The same by their ids, to choose from. */
export const fieldChoices = (ctx: Pick<Context, 'db'>, newsletter: Newsletter): Promise<{ id: string; label: string }[]> =>
  ctx.db.selectFrom('fields').select(['id', 'label']).where('newsletter_id', '=', newsletter.id).orderBy('created_at').execute();

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

type Answered = { newsletterId: string; readerId: string; answers: Record<string, Answer> };

/** Keeps readers' answers; a newer answer takes the place of an older one. In the caller's transaction. */
export async function keepAnswers(ctx: Pick<Context, 'clock'>, db: Db, all: Answered[]): Promise<void> {
  const answered = all.filter((one) => Object.keys(one.answers).length > 0);
  if (answered.length === 0) return;
  const newsletters = [...new Set(answered.map((one) => one.newsletterId))];
  const fields = await db
    .selectFrom('fields')
    .select(['id', 'key', 'newsletter_id'])
    .where(sql<boolean>`newsletter_id = any(${newsletters}::uuid[])`)
    .execute();
  const now = ctx.clock.now();
  const rows = answered.flatMap(({ newsletterId, readerId, answers }) =>
    fields
      .filter((field) => field.newsletter_id === newsletterId && field.key in answers)
      .map((field) => {
        const value = answers[field.key];
        return {
          reader_id: readerId,
          field_id: field.id,
          value,
          folded: typeof value === 'string' ? folded(value) : null,
          at: now,
        };
      }),
  );
  if (rows.length === 0) return;
  await sql`${insertRows('reader_answers', ['reader_id', 'field_id', 'value', 'folded', 'at'], rows)}
    on conflict (reader_id, field_id) do update set value = excluded.value, folded = excluded.folded, at = excluded.at`.execute(
    db,
  );
}

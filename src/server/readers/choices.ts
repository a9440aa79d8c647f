import { sql } from 'kysely';
import type { FieldKind } from '@/core/forms/fields';
import type { Names } from '@/core/readers/tell';
import type { Context, Newsletter } from '../context';
import type { Facets } from './table';

/** What a sentence about readers can be made of. */
export type Choices = {
  lists: { id: string; name: string }[];
  tags: string[];
  sources: string[];
  forms: { id: string; name: string }[];
  imports: { id: string; name: string }[];
  fields: { id: string; label: string; kind: FieldKind; options: string[] }[];
  letters: { id: string; subject: string; links: string[] }[];
  segments: { id: string; name: string }[];
  names: Names;
};

const MOST_LETTERS = 60;

/** What a newsletter's conditions can name, and what those things are called. */
export async function choicesOf(ctx: Context, newsletter: Newsletter, { lists, tags, sources }: Facets): Promise<Choices> {
  const of = newsletter.id;
  const [forms, imports, fields, letters, segments] = await Promise.all([
    ctx.db.selectFrom('forms').select(['id', 'name']).where('newsletter_id', '=', of).orderBy('created_at').execute(),
    ctx.db
      .selectFrom('imports')
      .select(['id', 'name'])
      .where('newsletter_id', '=', of)
      .where('brought_at', 'is not', null)
      .orderBy('brought_at', 'desc')
      .limit(60)
      .execute(),
    ctx.db
      .selectFrom('fields')
      .select(['id', 'label', 'kind', 'options'])
      .where('newsletter_id', '=', of)
      .orderBy('created_at')
      .execute(),
    sql<{ id: string; subject: string; links: string[] }>`
      select l.id, l.subject, array(select k.url from letter_links k where k.letter_id = l.id order by k.position limit 40) as links
      from letters l where l.newsletter_id = ${of} and l.sent_on is not null order by l.due_at desc limit ${MOST_LETTERS}`.execute(
      ctx.db,
    ),
    ctx.db.selectFrom('segments').select(['id', 'name']).where('newsletter_id', '=', of).orderBy(sql`lower(name)`).execute(),
  ]);
  const byId = (all: { id: string; name: string }[]) => Object.fromEntries(all.map(({ id, name }) => [id, name]));
  return {
    lists: lists.map(({ id, name }) => ({ id, name })),
    tags: tags.map((tag) => tag.name),
    sources: sources.map((source) => source.name),
    forms,
    imports,
    fields,
    letters: letters.rows,
    segments,
    names: {
      lists: byId(lists),
      forms: byId(forms),
      imports: byId(imports),
      fields: Object.fromEntries(fields.map(({ id, label }) => [id, label])),
      letters: Object.fromEntries(letters.rows.map(({ id, subject }) => [id, subject])),
      segments: byId(segments),
    },
  };
}

import { sql } from 'kysely';
import type { Context, Newsletter } from '../context';
import { likeOf } from '../readers/table';

export type Hit = { kind: string; label: string; detail: string; href: string };

/** Whatever bears these words: readers, letters, forms, domains; at most six of each. */
export async function find(ctx: Context, newsletter: Newsletter, words: string): Promise<Hit[]> {
  const text = words.trim().toLowerCase();
  if (text.length < 2) return [];
  const escaped = likeOf(text);
  const like = `%${escaped}%`;
  const base = `/desk/${newsletter.slug}`;
  const of = { newsletter: newsletter.id, like };
  const [readers, letters, forms, domains] = await Promise.all([
    ctx.db
      .selectFrom('readers')
      .select(['id', 'address', 'first_name'])
      .where('newsletter_id', '=', of.newsletter)
      .where('address_key', 'like', text.length < 3 ? `${escaped}%` : of.like)
      .limit(6)
      .execute(),
    ctx.db
      .selectFrom('letters')
      .select(['id', 'state', 'subject'])
      .where('newsletter_id', '=', of.newsletter)
      .where(sql<boolean>`subject ilike ${of.like}`)
      .orderBy('due_at', 'desc')
      .limit(6)
      .execute(),
    ctx.db
      .selectFrom('forms')
      .select(['id', 'name'])
      .where('newsletter_id', '=', of.newsletter)
      .where('name', 'ilike', of.like)
      .limit(6)
      .execute(),
    ctx.db
      .selectFrom('domains')
      .select(['id', 'name'])
      .where('newsletter_id', '=', of.newsletter)
      .where('name', 'like', of.like)
      .limit(6)
      .execute(),
  ]);
  return [
    ...letters.map((row) => ({ kind: 'letter', label: row.subject, detail: row.state, href: `${base}/letters/${row.id}` })),
    ...readers.map((row) => ({
      kind: 'reader',
      label: row.address,
      detail: row.first_name ?? '',
      href: `${base}/readers/${row.id}`,
    })),
    ...forms.map((row) => ({ kind: 'form', label: row.name, detail: '', href: `${base}/forms/${row.id}` })),
    ...domains.map((row) => ({ kind: 'domain', label: row.name, detail: '', href: `${base}/delivery/domains/${row.id}` })),
  ];
}

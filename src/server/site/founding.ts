import { startingForm } from '@/core/forms/definition';
import { startingReasonLine } from '@/core/newsletters/reason-line';
import { slugify } from '@/core/newsletters/slug';
import { STARTING_LAYOUT } from '@/core/writing/document';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { insertForm } from '../forms/forms';
import { newId } from '../ids';
import { createSchema } from '../newsletters/newsletters';

/**
 * Makes a newsletter with all it needs to be of use at once: one list, one layout, and the form of its own sign-up page.
 * The slug is made from the name and numbered when it is taken.
 */
export async function createNewsletter(ctx: Context, userId: string, raw: unknown): Promise<Newsletter> {
  const value = check(createSchema, raw);
  const now = ctx.clock.now();
  const slug = await freeSlug(ctx, slugify(value.name) || 'newsletter');
  return ctx.db.transaction().execute(async (trx) => {
    const values = {
      id: newId(),
      slug,
      name: value.name,
      description: value.description,
      postal_address: value.postalAddress,
      reason_line: startingReasonLine(value.name),
      time_zone: value.timeZone,
      language: 'en',
      colour: '#10282f',
      created_at: now,
    };
    const newsletter = await trx.insertInto('newsletters').values(values).returningAll().executeTakeFirstOrThrow();
    await trx
      .insertInto('members')
      .values({ newsletter_id: newsletter.id, user_id: userId, role: 'owner', created_at: now })
      .execute();
    const listId = newId();
    await trx
      .insertInto('lists')
      .values({ id: listId, newsletter_id: newsletter.id, name: 'Everyone', public_name: value.name, created_at: now })
      .execute();
    await insertForm({
      db: trx,
      newsletterId: newsletter.id,
      name: 'Sign-up page',
      definition: startingForm(value.name),
      listIds: [listId],
      hosted: true,
      at: now,
    });
    await trx
      .insertInto('layouts')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        name: 'New posts',
        layout: JSON.stringify(STARTING_LAYOUT),
        updated_at: now,
      })
      .execute();
    return newsletter;
  });
}

async function freeSlug(ctx: Context, wanted: string): Promise<string> {
  const taken = await ctx.db.selectFrom('newsletters').select('slug').where('slug', 'like', `${wanted}%`).execute();
  const slugs = new Set(taken.map((row) => row.slug));
  for (let n = 1; ; n += 1) {
    const slug = n === 1 ? wanted : `${wanted}-${n}`;
    if (!slugs.has(slug)) return slug;
  }
}

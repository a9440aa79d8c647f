import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { together } from '@/core/growth/figures';
import { type Layout, STARTING_LAYOUT } from '@/core/writing/layout';
import { layoutSchema } from '@/core/writing/schemas';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { newId } from '../ids';

/*
 * Layouts: kept once, named, one of them the usual one. Whatever names none takes the usual one, so that one is always there.
 */

const MOST_LAYOUTS = 50;

export type LayoutView = {
  id: string;
  name: string;
  layout: Layout;
  usual: boolean;
  updatedAt: Date;
  /** The auto-sends that use it. */
  rules: string[];
  /** How many letters that have not left name it. */
  letters: number;
};

/** A newsletter's layouts, the usual one first. */
export async function layoutsOf(ctx: Pick<Context, 'db'>, newsletter: Pick<Newsletter, 'id'>): Promise<LayoutView[]> {
  const rows = await ctx.db
    .selectFrom('layouts as l')
    .selectAll('l')
    .select([
      sql<string[]>`array(select a.name from auto_sends a where a.layout_id = l.id order by a.name)`.as('rules'),
      sql<number>`(select count(*)::int from letters t where t.layout_id = l.id and t.state in ('draft', 'scheduled', 'held'))`.as(
        'letters',
      ),
    ])
    .where('l.newsletter_id', '=', newsletter.id)
    .orderBy('l.is_default', 'desc')
    .orderBy(sql`lower(l.name)`)
    .execute();
  return rows.map(({ id, name, layout, is_default, updated_at, rules, letters }) => ({
    id,
    name,
    layout,
    usual: is_default,
    updatedAt: updated_at,
    rules,
    letters,
  }));
}

/** One of them. Throws "not-found". */
export async function layoutById(ctx: Pick<Context, 'db'>, newsletter: Pick<Newsletter, 'id'>, id: string): Promise<LayoutView> {
  const found = (await layoutsOf(ctx, newsletter)).find((one) => one.id === id);
  if (!found) throw new Fault('not-found', 'There is no such layout any more.');
  return found;
}

/** Makes a layout, as another stands or as every newsletter begins, under a name that is free. */
export async function makeLayout(ctx: Context, newsletter: Newsletter, from: string | null): Promise<{ id: string }> {
  return inTransaction(ctx.db, async (trx) => {
    await trx.selectFrom('newsletters').select('id').where('id', '=', newsletter.id).forUpdate().execute();
    const all = await layoutsOf({ db: trx }, newsletter);
    if (all.length >= MOST_LAYOUTS) throw new Fault('invalid', `At most ${MOST_LAYOUTS} layouts can be kept.`);
    const source = all.find((one) => one.id === from);
    const names = new Set(all.map((one) => one.name.toLowerCase()));
    const base = source ? `${source.name} (copy)` : 'A layout';
    let name = base;
    for (let n = 2; names.has(name.toLowerCase()); n += 1) name = `${base} ${n}`;
    const id = newId();
    await trx
      .insertInto('layouts')
      .values({
        id,
        newsletter_id: newsletter.id,
        name,
        layout: JSON.stringify(source?.layout ?? STARTING_LAYOUT),
        is_default: all.length === 0,
        updated_at: ctx.clock.now(),
      })
      .execute();
    return { id };
  });
}

const saveSchema = Joi.object<{ name: string; layout: Layout; since: string }>({
  name: Joi.string().trim().max(60).required().label('Name'),
  layout: layoutSchema.required().label('Layout'),
  since: Joi.string().isoDate().required(),
});

/** Saves a layout that stood as it did at `since`. Throws "conflict" where it was changed elsewhere meanwhile, or the name is another's. */
export async function saveLayout(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<{ since: string }> {
  const { name, layout, since } = check(saveSchema, raw);
  return inTransaction(ctx.db, async (trx) => {
    const rows = await trx
      .selectFrom('layouts')
      .select(['id', 'name', 'updated_at'])
      .where('newsletter_id', '=', newsletter.id)
      .forUpdate()
      .execute();
    const own = rows.find((row) => row.id === id);
    if (!own) throw new Fault('not-found', 'There is no such layout any more.');
    if (own.updated_at.getTime() !== Date.parse(since))
      throw new Fault('conflict', 'This layout was changed in another window meanwhile. Nothing was overwritten; open it anew.');
    if (rows.some((row) => row.id !== id && row.name.toLowerCase() === name.toLowerCase()))
      throw new Fault('conflict', `There is a layout “${name}” already.`, { name: 'Taken already.' });
    // Never the same moment twice, so that it always tells one state from another.
    const now = new Date(Math.max(ctx.clock.now().getTime(), own.updated_at.getTime() + 1));
    await trx
      .updateTable('layouts')
      .set({ name, layout: JSON.stringify(layout), updated_at: now })
      .where('id', '=', id)
      .execute();
    return { since: now.toISOString() };
  });
}

/** Makes a layout the usual one. */
export async function makeUsual(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rows = await trx.selectFrom('layouts').select('id').where('newsletter_id', '=', newsletter.id).forUpdate().execute();
    if (!rows.some((row) => row.id === id)) throw new Fault('not-found', 'There is no such layout any more.');
    await trx.updateTable('layouts').set({ is_default: false }).where('newsletter_id', '=', newsletter.id).execute();
    await trx.updateTable('layouts').set({ is_default: true }).where('id', '=', id).execute();
  });
}

/** Lets go of a layout; drafts that named it take the usual one. Throws "conflict" for the usual one, and while an auto-send or a letter on the runway uses it. */
export async function dropLayout(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    await trx.selectFrom('layouts').select('id').where('newsletter_id', '=', newsletter.id).forUpdate().execute();
    const { name, usual, rules } = await layoutById({ db: trx }, newsletter, id);
    if (usual) throw new Fault('conflict', `“${name}” is the usual one. Make another one usual first.`);
    if (rules.length)
      throw new Fault(
        'conflict',
        `“${name}” is used by ${rules.map((rule) => `“${rule}”`).join(', ')}. Choose another there first.`,
      );
    // What was looked at before it was let go leaves as it was seen.
    const letters = await trx
      .selectFrom('letters')
      .select('subject')
      .where('layout_id', '=', id)
      .where('state', 'in', ['scheduled', 'held', 'starting'])
      .limit(3)
      .execute();
    if (letters.length)
      throw new Fault(
        'conflict',
        `${together(letters.map((letter) => `“${letter.subject}”`))} will leave with “${name}”. Call back, or choose another layout there first.`,
      );
    await trx.deleteFrom('layouts').where('id', '=', id).execute();
  });
}

import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
import { type Audience, isOnlyUnread } from '@/core/sending/audience';
import { statesFor } from '@/core/sending/letter-state';
import { audienceSchema } from '@/core/sending/schemas';
import { check, ownName } from '../check';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';
import { choicesOf } from '../readers/choices';
import { facetsOf } from '../readers/table';

/** Says whom a letter is for. Throws "conflict" once it has begun to leave. */
export async function addressLetter(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const audience = check(audienceSchema, raw);
  const again = await ctx.db
    .selectFrom('letters')
    .select('again_of')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (again?.again_of && !isOnlyUnread(audience, again.again_of))
    throw new Fault(
      'invalid',
      'This letter is sent a second time: it goes to nobody but those who did not open it the first time.',
    );
  const result = await ctx.db
    .updateTable('letters')
    .set({ audience: JSON.stringify(audience) })
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .where('state', 'in', statesFor('schedule'))
    .executeTakeFirst();
  if (result.numUpdatedRows > 0n) return;
  const there = await ctx.db
    .selectFrom('letters')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!there) throw new Fault('not-found', 'There is no such letter any more.');
  throw new Fault('conflict', 'This letter has begun to leave: whom it is for stays as it is.');
}

export type SavedAudience = { id: string; name: string; audience: Audience };
const MOST_AUDIENCES = 100;

/** The audiences that a newsletter keeps, by name. */
export async function audiencesOf(ctx: Context, newsletter: Newsletter): Promise<SavedAudience[]> {
  return ctx.db
    .selectFrom('audiences')
    .select(['id', 'name', 'audience'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy(sql`lower(name)`)
    .execute();
}

const savedSchema = Joi.object<{ name: string; audience: Audience }>({
  name: ownName(),
  audience: audienceSchema.required(),
});

/** Keeps an audience under a name; one of that name is written over. */
export async function keepAudience(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<void> {
  const { name, audience } = check(savedSchema, raw);
  const kept = await audiencesOf(ctx, newsletter);
  if (kept.length >= MOST_AUDIENCES && !kept.some((one) => one.name.toLowerCase() === name.toLowerCase()))
    throw new Fault('invalid', `At most ${MOST_AUDIENCES} audiences can be kept.`);
  await sql`insert into audiences (id, newsletter_id, name, audience, created_at)
    values (${newId()}, ${newsletter.id}, ${name}, ${JSON.stringify(audience)}::jsonb, ${ctx.clock.now()})
    on conflict (newsletter_id, lower(name)) do update set name = excluded.name, audience = excluded.audience`.execute(ctx.db);
}

/** Lets go of a kept audience; letters that were addressed by it stay as they are. */
export async function forgetAudience(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await ctx.db.deleteFrom('audiences').where('newsletter_id', '=', newsletter.id).where('id', '=', id).execute();
}

/** Whom the last letter that left was for, but for those sent a second time; null where none has. */
export async function lastAudience(
  ctx: Context,
  newsletter: Newsletter,
): Promise<{ subject: string; audience: Audience } | null> {
  const row = await ctx.db
    .selectFrom('letters')
    .select(['subject', 'audience'])
    .where('newsletter_id', '=', newsletter.id)
    .where('state', 'in', ['sending', 'paused', 'sent', 'stopped'])
    .where('sent_on', 'is not', null)
    .where('again_of', 'is', null)
    .orderBy('due_at', 'desc')
    .orderBy('id', 'desc')
    .executeTakeFirst();
  return row ? { subject: row.subject, audience: row.audience } : null;
}

/** The addresses of the people whom these audiences pick one by one, by their ids. */
export async function peopleIn(ctx: Context, newsletter: Newsletter, audiences: Audience[]): Promise<Record<string, string>> {
  const ids = audiences.flatMap(({ to, without }) =>
    [...to, ...without].flatMap((part) => (part.kind === 'readers' ? part.ids : [])),
  );
  if (ids.length === 0) return {};
  const rows = await ctx.db
    .selectFrom('readers')
    .select(['id', 'address'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', 'in', [...new Set(ids)].slice(0, 5_000))
    .execute();
  return Object.fromEntries(rows.map((row) => [row.id, row.address]));
}

/** What an audience names, by its name. */
export async function namesFor(ctx: Context, newsletter: Newsletter, audience: Audience) {
  const [choices, people] = await Promise.all([
    facetsOf(ctx, newsletter).then((facets) => choicesOf(ctx, newsletter, facets)),
    peopleIn(ctx, newsletter, [audience]),
  ]);
  return { choices, people };
}

const MOST_TYPED = 1_000;

/** The readers behind typed addresses, and which of those nobody reads by. */
export async function peopleBehind(
  ctx: Context,
  newsletter: Newsletter,
  typed: unknown,
): Promise<{ people: { id: string; address: string }[]; unknown: string[] }> {
  const words = String(typed ?? '')
    .slice(0, 200_000)
    .split(/[\s,;]+/)
    .filter(Boolean);
  if (words.length === 0) throw new Fault('invalid', 'Type an address.', { addresses: 'Type an address.' });
  if (words.length > MOST_TYPED) throw new Fault('invalid', `At most ${MOST_TYPED} people can be picked one by one.`);
  const keys = new Map(words.map((word) => [word, parseAddress(word)?.key ?? null]));
  const wanted = [...new Set([...keys.values()].filter((key) => key !== null))];
  const rows = wanted.length
    ? await ctx.db
        .selectFrom('readers')
        .select(['id', 'address', 'address_key'])
        .where('newsletter_id', '=', newsletter.id)
        .where('address_key', 'in', wanted)
        .execute()
    : [];
  const found = new Map(rows.map((row) => [row.address_key, row]));
  return {
    people: rows.map(({ id, address }) => ({ id, address })),
    unknown: words.filter((word) => !found.has(keys.get(word) ?? '')),
  };
}

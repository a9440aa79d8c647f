import { revalidatePath } from 'next/cache';
import { headers } from 'next/headers';
import { notFound, redirect } from 'next/navigation';
import { cache } from 'react';
import { type ActionResult, asFault, Fault } from '@/core/faults';
import type { Need, Role } from '@/core/newsletters/roles';
import { type Person, personOf } from '@/server/auth/session';
import type { Context, Newsletter } from '@/server/context';
import { openNewsletter } from '@/server/newsletters/newsletters';
import { runtime } from '@/server/runtime';

/** Who is signed in; anybody else is sent to the sign-in page. */
export const personHere = cache(async (): Promise<Person> => (await personOf(await headers())) ?? redirect('/sign-in'));

/** A page's newsletter, for a member of it; a 404 for everyone else. */
export const deskOf = cache(
  async (slug: string): Promise<{ ctx: Context; newsletter: Newsletter & { role: Role }; person: Person }> => {
    const person = await personHere();
    const ctx = await runtime();
    try {
      return { ctx, person, newsletter: await openNewsletter(ctx, person.id, slug) };
    } catch (error) {
      if (error instanceof Fault && error.code === 'not-found') notFound();
      throw error;
    }
  },
);

/** Loads something for a page; what is not there is a 404. */
export async function orNotFound<T>(work: Promise<T>): Promise<T> {
  try {
    return await work;
  } catch (error) {
    if (asFault(error).code === 'not-found') notFound();
    throw error;
  }
}

/**
 * Runs a use case for a server action: signed in, a member whose role allows it, and every error as the one error shape. Screens of the
 * desk are made anew.
 */
export async function onDesk<T>(
  slug: string,
  work: (ctx: Context, newsletter: Newsletter, person: Person) => Promise<T>,
  need: Need = 'edit',
  { whileClosing = need === 'own' } = {},
): Promise<ActionResult<T>> {
  const person = await personHere();
  const ctx = await runtime();
  try {
    const newsletter = await openNewsletter(ctx, person.id, slug, need);
    if (newsletter.closing_at && !whileClosing)
      throw new Fault('conflict', `${newsletter.name} is to be deleted. Have an owner keep it first; nothing was changed.`);
    const value = await work(ctx, newsletter, person);
    revalidatePath('/desk/[slug]', 'layout');
    return { ok: true, value };
  } catch (error) {
    if (!(error instanceof Fault)) ctx.log.error({ err: error }, 'an action failed');
    return { ok: false, error: asFault(error).value };
  }
}

import type { Context, Newsletter } from '@/server/context';
import { newId } from '@/server/ids';
import { createNewsletter } from '@/server/site/founding';

/** A newsletter of a writer of its own, to measure with. */
export async function benchNewsletter(ctx: Context, name: string): Promise<Newsletter> {
  const userId = newId();
  await ctx.db
    .insertInto('user')
    .values({ id: userId, name: 'Bench', email: `${userId}@postbird.example`, emailVerified: true })
    .execute();
  return createNewsletter(ctx, userId, { name, description: '', postalAddress: 'PO Box 600', timeZone: 'UTC' });
}

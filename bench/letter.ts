import type { Context, Newsletter } from '@/server/context';
import { newId } from '@/server/ids';
import { newDkimPair } from '@/server/mail/identity';
import { unseal } from '@/server/secrets';
import { benchNewsletter } from './newsletter';

const DOMAIN = 'lanternfish.example';

/** A newsletter with a confirmed sender at a domain whose records are right. */
export async function prepareNewsletter(ctx: Context): Promise<{ newsletter: Newsletter; senderId: string; pem: string }> {
  const { db } = ctx;
  const now = new Date();
  const newsletter = await benchNewsletter(ctx, 'Bench');
  const { publicKey, sealed } = await newDkimPair(ctx);
  const of = { newsletter_id: newsletter.id, created_at: now };
  const senderId = newId();
  await db
    .insertInto('senders')
    .values({ id: senderId, ...of, name: 'Ottoline Vance', address: `letters@${DOMAIN}`, domain: DOMAIN, confirmed_at: now })
    .execute();
  const domainId = newId();
  await db
    .insertInto('domains')
    .values({
      id: domainId,
      ...of,
      name: DOMAIN,
      reports_token: newId(),
      state: 'authenticated',
      checked_at: new Date(now.getTime() + 86_400_000),
      next_check_at: new Date(now.getTime() + 86_400_000),
    })
    .execute();
  await db
    .insertInto('domain_keys')
    .values({
      id: newId(),
      domain_id: domainId,
      selector: 'ink1',
      algorithm: 'rsa',
      role: 'active',
      public_key: publicKey,
      private_key: sealed,
      created_at: now,
    })
    .execute();
  return { newsletter, senderId, pem: unseal(sealed, ctx.config.keys) };
}

import { sql } from 'kysely';
import { ofList } from '@/core/sending/audience';
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

/** A letter that so many readers at one provider got, each by a copy of their own. */
export async function deliveredLetter(
  ctx: Context,
  readers: number,
): Promise<{ letterId: string; rows: { id: string; sent_on: string; address: string }[] }> {
  const { db } = ctx;
  const { newsletter, senderId } = await prepareNewsletter(ctx);
  const listId = newId();
  const letterId = newId();
  const now = ctx.clock.now();
  await db
    .insertInto('lists')
    .values({ id: listId, newsletter_id: newsletter.id, name: 'B', public_name: 'B', position: 0, created_at: now })
    .execute();
  await sql`select ensure_month(${now}::date)`.execute(db);
  await sql`
    insert into letters (id, newsletter_id, kind, audience, sender_id, subject, preview_line, state, state_at, due_at, sent_on, created_at)
    values (${letterId}, ${newsletter.id}, 'post', ${JSON.stringify(ofList(listId))}::jsonb, ${senderId}, 'B', '', 'sent', ${now}, ${now}, ${now}::date, ${now})`.execute(
    db,
  );
  await sql`
    insert into readers (id, newsletter_id, address, address_key, created_at) select gen_random_uuid(), ${newsletter.id}::uuid, 'r' || n || '@heronmail.example', 'r' || n || '@heronmail.example', ${now}
    from generate_series(1, ${readers}) n`.execute(db);
  await sql`insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at) select id, ${listId}::uuid, newsletter_id, 'reading', ${now}::timestamptz, ${now}::timestamptz from readers where newsletter_id = ${newsletter.id}`.execute(
    db,
  );
  const { rows } = await sql<{ id: string; sent_on: string; address: string }>`
    insert into deliveries (sent_on, newsletter_id, letter_id, reader_id, address, domain_id, state, due_at, delivered_at)
    select ${now}::date, newsletter_id, ${letterId}::uuid, id, address, domain_id, 'delivered', ${now}::timestamptz, ${now}::timestamptz from readers where newsletter_id = ${newsletter.id} returning id, sent_on, address`.execute(
    db,
  );
  await sql`vacuum analyze`.execute(db);
  return { letterId, rows };
}

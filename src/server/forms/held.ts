import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { HONEYPOT } from '@/core/forms/answers';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';
import type { Visitor } from '../readers/visitor';
import type { Wish } from './wish';

/*
 * Sign-ups that were answered with a request for more instead of thanks (decision 0009), and whose sender did not come back with it. Kept for a
 * month, so that a writer can see who was held back and let a person in.
 */

export type HeldReason = 'quick' | 'trap' | 'busy' | 'often';
export type Held = { wish: Wish; sent: Record<string, string>; reason: HeldReason };
export type HeldView = { key: string; address: string; reason: HeldReason; page: string | null; at: Date };

/** So many are kept for one form, and so many of them from one network: somebody who floods it fills no disk, and leaves room for others. */
export const MOST_HELD = 500;
export const MOST_HELD_OF_NETWORK = 20;
const KEPT_MS = 30 * 86_400_000;
const COLUMNS = ['form_id', 'newsletter_id', 'address_key', 'address', 'reason', 'sent', 'network', 'agent', 'at'] as const;
/** Good for one moment only, or what gave the machine away. */
const LEFT_OUT = new Set(['proof', 'ticket', 'stamp', 'sure', 'trial', HONEYPOT]);

/** What is kept of a form sent in: as much as a form can ask, so that a flood of long ones fills no disk either. */
const kept = (sent: Record<string, string>) =>
  Object.fromEntries(
    Object.entries(sent)
      .filter(([name]) => !LEFT_OUT.has(name) && name.length <= 60)
      .slice(0, 60)
      .map(([name, text]) => [name, text.slice(0, 4_000)]),
  );

/** Notes these, no two of one form and address, in one statement, as far as there is room. The newest word of an address replaces the one before. */
export async function hold(ctx: Pick<Context, 'db' | 'clock'>, held: Held[]): Promise<null[]> {
  const at = ctx.clock.now();
  const ids = [...new Set(held.map(({ wish }) => wish.form.id))];
  const { rows: there } = await sql<{ form_id: string; network: string; n: number }>`
    select form_id, network, count(*)::int as n from held_back where form_id = any(${ids}::uuid[]) group by 1, 2`.execute(ctx.db);
  const used = new Map<string, number>();
  const use = (key: string, n: number) => used.set(key, (used.get(key) ?? 0) + n).get(key)!;
  for (const { form_id, network, n } of there) {
    use(form_id, n);
    use(`${form_id} ${network}`, n);
  }
  const rows = held
    .filter(
      ({ wish: { form, visitor } }) =>
        use(`${form.id} ${visitor.network}`, 1) <= MOST_HELD_OF_NETWORK && use(form.id, 1) <= MOST_HELD,
    )
    .map(({ wish, sent, reason }) => ({
      form_id: wish.form.id,
      newsletter_id: wish.form.newsletter.id,
      address_key: wish.answers.address.key,
      address: wish.answers.address.full,
      reason,
      sent: kept(sent),
      network: wish.visitor.network,
      agent: wish.visitor.agent.slice(0, 300),
      at,
    }))
    .sort((a, b) => (`${a.form_id} ${a.address_key}` < `${b.form_id} ${b.address_key}` ? -1 : 1));
  if (rows.length)
    await sql`${insertRows('held_back', COLUMNS, rows)}
      on conflict (form_id, address_key) do update set reason = excluded.reason, sent = excluded.sent, network = excluded.network, agent = excluded.agent, at = excluded.at`.execute(
      ctx.db,
    );
  return held.map(() => null);
}

/** Whoever came through is held back no more. In the caller's transaction. */
export async function release(db: Db, wishes: Wish[]): Promise<void> {
  const forms = wishes.map((wish) => wish.form.id);
  const keys = wishes.map((wish) => wish.answers.address.key);
  await sql`
    delete from held_back where (form_id, address_key) in (select * from unnest(${forms}::uuid[], ${keys}::text[]))`.execute(db);
}

/** Who is held back by a form now, newest first. */
export async function heldBack(ctx: Context, newsletter: Newsletter, formId: string): Promise<HeldView[]> {
  const rows = await ctx.db
    .selectFrom('held_back')
    .select(['address_key as key', 'address', 'reason', 'at', sql<string | null>`sent->>'page'`.as('page')])
    .where('newsletter_id', '=', newsletter.id)
    .where('form_id', '=', formId)
    .orderBy('at', 'desc')
    .execute();
  return rows;
}

/** How many each form holds back now. */
export async function heldCounts(ctx: Context, newsletter: Newsletter): Promise<Map<string, number>> {
  const rows = await ctx.db
    .selectFrom('held_back')
    .select(['form_id', sql<number>`count(*)::int`.as('n')])
    .where('newsletter_id', '=', newsletter.id)
    .groupBy('form_id')
    .execute();
  return new Map(rows.map((row) => [row.form_id, row.n]));
}

/** What somebody who is held back sent in, to be sent in again for them. Throws "not-found" where they are no longer held. */
export async function taken(
  ctx: Context,
  newsletter: Newsletter,
  formId: string,
  key: string,
): Promise<{ publicId: string; sent: Record<string, string>; visitor: Visitor }> {
  const row = await ctx.db
    .selectFrom('held_back as h')
    .innerJoin('forms as f', 'f.id', 'h.form_id')
    .select(['f.public_id', 'h.sent', 'h.network', 'h.agent'])
    .where('h.newsletter_id', '=', newsletter.id)
    .where('h.form_id', '=', formId)
    .where('h.address_key', '=', key)
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'They are not held back any more.');
  return { publicId: row.public_id, sent: row.sent, visitor: { network: row.network, agent: row.agent } };
}

/** Lets go of one who is held back, or of all. */
export async function dropHeld(ctx: Context, newsletter: Newsletter, formId: string, key?: string): Promise<void> {
  await ctx.db
    .deleteFrom('held_back')
    .where('newsletter_id', '=', newsletter.id)
    .where('form_id', '=', formId)
    .$if(key !== undefined, (q) => q.where('address_key', '=', key!))
    .execute();
}

/** Forgets who was held back a month ago. */
export async function forgetHeld(ctx: Context): Promise<void> {
  await ctx.db
    .deleteFrom('held_back')
    .where('at', '<', new Date(ctx.clock.now().getTime() - KEPT_MS))
    .execute();
}

import { Fault } from '@/core/faults';
import { transition } from '@/core/readers/state';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { inRehearsal } from '../db/rehearsal';
import { noteForOwners } from '../newsletters/alerts';
import { refuseClosing } from '../newsletters/newsletters';
import { allowAgain } from '../readers/suppressed';
import type { Visitor } from '../readers/visitor';
import { hashToken } from '../secrets';
import { type ArrivingForm, arrive, giftOf, greet } from './arrive';
import { countForms } from './counts';
import { complete } from './forms';

/** What the page after confirming needs: the form's own words or address, and the gift. */
export type Confirmed = {
  newsletter: { name: string; slug: string; colour: string };
  language: string;
  title: string;
  words: string;
  redirect: string;
  gift: { label: string; url: string } | null;
  /** Has the link been used? Until then this is what will be said. */
  done: boolean;
  /** The lists it is about, by the names that readers know. */
  lists: string[];
};

/** What a confirmation link is about; looking changes nothing, however often and whoever looks. Throws "expired" or "not-found". */
export const confirmationOf = (ctx: Context, token: string): Promise<Confirmed> => settled(ctx, token, null);

/**
 * A pressed confirmation link: the reader is *reading* on the lists they asked for, and what the form promised happens. Clicking again
 * says the same and changes nothing, also after they have left: an old link does not bring anybody back. Throws "expired" or "not-found".
 */
export const confirm = (ctx: Context, token: string, visitor: Visitor): Promise<Confirmed> => settled(ctx, token, visitor);

async function settled(ctx: Context, token: string, visitor: Visitor | null): Promise<Confirmed> {
  const found =
    (await ctx.db.transaction().execute((trx) => settle(ctx, trx, token, visitor, false))) ??
    (await inRehearsal(ctx.db, (trx) => settle(ctx, trx, token, visitor, true)));
  if (!found)
    throw new Fault('not-found', 'This link is not one of ours, or a part of it is missing. Copy it whole, or sign up again.');
  return found;
}

/** Confirms for a visitor, or looks where there is none, in the tables of readers or in those of tries; null where the link is not known there. */
async function settle(ctx: Context, trx: Db, token: string, visitor: Visitor | null, tried: boolean): Promise<Confirmed | null> {
  const now = ctx.clock.now();
  const row = await trx
    .selectFrom('confirmations as c')
    .innerJoin('newsletters as n', 'n.id', 'c.newsletter_id')
    .innerJoin('readers as r', 'r.id', 'c.reader_id')
    .leftJoin('forms as f', 'f.id', 'c.form_id')
    .leftJoin('form_tests as t', (join) => join.onRef('t.form_id', '=', 'c.form_id').onRef('t.started_at', '<=', 'c.sent_at'))
    .selectAll('c')
    .select([
      'n.closing_at',
      'n.name',
      'n.slug',
      'n.colour',
      'n.time_zone',
      'n.postal_address',
      'n.language',
      'r.address',
      'f.name as form_name',
      'f.definition',
      't.definition as other',
    ])
    .where('token_hash', '=', hashToken(token))
    .orderBy('t.started_at', 'desc')
    .limit(1)
    // Who only looks keeps nobody waiting. Else the reader too: whoever keeps a new wish of theirs locks them first, and would wait for us the other way round.
    .$if(visitor !== null, (query) => query.forUpdate(['c', 'r']))
    .executeTakeFirst();
  if (!row) return null;
  refuseClosing(row);
  const newsletter = {
    id: row.newsletter_id,
    name: row.name,
    slug: row.slug,
    colour: row.colour,
    time_zone: row.time_zone,
    postal_address: row.postal_address,
  };
  const definition = row.definition && complete(row.variant === 'b' && row.other ? row.other : row.definition);
  const form: ArrivingForm | null = definition && { id: row.form_id!, name: row.form_name!, definition };
  const said: Confirmed = {
    newsletter,
    language: definition?.language ?? row.language,
    title: definition?.next.confirmed.title ?? '',
    words: definition?.next.confirmed.words ?? '',
    redirect: definition?.next.confirmed.redirect ?? '',
    gift: form && giftOf(ctx, form, row.reader_id),
    done: row.used_at !== null,
    lists: [],
  };
  if (row.used_at) return said;
  if (row.expires_at < now)
    throw new Fault('expired', 'This link has run out after 30 days. Sign up again, and a new one comes at once.');
  if (!visitor) {
    const lists = await trx
      .selectFrom('lists')
      .select('public_name')
      .where('id', 'in', row.list_ids)
      .orderBy('position')
      .execute();
    return { ...said, lists: lists.map((list) => list.public_name) };
  }
  await trx.updateTable('confirmations').set({ used_at: now }).where('token_hash', '=', row.token_hash).execute();
  const joined: string[] = [];
  for (const listId of row.list_ids) {
    const standing = await trx
      .selectFrom('memberships')
      .select('state')
      .where('reader_id', '=', row.reader_id)
      .where('list_id', '=', listId)
      .executeTakeFirst();
    const step = transition(standing?.state ?? null, 'confirm', true);
    if (!step.changed) continue;
    joined.push(listId);
    const list = await trx.selectFrom('lists').select('name').where('id', '=', listId).executeTakeFirstOrThrow();
    await trx
      .updateTable('memberships')
      .set({ state: step.state, since: now, joined_at: now })
      .where('reader_id', '=', row.reader_id)
      .where('list_id', '=', listId)
      .execute();
    await trx
      .insertInto('consents')
      .values({
        newsletter_id: newsletter.id,
        reader_id: row.reader_id,
        list_id: listId,
        list_name: list.name,
        act: 'confirm',
        state: step.state,
        at: now,
        actor: 'reader',
        form_id: row.form_id,
        network: visitor.network,
        agent: visitor.agent.slice(0, 300),
      })
      .execute();
    if (tried) continue;
    await noteForOwners(ctx, trx, newsletter, 'joined', { id: row.reader_id, address: row.address, listName: list.name });
  }
  if (joined.length) {
    const who = { id: row.reader_id, address: row.address, trial: tried };
    if (form) await arrive(ctx, trx, form, newsletter, who, joined);
    else await greet(ctx, trx, newsletter, who, joined);
    // Confirming by one's own act lifts what an earlier complaint or erasure had put on the address.
    const reader = await trx
      .updateTable('readers')
      .set({ address_state: 'fine', soft_evidence: 0, soft_at: null })
      .where('id', '=', row.reader_id)
      .returning('address_key')
      .executeTakeFirstOrThrow();
    await allowAgain(ctx, trx, newsletter.id, reader.address_key);
  }
  // Counts last: their rows are shared by everybody who confirms at this moment, and stay locked until the commit.
  if (joined.length && row.form_id)
    await countForms(ctx, trx, [{ newsletter, formId: row.form_id, field: 'confirmed', variant: row.variant }]);
  return { ...said, done: true };
}

import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { RETURN_HOURS, type ReaderAct, transition } from '@/core/readers/state';
import { listsIn } from '@/core/sending/audience';
import { type LeavePurpose, type LeaveRef, readLeaveToken } from '@/core/sending/token';
import type { Context } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { inRehearsal } from '../db/rehearsal';
import { noteForOwners } from '../newsletters/alerts';
import type { Visitor } from '../readers/visitor';
import { countLetters } from './counts';
import { cancelWhatTheyLeft } from './silence';

export type Leaving = {
  newsletter: { name: string; slug: string; colour: string; language: string; count_opens: boolean; count_clicks: boolean };
  /** What is left, or was, and what goes on: the lists' public names. */
  lists: string[];
  goesOn: string[];
  /** What was left just now and can be taken back: the lists' ids. */
  undo: string[];
  state: 'reading' | 'left';
};

const GONE = 'We do not know this reader any more, so nothing will come.';

const refOf = (ctx: Context, token: string, purpose: LeavePurpose): LeaveRef => {
  const ref = readLeaveToken(token, purpose, ctx.config.keys);
  if (!ref) throw new Fault('not-found', 'A part of this link is missing. Use the one at the end of any letter.');
  return ref;
};

type Standing = {
  reader: { id: string; address: string };
  newsletter: Leaving['newsletter'] & { id: string; time_zone: string };
  /** Every list they read or wait for, and those that this link is about. */
  on: { id: string; name: string; publicName: string; state: 'reading' | 'waiting'; meant: boolean }[];
  copy: { letterId: string; domainId: number } | null;
};

/**
 * Where the reader of a link stands. The link says who; what it is about is the lists of the letter it stood in, or all lists where the letter names
 * none, is not known any more, or none of its lists is read.
 */
async function standing(db: Db, ref: LeaveRef): Promise<Standing | null> {
  const reader = await db
    .selectFrom('readers as r')
    .innerJoin('newsletters as n', 'n.id', 'r.newsletter_id')
    .select([
      'r.id',
      'r.address',
      'n.id as newsletter_id',
      'n.name',
      'n.slug',
      'n.colour',
      'n.language',
      'n.time_zone',
      'n.count_opens',
      'n.count_clicks',
    ])
    .where('r.id', '=', ref.readerId)
    .executeTakeFirst();
  if (!reader) return null;
  const rows = await db
    .selectFrom('memberships as m')
    .innerJoin('lists', 'lists.id', 'm.list_id')
    .select(['lists.id', 'lists.name', 'lists.public_name', 'm.state'])
    .where('m.reader_id', '=', reader.id)
    .where('m.state', 'in', ['reading', 'waiting'])
    .orderBy('lists.position')
    .execute();
  const copy = ref.delivery
    ? await db
        .selectFrom('deliveries as d')
        .innerJoin('letters as l', 'l.id', 'd.letter_id')
        .select(['l.id', 'l.audience', 'd.domain_id'])
        .where('d.sent_on', '=', ref.delivery.sentOn)
        .where('d.id', '=', String(ref.delivery.id))
        .where('d.reader_id', '=', reader.id)
        .executeTakeFirst()
    : undefined;
  const named = new Set(copy ? listsIn(copy.audience) : []);
  const some = rows.some((row) => named.has(row.id));
  return {
    reader: { id: reader.id, address: reader.address },
    newsletter: {
      id: reader.newsletter_id,
      name: reader.name,
      slug: reader.slug,
      colour: reader.colour,
      language: reader.language,
      time_zone: reader.time_zone,
      count_opens: reader.count_opens,
      count_clicks: reader.count_clicks,
    },
    on: rows.map((row) => ({
      id: row.id,
      name: row.name,
      publicName: row.public_name,
      state: row.state as 'reading' | 'waiting',
      meant: some ? named.has(row.id) : true,
    })),
    copy: copy ? { letterId: copy.id, domainId: copy.domain_id } : null,
  };
}

const said = ({ newsletter, on }: Standing, left: boolean): Leaving => ({
  newsletter,
  lists: on.filter((list) => list.meant).map((list) => list.publicName),
  goesOn: on.filter((list) => !list.meant && list.state === 'reading').map((list) => list.publicName),
  undo: left ? on.filter((list) => list.meant && list.state === 'reading').map((list) => list.id) : [],
  state: left || on.length === 0 ? 'left' : 'reading',
});

/** In the readers' tables, or, where nobody there is meant, in those of tries. */
async function among<T>(ctx: Context, work: (db: Db, rehearsed: boolean) => Promise<T | null>): Promise<T> {
  const found = await inTransaction(ctx.db, (trx) => work(trx, false));
  const tried = found ?? (await inRehearsal(ctx.db, (trx) => work(trx, true)));
  if (tried === null) throw new Fault('not-found', GONE);
  return tried;
}

/** What the leave page says: which lists, and where the reader stands. Changes nothing (RFC 8058: a GET must not). */
export const leavingOf = (ctx: Context, token: string): Promise<Leaving> => {
  const ref = refOf(ctx, token, 'leave');
  return among(ctx, async (db) => {
    const found = await standing(db, ref);
    return found && said(found, false);
  });
};

type How = {
  purpose?: LeavePurpose;
  /** Every list, not only those that the link is about. */
  all?: boolean;
  /** Why, in the reader's own words; kept with the record. */
  reason?: string;
};

/** Takes the reader off what the link is about, at once and without a question (RFC 8058 section 3.1); what waits for them is cancelled with it. Works twice. */
export async function leave(
  ctx: Context,
  token: string,
  visitor: Visitor,
  { purpose = 'leave', all = false, reason = '' }: How = {},
): Promise<Leaving> {
  const ref = refOf(ctx, token, purpose);
  return among(ctx, async (db, rehearsed) => {
    await db.selectFrom('readers').select('id').where('id', '=', ref.readerId).forUpdate().executeTakeFirst();
    const found = await standing(db, ref);
    if (!found) return null;
    if (all) for (const list of found.on) list.meant = true;
    const { reader, newsletter } = found;
    const now = ctx.clock.now();
    const meant = found.on.filter((list) => list.meant && transition(list.state, 'leave', true).changed);
    for (const list of meant) {
      await move(db, found, list, 'leave', now, visitor, reason.trim().slice(0, 1_000));
      if (!rehearsed)
        await noteForOwners(ctx, db, newsletter, 'left', { id: reader.id, address: reader.address, listName: list.name });
    }
    if (meant.length && !rehearsed) {
      await cancelWhatTheyLeft(ctx, db, reader.id);
      if (found.copy && ref.delivery) await countLeave(db, now, found, ref);
    }
    return said(found, true);
  });
}

/** Moves a reader on a list and keeps that they did. */
async function move(
  db: Db,
  { reader, newsletter }: Pick<Standing, 'reader' | 'newsletter'>,
  list: { id: string; name: string },
  act: ReaderAct & ('leave' | 'return'),
  now: Date,
  visitor: Visitor,
  reason = '',
): Promise<void> {
  const state = act === 'leave' ? 'left' : 'reading';
  await db
    .updateTable('memberships')
    .set({ state, since: now })
    .where('reader_id', '=', reader.id)
    .where('list_id', '=', list.id)
    .execute();
  await db
    .insertInto('consents')
    .values({
      newsletter_id: newsletter.id,
      reader_id: reader.id,
      list_id: list.id,
      list_name: list.name,
      act,
      state,
      at: now,
      actor: 'reader',
      wording: reason || null,
      network: visitor.network,
      agent: visitor.agent.slice(0, 300),
    })
    .execute();
}

/**
 * Takes leaving back, within a day and by the same link: only lists that this reader read until they left them so themselves, never what a complaint
 * or a bounce ended. Works twice. Throws "expired" where nothing of it can be taken back any more.
 */
export async function comeBack(ctx: Context, token: string, visitor: Visitor, listIds: string[]): Promise<Leaving> {
  const ref = refOf(ctx, token, 'leave');
  const back = await among(ctx, async (db): Promise<Leaving | 'expired' | null> => {
    await db.selectFrom('readers').select('id').where('id', '=', ref.readerId).forUpdate().executeTakeFirst();
    const before = await standing(db, ref);
    if (!before) return null;
    const now = ctx.clock.now();
    const { rows: left } = await sql<{ id: string; name: string }>`
      select l.id, l.name from memberships m join lists l on l.id = m.list_id cross join lateral (
        select act, at from consents c where c.reader_id = m.reader_id and c.list_id = m.list_id order by c.at desc, c.id desc limit 1) last
      where m.reader_id = ${ref.readerId} and m.state = 'left' and m.joined_at is not null and last.act = 'leave'
        and last.at > ${new Date(now.getTime() - RETURN_HOURS * 3_600_000)} and m.list_id::text = any(${listIds}::text[])`.execute(
      db,
    );
    for (const list of left) await move(db, before, list, 'return', now, visitor);
    const after = (await standing(db, ref))!;
    const reads = after.on.filter((list) => list.state === 'reading' && listIds.includes(list.id));
    if (reads.length === 0) return 'expired';
    return { ...said(after, false), lists: reads.map((list) => list.publicName), state: 'reading' };
  });
  if (back === 'expired')
    throw new Fault(
      'expired',
      'It is more than a day since you left, or nothing of it can be taken back. Sign up again to return.',
    );
  return back;
}

async function countLeave(db: Db, now: Date, { newsletter, reader, copy }: Standing, ref: LeaveRef): Promise<void> {
  const { sentOn, id } = ref.delivery!;
  const { rows } = await sql<{ id: string }>`
    update deliveries set left_at = ${now} where sent_on = ${sentOn}::date and id = ${String(id)} and left_at is null returning id`.execute(
    db,
  );
  if (rows.length === 0) return;
  await db
    .insertInto('events')
    .values({
      day: sentOn,
      at: now,
      newsletter_id: newsletter.id,
      letter_id: copy!.letterId,
      delivery_id: String(id),
      reader_id: reader.id,
      kind: 'leave',
    })
    .execute();
  await countLetters(db, [{ newsletterId: newsletter.id, letterId: copy!.letterId, domainId: copy!.domainId, left_count: 1 }]);
}

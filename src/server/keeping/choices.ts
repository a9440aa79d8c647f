import Joi from 'joi';
import { sql } from 'kysely';
import { LANES, type Lane } from '@/core/autosend/lanes';
import { Fault } from '@/core/faults';
import { choiceWords } from '@/core/readers/choice-words';
import { type ReaderState, transition } from '@/core/readers/state';
import { type LeavePurpose, type LeaveRef, ownToken, readLeaveToken } from '@/core/sending/token';
import { chooseRhythm, type Rhythms, rhythmsOf } from '../autosend/rhythms';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { writeMarks } from '../delivery/marks';
import { greet } from '../forms/arrive';
import { within } from '../limits';
import { post } from '../mail/post';
import { noteForOwners } from '../newsletters/alerts';
import { refuseClosing } from '../newsletters/newsletters';
import type { Visitor } from '../readers/visitor';
import { voiceOf } from '../senders/senders';
import { cancelWhatTheyLeft } from '../sending/silence';
import { lastAct } from './acts';

/*
 * The page on which readers choose what they get, by the link in every letter. Whoever has a letter can open it, so it shows no more than how many letters
 * say themselves; what is kept of somebody is shown by a link that goes to their own mailbox (keeping/own).
 */

export type Choices = {
  newsletter: Newsletter;
  readerId: string;
  /** Their address as far as a stranger may see it. */
  hint: string;
  lists: {
    id: string;
    name: string /** As the writer calls it. */;
    own: string;
    description: string;
    state: ReaderState | null;
  }[];
  /** Until when no letters come, as a day in the newsletter's zone; null while they come. */
  pausedUntil: string | null;
  textAlone: boolean;
  /** The rules whose rhythm they may choose. */
  rhythms: Rhythms[];
  /** Nothing is sent there any more, whatever they choose here. */
  suppressed: boolean;
};

const GONE = 'We do not know this reader any more, so nothing will come.';
export const PAUSES = { week: 7, month: 30, quarter: 91 } as const;
const OWN_HOURS = 24;
const OWN_A_DAY = 3;

function refOf(ctx: Context, token: string, purpose: LeavePurpose = 'choices'): LeaveRef {
  const ref = readLeaveToken(token, purpose, ctx.config.keys);
  if (!ref) throw new Fault('not-found', 'A part of this link is missing. Use the one at the end of any letter.');
  return ref;
}

/** An address of which a stranger learns little: its first letter and its domain. */
export const hintOf = (address: string): string => `${[...address][0]}…@${address.slice(address.lastIndexOf('@') + 1)}`;

/** A day as the newsletter's language says it, in its zone. */
const dayIn = ({ language, time_zone }: Pick<Newsletter, 'language' | 'time_zone'>, at: Date): string =>
  new Intl.DateTimeFormat(/^en\b/.test(language) ? 'en-GB' : language, {
    weekday: 'long',
    day: 'numeric',
    month: 'long',
    timeZone: time_zone,
  }).format(at);

async function standing(ctx: Context, db: Db, readerId: string): Promise<Choices> {
  const reader = await db
    .selectFrom('readers')
    .select(['id', 'newsletter_id', 'address', 'address_state', 'paused_until', 'text_alone'])
    .where('id', '=', readerId)
    .executeTakeFirst();
  if (!reader) throw new Fault('not-found', GONE);
  const newsletter = await db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', reader.newsletter_id)
    .executeTakeFirstOrThrow();
  if (newsletter.removed_at) throw new Fault('not-found', GONE);
  // What one is on, and what is open to everybody.
  const lists = await db
    .selectFrom('lists as l')
    .leftJoin('memberships as m', (join) => join.onRef('m.list_id', '=', 'l.id').on('m.reader_id', '=', readerId))
    .select(['l.id', 'l.public_name as name', 'l.name as own', 'l.description', 'm.state'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.archived_at', 'is', null)
    .where((eb) => eb.or([eb('l.public', '=', true), eb('m.state', 'in', ['reading', 'waiting'])]))
    .orderBy('l.position')
    .orderBy('l.created_at')
    .execute();
  const paused = reader.paused_until !== null && reader.paused_until > ctx.clock.now();
  return {
    newsletter,
    readerId,
    hint: hintOf(reader.address),
    lists,
    pausedUntil: paused ? dayIn(newsletter, reader.paused_until!) : null,
    textAlone: reader.text_alone,
    rhythms: await rhythmsOf(db, newsletter.id, readerId),
    suppressed: reader.address_state === 'suppressed',
  };
}

/** What the page shows. Changes nothing, whoever fetches it. */
export const choicesOf = async (ctx: Context, token: string): Promise<Choices> =>
  standing(ctx, ctx.db, refOf(ctx, token).readerId);

const schema = Joi.object<{ lists: string[]; textAlone: boolean; rhythms: Record<string, Lane> }>({
  lists: Joi.array().items(Joi.string().uuid()).max(200).default([]),
  textAlone: Joi.boolean().default(false),
  rhythms: Joi.object()
    .pattern(Joi.string().uuid(), Joi.valid(...LANES))
    .max(100)
    .default({}),
});

/**
 * Keeps which lists somebody wants and in what form, and answers how they stand then. Leaving a list cancels what waits for them by it. Coming onto one that
 * is open to everybody is an act of their own by a link from their mailbox, so it needs no other confirmation where they confirmed before.
 */
export async function keepChoices(ctx: Context, token: string, visitor: Visitor, raw: unknown): Promise<Choices> {
  const { readerId } = refOf(ctx, token);
  const wish = check(schema, raw);
  return inTransaction(ctx.db, async (trx) => {
    const reader = await trx
      .selectFrom('readers')
      .select(['address', 'confirmed'])
      .where('id', '=', readerId)
      .forUpdate()
      .executeTakeFirst();
    const before = await standing(ctx, trx, readerId);
    if (before.suppressed) throw new Fault('conflict', choiceWords(before.newsletter.language).gone);
    let left = false;
    const joined: string[] = [];
    for (const list of before.lists) {
      const wanted = wish.lists.includes(list.id);
      const has = list.state === 'reading' || list.state === 'waiting';
      if (wanted === has) continue;
      const { state } = transition(list.state, wanted ? 'ask' : 'leave', !reader!.confirmed);
      await moveOn(ctx, trx, before, { id: list.id, name: list.own }, state, wanted ? 'ask' : 'leave', visitor);
      if (!wanted) left = true;
      if (state === 'reading') joined.push(list.id);
      await noteForOwners(ctx, trx, before.newsletter, wanted ? 'joined' : 'left', {
        id: readerId,
        address: reader!.address,
        listName: list.own,
      });
    }
    await greet(ctx, trx, before.newsletter, { id: readerId, address: reader!.address }, joined);
    if (left) await cancelWhatTheyLeft(ctx, trx, readerId);
    await trx.updateTable('readers').set({ text_alone: wish.textAlone }).where('id', '=', readerId).execute();
    for (const rule of before.rhythms) {
      const lane = wish.rhythms[rule.id];
      if (lane && lane !== rule.chosen && rule.offered.some((one) => one.lane === lane))
        await chooseRhythm(ctx, trx, readerId, rule, lane);
    }
    return standing(ctx, trx, readerId);
  });
}

async function moveOn(
  ctx: Context,
  db: Db,
  { newsletter, readerId }: Choices,
  list: { id: string; name: string },
  state: ReaderState,
  act: 'ask' | 'leave',
  visitor: Visitor,
): Promise<void> {
  const now = ctx.clock.now();
  await sql`
    insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
    values (${readerId}, ${list.id}, ${newsletter.id}, ${state}, ${now}, ${state === 'reading' ? now : null})
    on conflict (reader_id, list_id) do update set state = excluded.state, since = excluded.since, joined_at = coalesce(memberships.joined_at, excluded.joined_at)`.execute(
    db,
  );
  await entry(ctx, db, newsletter, { readerId, act, state, list, visitor });
}

type Entry = {
  readerId: string;
  act: 'ask' | 'leave' | 'pause' | 'go on' | 'move' | 'stay';
  state: string;
  list?: { id: string; name: string };
  visitor: Visitor;
  wording?: string;
};
/** Adds to the record of consent what a reader did by themselves. */
export const entry = (
  ctx: Context,
  db: Db,
  newsletter: Pick<Newsletter, 'id'>,
  { readerId, act, state, list, visitor, wording }: Entry,
) =>
  db
    .insertInto('consents')
    .values({
      newsletter_id: newsletter.id,
      reader_id: readerId,
      list_id: list?.id ?? null,
      list_name: list?.name ?? null,
      act,
      state,
      at: ctx.clock.now(),
      actor: 'reader',
      wording: wording ?? null,
      network: visitor.network,
      agent: visitor.agent.slice(0, 300),
    })
    .execute();

/** Lets no letters come for a while, or again at once. Letters pass by meanwhile, those that wait for them already too. */
export async function pause(ctx: Context, token: string, visitor: Visitor, how: string): Promise<Choices> {
  const { readerId } = refOf(ctx, token);
  const days = how === 'end' ? 0 : PAUSES[how as keyof typeof PAUSES];
  if (days === undefined) throw new Fault('invalid', 'Choose for how long.');
  return inTransaction(ctx.db, async (trx) => {
    const before = await standing(ctx, trx, readerId);
    const until = days ? new Date(ctx.clock.now().getTime() + days * 86_400_000) : null;
    if (until || before.pausedUntil) {
      await trx.updateTable('readers').set({ paused_until: until }).where('id', '=', readerId).execute();
      await entry(ctx, trx, before.newsletter, {
        readerId,
        act: until ? 'pause' : 'go on',
        state: 'as before',
        visitor,
        wording: until ? `Until ${until.toISOString().slice(0, 10)}` : undefined,
      });
    }
    return standing(ctx, trx, readerId);
  });
}

/** What the link of a last question leads to. Changes nothing. */
export async function staying(ctx: Context, token: string): Promise<Choices> {
  const ref = refOf(ctx, token, 'stay');
  const found = await standing(ctx, ctx.db, ref.readerId);
  refuseClosing(found.newsletter);
  if (found.suppressed) throw new Fault('conflict', choiceWords(found.newsletter.language).gone);
  return found;
}

/**
 * Somebody says that they want to go on reading, and counts as whoever has just followed a link. Off which lists a member has taken them meanwhile they come
 * back onto, by their own act; who left by themselves, or may not be written to, is told so. Works twice.
 */
export async function stay(ctx: Context, token: string, visitor: Visitor): Promise<Choices> {
  const { readerId, delivery } = refOf(ctx, token, 'stay');
  const found = await inTransaction(ctx.db, async (trx) => {
    await trx.selectFrom('readers').select('id').where('id', '=', readerId).forUpdate().executeTakeFirst();
    const before = await staying({ ...ctx, db: trx }, token);
    const { rows } = await sql<{ id: string; name: string }>`
      select l.id, l.name from memberships m join lists l on l.id = m.list_id
      where m.reader_id = ${readerId} and m.state = 'left' and m.joined_at is not null and ${lastAct(sql`m`)} = 'take off' order by l.id`.execute(
      trx,
    );
    for (const list of rows) await moveOn(ctx, trx, before, list, 'reading', 'ask', visitor);
    if (rows.length === 0 && !before.lists.some((list) => list.state === 'reading' || list.state === 'waiting'))
      throw new Fault('conflict', choiceWords(before.newsletter.language).gone);
    await trx.updateTable('readers').set({ last_clicked_at: ctx.clock.now() }).where('id', '=', readerId).execute();
    await entry(ctx, trx, before.newsletter, { readerId, act: 'stay', state: 'as before', visitor });
    return before;
  });
  if (delivery && found.newsletter.count_clicks)
    await writeMarks(ctx, [
      { ref: delivery, kind: 'click', at: ctx.clock.now(), agent: visitor.agent, method: 'GET', link: null },
    ]);
  return found;
}

/** Mails the link to what is kept of somebody to their own mailbox; at most three a day. Throws "too-many". */
export async function askForOwn(ctx: Context, token: string): Promise<Choices> {
  const { readerId } = refOf(ctx, token);
  const found = await choicesOf(ctx, token);
  const { newsletter } = found;
  refuseClosing(newsletter);
  const words = choiceWords(newsletter.language, newsletter.name);
  if (!(await within(ctx, `own:${readerId}`, OWN_A_DAY, 86_400))) throw new Fault('too-many', words.tooOften);
  const until = new Date(ctx.clock.now().getTime() + OWN_HOURS * 3_600_000);
  await inTransaction(ctx.db, async (trx) => {
    const { address } = await trx.selectFrom('readers').select('address').where('id', '=', readerId).executeTakeFirstOrThrow();
    await noticeTo(ctx, trx, newsletter, {
      readerId,
      to: address,
      heading: words.ownHeld,
      words: words.ownMail,
      link: { label: words.own, url: `${ctx.config.linkOrigin}/e/own/${ownToken(readerId, until, ctx.config.keys)}` },
    });
  });
  return found;
}

type Note = { readerId: string; to: string; heading: string; words: string; link?: { label: string; url: string } };
/** A short mail from a newsletter to one reader about what they asked for. */
export async function noticeTo(
  ctx: Context,
  db: Db,
  newsletter: Newsletter,
  { readerId, to, heading, words, link }: Note,
): Promise<void> {
  const voice = await voiceOf(ctx, db, newsletter);
  await post(ctx, db, {
    newsletterId: newsletter.id,
    kind: 'confirmation',
    readerId,
    from: voice,
    to,
    subject: heading,
    notice: {
      name: newsletter.name,
      colour: newsletter.colour,
      heading,
      paragraphs: [words],
      ...(link ? { link } : {}),
      footer: [newsletter.postal_address.replace(/\s*\n\s*/g, ', ')],
      language: newsletter.language,
    },
  });
}

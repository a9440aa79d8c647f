import { sql } from 'kysely';
import { wordingShown } from '@/core/forms/definition';
import { folded } from '@/core/readers/condition';
import { RESEND_MINUTES, transition } from '@/core/readers/state';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { inRehearsal } from '../db/rehearsal';
import { hexBytes, insertRows } from '../db/rows';
import { newId } from '../ids';
import { countUses } from '../limits';
import { postAll } from '../mail/post';
import { noteForOwners } from '../newsletters/alerts';
import { type KnownVoice, pickVoice, voicesOf } from '../senders/senders';
import { type Asked, arrive, confirmationLetter } from './arrive';
import { countForms } from './counts';
import { keepAnswers } from './fields';
import { marksOf } from './forms';
import { release } from './held';
import type { Wish } from './wish';

/** The brake against list bombing: an address gets no more confirmation letters a day, whichever newsletter asks. */
const BRAKE = { most: 3, seconds: 86_400 };

const ADDRESS_LIMIT = { most: 6, seconds: 3600 };
const NETWORK_LIMIT = { most: 60, seconds: 600 };
const FORM_LIMIT = { most: 3_000, seconds: 60 };
/** Beyond these a form is under attack, and visitors' machines have to show work. Ordinary visitors never meet it. */
const CALM = { form: 600, network: 20 };

export type Asking = { wish: Wish /** Work was shown for it, or the writer lets them in. */; proven: boolean };
export type Outcome = 'kept' | 'stale' | 'too-many' | 'proof';
type Kept = { wish: Wish; readerId: string; fresh: boolean };
type List = { id: string; newsletter_id: string; name: string; public_name: string; double_opt_in: boolean };

/**
 * Keeps wishes, each within its limits and of a form that has not changed meanwhile, in one transaction: a fixed number of statements for
 * however many there are. No two may be of the same reader. Rows are locked in one order everywhere (readers, memberships, limits, counts), so
 * that processes that keep at once wait for each other. Says for each what became of it.
 */
export async function keepWishes(ctx: Context, asking: Asking[]): Promise<Outcome[]> {
  const newsletters = [...new Set(asking.map(({ wish }) => wish.form.newsletter.id))];
  const [outcomes, lists, voices] = await Promise.all([
    judge(ctx, asking),
    listsOf(ctx.db, newsletters),
    voicesOf(ctx.db, newsletters),
  ]);
  const wishes = asking.filter((_, n) => outcomes[n] === 'kept').map(({ wish }) => wish);
  if (wishes.length === 0) return outcomes;
  const [tries, visitors] = [wishes.filter((wish) => wish.trialId), wishes.filter((wish) => !wish.trialId)];
  if (visitors.length)
    await ctx.db.transaction().execute(async (trx) => {
      await release(trx, visitors);
      await keepAll(ctx, trx, visitors, lists, voices);
    });
  if (tries.length) await inRehearsal(ctx.db, (trx) => keepAll(ctx, trx, tries, lists, voices));
  return outcomes;
}

async function keepAll(ctx: Context, trx: Db, wishes: Wish[], lists: List[], voices: KnownVoice[]): Promise<void> {
  const kept = await keepReaders(ctx, trx, wishes);
  await keepAnswers(
    ctx,
    trx,
    kept.map(({ wish, readerId }) => ({ newsletterId: wish.form.newsletter.id, readerId, answers: wish.answers.fields })),
  );
  const { moved, toConfirm } = await keepStandings(ctx, trx, kept, lists);
  await mailConfirmations(ctx, trx, toConfirm, voices);
  await welcome(
    ctx,
    trx,
    moved.filter((step) => step.state === 'reading'),
  );
  // Counts last: their rows are shared by everybody who signs up at this moment, and stay locked until the commit.
  await countForms(
    ctx,
    trx,
    wishes.map(({ form, variant }) => ({ newsletter: form.newsletter, formId: form.id, field: 'sent_in', variant })),
  );
}

/** Which of these may be kept: their form is as they knew it, and none of their limits is passed. Counts them on their limits. */
async function judge(ctx: Context, asking: Asking[]): Promise<Outcome[]> {
  const marks = await marksOf(
    ctx.db,
    asking.map(({ wish }) => wish.form.id),
  );
  const outcomes = asking.map(({ wish }): Outcome => (marks.get(wish.form.id) === wish.form.mark ? 'kept' : 'stale'));
  const still = () => asking.map((one, n) => ({ ...one, n })).filter(({ wish, n }) => outcomes[n] === 'kept' && !wish.trialId);
  // Who shows work was counted when they were asked for it: each proof is good once.
  const visitors = still().filter(({ proven }) => !proven);
  const uses = await countUses(
    ctx,
    visitors.flatMap(({ wish }) => [
      { key: `join-network:${wish.visitor.network}`, seconds: NETWORK_LIMIT.seconds },
      { key: `join-address:${wish.answers.address.key}`, seconds: ADDRESS_LIMIT.seconds },
    ]),
  );
  visitors.forEach(({ n, wish }, place) => {
    const [network, address] = uses.slice(place * 2) as [number, number];
    if (network > NETWORK_LIMIT.most || address > ADDRESS_LIMIT.most) outcomes[n] = 'too-many';
    else if (wish.doubt || network > CALM.network) outcomes[n] = 'proof';
  });
  // What was stopped above does not count against the form: nobody shuts it for others from one network.
  await spend(ctx, still(), outcomes, 'join-form', CALM.form, ({ proven }) => (proven ? 'kept' : 'proof'));
  await spend(
    ctx,
    still().filter(({ proven }) => proven),
    outcomes,
    'join-form-proven',
    FORM_LIMIT.most,
    () => 'too-many',
  );
  return outcomes;
}

/** Counts these on their forms, and gives those beyond `most` another outcome. */
async function spend(
  ctx: Context,
  asking: (Asking & { n: number })[],
  outcomes: Outcome[],
  name: string,
  most: number,
  beyond: (one: Asking) => Outcome,
): Promise<void> {
  const numbers = await countUses(
    ctx,
    asking.map(({ wish }) => ({ key: `${name}:${wish.form.id}`, seconds: FORM_LIMIT.seconds })),
  );
  asking.forEach((one, place) => {
    if (numbers[place]! > most) outcomes[one.n] = beyond(one);
  });
}

const listsOf = (db: Db, newsletters: string[]): Promise<List[]> =>
  db
    .selectFrom('lists')
    .select(['id', 'newsletter_id', 'name', 'public_name', 'double_opt_in'])
    .where(sql<boolean>`newsletter_id = any(${newsletters}::uuid[])`)
    .execute();

const READER_COLUMNS = [
  'id',
  'newsletter_id',
  'address',
  'address_key',
  'first_name',
  'name_key',
  'source_form_id',
  'source_page',
  'source_referrer',
  'first_touch',
  'last_touch',
  'source_class',
  'source_name',
  'source_placement',
  'source_variant',
  'source_language',
  'zone',
  'created_at',
] as const;

async function keepReaders(ctx: Context, db: Db, wishes: Wish[]): Promise<Kept[]> {
  const now = ctx.clock.now();
  const rows = wishes.map((wish) => ({
    id: wish.trialId ?? newId(),
    newsletter_id: wish.form.newsletter.id,
    address: wish.answers.address.full,
    // A writer may try two forms at once with the same address.
    address_key: wish.trialId ? `trial ${wish.trialId}` : wish.answers.address.key,
    first_name: wish.answers.firstName,
    name_key: wish.answers.firstName && folded(wish.answers.firstName),
    source_form_id: wish.form.id,
    source_page: wish.page,
    source_referrer: wish.referrer,
    first_touch: wish.first,
    last_touch: wish.last,
    source_class: wish.sourceClass,
    source_name: wish.sourceName,
    source_placement: wish.placement,
    source_variant: wish.variant || null,
    source_language: wish.definition.language,
    zone: wish.zone,
    created_at: now,
  }));
  const name = (row: { newsletter_id: string; address_key: string }) => `${row.newsletter_id} ${row.address_key}`;
  const sorted = [...rows].sort((a, b) => (name(a) < name(b) ? -1 : 1));
  // On conflict an update of next to nothing, so that the row is locked and returned: two processes at once queue up here.
  const { rows: stored } = await sql<{ id: string; newsletter_id: string; address_key: string; fresh: boolean }>`
    ${insertRows('readers', READER_COLUMNS, sorted)}
    on conflict (newsletter_id, address_key) do update set first_name = coalesce(excluded.first_name, readers.first_name), name_key = coalesce(excluded.name_key, readers.name_key),
      zone = coalesce(excluded.zone, readers.zone)
    returning id, newsletter_id, address_key, xmax = 0 as fresh`.execute(db);
  const found = new Map(stored.map((row) => [name(row), row]));
  return wishes.map((wish, n) => {
    const row = found.get(name(rows[n]!))!;
    return { wish, readerId: row.id, fresh: row.fresh };
  });
}

/** What a form promised for the moment somebody reads, where their lists ask for no confirmation. */
async function welcome(ctx: Context, db: Db, steps: Step[]): Promise<void> {
  const arrived = new Set<string>();
  for (const { kept, list } of steps) {
    const { wish, readerId } = kept;
    const { newsletter } = wish.form;
    const who = { id: readerId, address: wish.answers.address.full, trial: wish.trialId !== null };
    const theirs = steps.filter((step) => step.kept.readerId === readerId).map((step) => step.list.id);
    if (!arrived.has(readerId)) await arrive(ctx, db, { ...wish.form, definition: wish.definition }, newsletter, who, theirs);
    arrived.add(readerId);
    if (!who.trial) await noteForOwners(ctx, db, newsletter, 'joined', { ...who, listName: list.name });
  }
}

type Step = { kept: Kept; list: List; state: 'waiting' | 'reading' | 'left' };

/** Moves each reader on each list they asked for, and keeps the consent. */
async function keepStandings(ctx: Context, db: Db, kept: Kept[], lists: List[]): Promise<{ moved: Step[]; toConfirm: Step[] }> {
  const now = ctx.clock.now();
  // Somebody new stands nowhere yet.
  const known = kept.filter((one) => !one.fresh).map((one) => one.readerId);
  const standing = known.length
    ? await db
        .selectFrom('memberships')
        .select(['reader_id', 'list_id', 'state'])
        .where(sql<boolean>`reader_id = any(${known}::uuid[])`)
        .execute()
    : [];
  const from = new Map(standing.map((row) => [`${row.reader_id} ${row.list_id}`, row.state]));
  const moved: Step[] = [];
  const toConfirm: Step[] = [];
  const consents: Step[] = [];
  for (const one of kept) {
    const asked = lists.filter((list) => one.wish.listIds.includes(list.id));
    for (const list of asked) {
      const step = transition(from.get(`${one.readerId} ${list.id}`) ?? null, 'ask', list.double_opt_in || one.wish.letIn);
      const entry: Step = { kept: one, list, state: step.state };
      if (step.changed) moved.push(entry);
      if (step.changed || step.sendsConfirmation) consents.push(entry);
      if (step.sendsConfirmation) toConfirm.push(entry);
    }
  }
  if (moved.length) {
    const rows = moved.map((step) => ({
      reader_id: step.kept.readerId,
      list_id: step.list.id,
      newsletter_id: step.list.newsletter_id,
      state: step.state,
      since: now,
      joined_at: step.state === 'reading' ? now : null,
    }));
    await sql`
      ${insertRows('memberships', ['reader_id', 'list_id', 'newsletter_id', 'state', 'since', 'joined_at'], rows)}
      on conflict (reader_id, list_id) do update set state = excluded.state, since = excluded.since, joined_at = excluded.joined_at`.execute(
      db,
    );
  }
  if (consents.length) {
    const rows = consents.map(({ kept: { wish, readerId }, list, state }) => ({
      newsletter_id: list.newsletter_id,
      reader_id: readerId,
      list_id: list.id,
      list_name: list.name,
      act: 'ask',
      state,
      at: now,
      actor: 'reader',
      form_id: wish.form.id,
      page: wish.page,
      referrer: wish.referrer,
      wording: wordingShown(wish.definition),
      network: wish.visitor.network,
      agent: wish.visitor.agent.slice(0, 300),
    }));
    await insertRows('consents', CONSENT_COLUMNS, rows).execute(db);
  }
  return { moved, toConfirm };
}

const CONSENT_COLUMNS = [
  'newsletter_id',
  'reader_id',
  'list_id',
  'list_name',
  'act',
  'state',
  'at',
  'actor',
  'form_id',
  'page',
  'referrer',
  'wording',
  'network',
  'agent',
] as const;

/** Confirmation letters, one a reader. A suppressed address gets one too: asking again is its owner's own act, and only their click brings them back. */
async function mailConfirmations(ctx: Context, db: Db, steps: Step[], voices: KnownVoice[]): Promise<void> {
  const byReader = new Map<string, { kept: Kept; lists: List[] }>();
  for (const { kept, list } of steps) {
    const one = byReader.get(kept.readerId);
    if (one) one.lists.push(list);
    else byReader.set(kept.readerId, { kept, lists: [list] });
  }
  const asking = await mayMail(ctx, db, [...byReader.values()]);
  if (asking.length === 0) return;
  const letters = asking.map(({ kept: { wish, readerId }, lists }) => {
    const { newsletter } = wish.form;
    const asked: Asked = {
      form: { ...wish.form, definition: wish.definition },
      newsletter,
      reader: { id: readerId, address: wish.answers.address.full },
      lists,
      variant: wish.variant,
    };
    const wanted = wish.definition.next.confirmation.senderId;
    return confirmationLetter(ctx, asked, pickVoice(ctx, voices, newsletter, wanted));
  });
  await insertRows(
    'confirmations',
    ['token_hash', 'newsletter_id', 'reader_id', 'list_ids', 'form_id', 'variant', 'sent_at', 'expires_at'],
    letters.map(({ row }) => ({ ...row, token_hash: hexBytes(row.token_hash) })),
  ).execute(db);
  await postAll(
    ctx,
    db,
    letters.map(({ mail }) => mail),
  );
}

/** May these addresses get one more confirmation letter today? Counts it. */
export async function mayAsk(ctx: Pick<Context, 'db'>, addressKeys: string[]): Promise<boolean[]> {
  const numbers = await countUses(
    ctx,
    addressKeys.map((key) => ({ key: `confirmations:${key}`, seconds: BRAKE.seconds })),
  );
  return numbers.map((number) => number <= BRAKE.most);
}

/** Not within ten minutes of the last confirmation letter, and not more than three a day to one address from the whole installation. */
async function mayMail<T extends { kept: Kept }>(ctx: Context, db: Db, asking: T[]): Promise<T[]> {
  const known = asking.filter(({ kept }) => !kept.fresh).map(({ kept }) => kept.readerId);
  const mailed = known.length
    ? await db
        .selectFrom('confirmations')
        .select('reader_id')
        .where(sql<boolean>`reader_id = any(${known}::uuid[])`)
        .where('sent_at', '>', new Date(ctx.clock.now().getTime() - RESEND_MINUTES * 60_000))
        .execute()
    : [];
  const lately = new Set(mailed.map((row) => row.reader_id));
  const due = asking.filter(({ kept }) => !lately.has(kept.readerId));
  // The writer's own try neither uses up the day's letters of their address nor is stopped by them.
  const braked = due.filter(({ kept }) => !kept.wish.trialId);
  if (braked.length === 0) return due;
  const fine = await mayAsk(
    { db },
    braked.map(({ kept }) => kept.wish.answers.address.key),
  );
  const stopped = new Set(braked.filter((_, n) => !fine[n]));
  return due.filter((one) => !stopped.has(one));
}

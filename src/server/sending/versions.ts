import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { type LetterState, statesFor } from '@/core/sending/letter-state';
import { type LetterTest, TRIED_WORDS, type Version, verdictWords } from '@/core/sending/letter-test';
import { figuresOf } from '@/core/sending/result';
import { letterTestSchema } from '@/core/sending/schemas';
import { type Arm, verdictOf } from '@/core/sending/subject-test';
import { lineForAll } from '@/core/writing/line';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import type { KeptVerdict } from '../db/schema';
import { mailOwners } from '../newsletters/alerts';
import { relayOf } from './recipients';
import { countedCopies } from './results';

/* A letter's other versions: how they are said, tried on a part of its readers, decided, and the rest let go. */

export type VersionRow = Version & { n: number; sender: { name: string; address: string; confirmed: boolean } | null };

/** A letter's versions beside itself, in their order. */
export async function versionsOf(db: Db, letterId: string): Promise<VersionRow[]> {
  const rows = await db
    .selectFrom('letter_versions as v')
    .leftJoin('senders as s', 's.id', 'v.sender_id')
    .select(['v.n', 'v.subject', 'v.sender_id', 'v.beginning', 'v.from_name', 'v.from_address'])
    .select(['s.name', 's.address', 's.confirmed_at'])
    .where('v.letter_id', '=', letterId)
    .orderBy('v.n')
    .execute();
  return rows.map((row) => ({
    n: row.n,
    subject: row.subject,
    senderId: row.sender_id,
    beginning: row.beginning,
    sender: row.address
      ? { name: row.name ?? '', address: row.address, confirmed: row.confirmed_at !== null }
      : row.from_address
        ? { name: row.from_name ?? '', address: row.from_address, confirmed: true }
        : null,
  }));
}

/** What keeps a letter's versions from leaving, in a sentence; null for nothing. */
export function amissOfVersions(
  test: LetterTest | null,
  own: { subject: string; senderId: string | null },
  versions: VersionRow[],
  domain: string | null,
): string | null {
  if (!test) return null;
  if (versions.length === 0) return 'It is to be tried in versions, and there is but one.';
  for (const version of versions) {
    if (test.by === 'subject' && !version.subject.trim()) return 'One of the subjects that it is tried with is empty.';
    if (test.by === 'beginning' && !version.beginning.trim()) return 'One of the beginnings that it is tried with is empty.';
    if (test.by === 'subject' && version.subject.trim() === own.subject.trim())
      return 'Two of the subjects that it is tried with are the same.';
    if (test.by !== 'sender') continue;
    if (version.senderId !== null && version.senderId === own.senderId)
      return 'Two of the senders that it is tried with are the same.';
    if (!version.sender) return 'A sender that it is tried with was removed.';
    if (!version.sender.confirmed) return `${version.sender.address} is not confirmed yet, and it is tried with it.`;
    if (domain !== null && !version.sender.address.endsWith(`@${domain}`))
      return `${version.sender.address} is not at ${domain}: senders that are tried against each other have one domain.`;
  }
  return null;
}

/** What each version is called, the letter itself first. */
export function versionNames(
  test: LetterTest,
  letter: { subject: string; sender: string; beginning: string },
  versions: VersionRow[],
): string[] {
  const of = { subject: lineForAll(letter.subject), sender: letter.sender, beginning: letter.beginning };
  return [of[test.by], ...versions.map((one) => nameOf(test, one))];
}
const nameOf = (test: LetterTest, one: VersionRow): string =>
  test.by === 'subject'
    ? lineForAll(one.subject)
    : test.by === 'sender'
      ? one.sender
        ? `${one.sender.name} <${one.sender.address}>`
        : 'A sender that was removed'
      : one.beginning;

/**
 * Says how a letter's versions are tried, or that there is but one (`null`). Throws "conflict" once it has begun, and "invalid" for what could not be decided or sent.
 */
export async function saveTest(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const said = raw === null ? null : check(letterTestSchema, raw);
  await ctx.db.transaction().execute(async (trx) => {
    const row = await trx
      .selectFrom('letters')
      .select(['state', 'subject', 'sender_id', 'departure'])
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .forUpdate()
      .executeTakeFirst();
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    if (!statesFor('schedule').includes(row.state)) throw new Fault('conflict', 'This letter has begun to leave already.');
    await trx.deleteFrom('letter_versions').where('letter_id', '=', id).execute();
    if (!said) {
      await trx.updateTable('letters').set({ test: null }).where('id', '=', id).execute();
      return;
    }
    const { versions, ...test } = said;
    if (test.decides === 'opens' && !newsletter.count_opens)
      throw new Fault(
        'invalid',
        'Openings are not counted, so they cannot decide. Count them in Settings, or let clicks decide.',
      );
    if (test.decides === 'clicks' && !newsletter.count_clicks)
      throw new Fault(
        'invalid',
        'Clicks are not counted, so they cannot decide. Count them in Settings, or let openings decide.',
      );
    if (row.departure?.pace.kind === 'local hour')
      throw new Fault(
        'invalid',
        'Versions are tried at one moment, and this letter leaves at each reader’s own hour. Give it another pace first.',
      );
    const mine = test.by === 'subject' ? row.subject : test.by === 'sender' ? row.sender_id : null;
    const others = versions.map((one) =>
      test.by === 'subject' ? one.subject : test.by === 'sender' ? one.senderId : one.beginning,
    );
    if (others.some((one) => !one?.trim())) throw new Fault('invalid', `Say each ${TRIED_WORDS[test.by].one}, or take it out.`);
    const all = mine === null ? others : [mine, ...others];
    if (new Set(all.map((one) => one!.trim())).size < all.length)
      throw new Fault('invalid', `Two of these ${TRIED_WORDS[test.by].many} are the same.`);
    const named = versions.flatMap((one) => (test.by === 'sender' && one.senderId ? [one.senderId] : []));
    const known = named.length
      ? await trx.selectFrom('senders').select('id').where('newsletter_id', '=', newsletter.id).where('id', 'in', named).execute()
      : [];
    if (known.length < named.length) throw new Fault('invalid', 'One of these senders is not there any more. Choose another.');
    await trx
      .insertInto('letter_versions')
      .values(
        versions.map((one, n) => ({
          letter_id: id,
          n: n + 1,
          subject: test.by === 'subject' ? one.subject : '',
          sender_id: test.by === 'sender' ? one.senderId : null,
          beginning: test.by === 'beginning' ? one.beginning : '',
        })),
      )
      .execute();
    await trx
      .updateTable('letters')
      .set({ test: JSON.stringify(test) })
      .where('id', '=', id)
      .execute();
    const own = { subject: row.subject, senderId: row.sender_id };
    const amiss = amissOfVersions(test, own, await versionsOf(trx, id), await domainOf(trx, newsletter, row.sender_id));
    if (amiss) throw new Fault('invalid', amiss);
  });
}

async function domainOf(db: Db, newsletter: Newsletter, senderId: string | null): Promise<string | null> {
  const row = await db
    .selectFrom('senders')
    .select('domain')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', senderId)
    .executeTakeFirst();
  return row?.domain ?? null;
}

type Deciding = {
  id: string;
  newsletter_id: string;
  test: LetterTest;
  subject: string;
  sent_on: string;
  started_at: Date;
  first_copy: string;
  last_copy: string;
};

/** How its versions have done so far: of those who got each, how many did what decides; and the share of them that is still on its way. */
async function armsOf(db: Db, letter: Deciding): Promise<{ arms: Arm[]; onItsWay: number }> {
  const versions = await versionsOf(db, letter.id);
  const copies = await countedCopies(db, letter);
  const figures = figuresOf(copies, versions.length + 1);
  const sum = (some: typeof copies) => some.reduce((all, one) => all + one.n, 0);
  return {
    arms: figures.versions.map((one) => ({ got: one.got, did: letter.test.decides === 'clicks' ? one.clicked : one.read })),
    onItsWay: sum(copies.filter((one) => one.waiting)) / Math.max(1, sum(copies)),
  };
}

/** With more than this share of its copies still on their way a test is not decided: nobody knows yet what they would do. They arrive or are given up within two days. */
const MOST_ON_THEIR_WAY = 0.1;
const LATER_MS = 3_600_000;

const DECIDED_IN: LetterState[] = ['sending', 'sent'];

/** The letters whose tests are to be decided: on their way, or gone to everybody already; one that is paused is decided once it goes on. */
export async function testsDue(ctx: Context): Promise<{ id: string }[]> {
  return ctx.db
    .selectFrom('letters')
    .select('id')
    .where('state', 'in', DECIDED_IN)
    .where('test', 'is not', null)
    .where('verdict', 'is', null)
    .where('winner', 'is', null)
    .where('decide_at', '<=', ctx.clock.now())
    .limit(20)
    .execute();
}

/** Does anybody wait to be let go? */
async function someKept(db: Db, id: string, sentOn: string): Promise<boolean> {
  const { rows } = await sql`
    select 1 from deliveries where letter_id = ${id} and sent_on = ${sentOn}::date and state = 'kept' limit 1`.execute(db);
  return rows.length > 0;
}

/** The letters of which some wait to be let go: the rest of a test that is decided, or who joined later. */
export async function restsDue(ctx: Context): Promise<{ id: string }[]> {
  const open = await ctx.db
    .selectFrom('letters')
    .select(['id', 'sent_on'])
    .where('state', '=', 'sending')
    .where((eb) => eb.or([eb('winner', 'is not', null), eb('test', 'is', null)]))
    .execute();
  const due: { id: string }[] = [];
  // One by one: each is in one month's partition, where a join would be planned over all of them.
  for (const { id, sent_on } of open) {
    if (sent_on && (await someKept(ctx.db, id, sent_on))) due.push({ id });
  }
  return due;
}

/**
 * Decides a test whose time has come: the clear winner, or, where none is clear, the one that is ahead, goes to the rest; or the rest waits for its writer.
 * Its owners are told by mail. Safe to call twice.
 */
export async function decideTest(ctx: Context, id: string): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    const letter = await lockedTest(trx, id);
    if (!letter || letter.verdict || !letter.decide_at || letter.decide_at > ctx.clock.now()) return;
    const { arms, onItsWay } = await armsOf(trx, letter);
    if (onItsWay > MOST_ON_THEIR_WAY) {
      const later = new Date(ctx.clock.now().getTime() + LATER_MS);
      await trx.updateTable('letters').set({ decide_at: later }).where('id', '=', id).execute();
      return;
    }
    const verdict: KeptVerdict = { ...verdictOf(arms), arms, at: ctx.clock.now().toISOString(), by: null };
    const rest = await someKept(trx, id, letter.sent_on);
    await trx
      .updateTable('letters')
      .set({
        verdict: JSON.stringify(verdict),
        ...(rest && letter.test.rest === 'goes' ? { winner: verdict.winner ?? verdict.leader } : {}),
      })
      .where('id', '=', id)
      .execute();
    await tellVerdict(ctx, trx, letter, verdict, rest);
  });
}

type Locked = Deciding & { verdict: KeptVerdict | null; decide_at: Date | null };

async function lockedTest(db: Db, id: string): Promise<Locked | undefined> {
  const row = await db
    .selectFrom('letters')
    .select([
      'id',
      'newsletter_id',
      'test',
      'verdict',
      'subject',
      'sent_on',
      'started_at',
      'decide_at',
      'first_copy',
      'last_copy',
    ])
    .where('id', '=', id)
    .where('state', 'in', DECIDED_IN)
    .where('winner', 'is', null)
    .where('test', 'is not', null)
    .forUpdate()
    .skipLocked()
    .executeTakeFirst();
  return row?.sent_on && row.first_copy ? (row as Locked) : undefined;
}

async function tellVerdict(ctx: Context, db: Db, letter: Deciding, verdict: KeptVerdict, rest: boolean): Promise<void> {
  const newsletter = await db
    .selectFrom('newsletters')
    .select(['name', 'slug'])
    .where('id', '=', letter.newsletter_id)
    .executeTakeFirstOrThrow();
  const title = lineForAll(letter.subject) || 'Your letter';
  const waits = rest && letter.test.rest === 'waits';
  const versions = await versionsOf(db, letter.id);
  const names = versionNames(
    letter.test,
    { subject: letter.subject, sender: 'the usual sender', beginning: 'the letter’s own beginning' },
    versions,
  );
  await mailOwners(
    ctx,
    db,
    letter.newsletter_id,
    newsletter,
    waits ? `“${title}” waits for you` : `The test of “${title}” is decided`,
    [
      verdictWords(verdict, letter.test.decides, names),
      !rest
        ? 'Everybody had got one of them already.'
        : waits
          ? 'The rest of its readers wait until you say which one they get.'
          : `The rest of its readers get “${names[verdict.winner ?? verdict.leader]}” now.`,
    ],
    `/letters/${letter.id}`,
    { told: 'must know' },
  );
}

/**
 * Says which version the rest gets, before the test is over or after it: what a writer decides counts. Throws "conflict" where it is decided already, or
 * nobody waits.
 */
export async function chooseVersion(ctx: Context, newsletter: Newsletter, id: string, n: number, by: string): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    const row = await trx
      .selectFrom('letters')
      .select([
        'id',
        'state',
        'test',
        'winner',
        'verdict',
        'sent_on',
        'first_copy',
        'last_copy',
        'started_at',
        'subject',
        'newsletter_id',
      ])
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .forUpdate()
      .executeTakeFirst();
    if (!row?.test || !row.sent_on || !row.first_copy) throw new Fault('not-found', 'There is no such test.');
    if (row.winner !== null) throw new Fault('conflict', 'The rest is on its way already. Nothing was changed.');
    if (row.state !== 'sending' && row.state !== 'paused')
      throw new Fault('conflict', 'This letter is over. Nobody waits for it.');
    const versions = await versionsOf(trx, id);
    if (!Number.isInteger(n) || n < 0 || n > versions.length) throw new Fault('invalid', 'Choose one of its versions.');
    const letter = row as Deciding;
    const arms = row.verdict?.arms ?? (await armsOf(trx, letter)).arms;
    const verdict: KeptVerdict = {
      ...(row.verdict ?? verdictOf(arms)),
      arms,
      at: row.verdict?.at ?? ctx.clock.now().toISOString(),
      by,
    };
    await trx
      .updateTable('letters')
      .set({ winner: n, verdict: JSON.stringify(verdict) })
      .where('id', '=', id)
      .execute();
  });
}

/** So many of the rest are let go in one transaction: nobody waits long for it, and a crash in between loses nothing. */
const PORTION = 20_000;

/**
 * Lets go those who waited for the end of a test, or joined later, a portion at a time: each has been one of the letter's recipients since it began, so that nobody gets it
 * twice. Returns whether any are left.
 */
export async function releaseRest(ctx: Context, id: string): Promise<boolean> {
  return ctx.db.transaction().execute(async (trx) => {
    const now = ctx.clock.now();
    const letter = await trx
      .selectFrom('letters')
      .select(['id', 'newsletter_id', 'sent_on', 'winner', 'started_at', 'departure'])
      .where('id', '=', id)
      .where('state', '=', 'sending')
      .where((eb) => eb.or([eb('winner', 'is not', null), eb('test', 'is', null)]))
      .forUpdate()
      .executeTakeFirst();
    if (!letter?.sent_on) return false;
    // What leaves over hours does so from now on.
    const later =
      letter.winner !== null && letter.departure?.pace.kind === 'over hours' ? now.getTime() - letter.started_at!.getTime() : 0;
    const { rows } = await sql<{ n: number; last: Date | null }>`
      with gone as (
        update deliveries d set state = 'queued', variant = ${letter.winner ?? 0}::smallint, due_at = greatest(d.due_at + ${later / 1000} * interval '1 second', ${now}::timestamptz),
          route_id = coalesce(d.route_id, ${relayOf(letter.newsletter_id)},
            case when m.state = 'fine' then m.route_id end)
        from mail_domains m where m.id = d.domain_id and d.sent_on = ${letter.sent_on}::date and d.id in (
          select id from deliveries where letter_id = ${id} and sent_on = ${letter.sent_on}::date and state = 'kept' order by id limit ${PORTION} for update)
        returning d.route_id, d.domain_id, d.due_at),
      lost as (select domain_id, count(*)::int as n from gone where route_id is null group by 1),
      asked as (update mail_domains m set wanted = m.wanted + l.n from (select * from lost order by domain_id) l where m.id = l.domain_id),
      jobs as (insert into route_jobs (route_id, letter_id, newsletter_id, sent_on, next_due, turn)
        select g.route_id, ${id}::uuid, ${letter.newsletter_id}::uuid, ${letter.sent_on}::date, min(g.due_at), coalesce((select min(turn) from route_jobs j where j.route_id = g.route_id), 0)
        from gone g where exists (select 1 from routes r where r.id = g.route_id) group by 1 order by 1
        on conflict (route_id, letter_id) do update set next_due = least(route_jobs.next_due, excluded.next_due)),
      due as (update routes r set due_at = n.due from (select route_id, min(due_at) as due from gone where route_id is not null group by 1 order by 1) n
        where r.id = n.route_id and (r.due_at is null or r.due_at > n.due))
      select count(*)::int as n, max(due_at) as last from gone`.execute(trx);
    const { n, last } = rows[0]!;
    if (last)
      await sql`update letters set last_due_at = greatest(last_due_at, ${last}::timestamptz) where id = ${id}`.execute(trx);
    return n === PORTION;
  });
}

import { createHash } from 'node:crypto';
import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { fullTime } from '@/core/growth/times';
import { type Audience, listsIn } from '@/core/sending/audience';
import { clockHour, type Departure, hoursIn, hourWords, momentOfDeparture } from '@/core/sending/departure';
import { type Difference, differencesOf, type Former, MEETING_HOURS, type Meeting, SAME_DAYS } from '@/core/sending/last-look';
import { hasBegun, type LetterState, statesFor } from '@/core/sending/letter-state';
import { departureSchema } from '@/core/sending/schemas';
import { checksOf } from '@/core/writing/checks';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { readyAudience } from './audience';
import { moveLetter } from './letters';
import { lookOver } from './look-over';
import { getsIt, willGet } from './reach';
import { amissOfVersions, versionsOf } from './versions';

/** What is seen before a letter is let go: when each of it leaves, what of it is unusual, and what stops it. */
export type LastLook = {
  will: number;
  /** The first and the last moment at which a copy is due. */
  from: Date;
  until: Date;
  /** What is to be said of its hour; '' mostly. */
  hour: string;
  twice: boolean;
  differences: Difference[];
  /** Has none left before? Then there is nothing to hold it against. */
  first: boolean;
  stops: Stop[];
  /** What was looked at: it leaves only as it was seen. */
  stamp: string;
  /** How many readers' own clocks are known, where it leaves by those. */
  clocks: { known: number; zones: number } | null;
};

type Row = Awaited<ReturnType<typeof rowOf>>;
const rowOf = (db: Db, newsletter: Newsletter, id: string) =>
  db
    .selectFrom('letters as l')
    .leftJoin('posts as p', 'p.id', 'l.post_id')
    .select([
      'l.id',
      'l.state',
      'l.audience',
      'l.auto_send_id',
      'l.lane',
      'l.joining',
      'l.subject',
      'l.preview_line',
      'l.sender_id',
      'l.layout_id',
      'l.own_text',
      'l.due_at',
    ])
    .select(['l.post_id', 'p.revision', 'p.document', 'p.goes', 'p.link', 'p.title', 'l.test', 'l.again_of'])
    .select(
      sql<unknown>`(select jsonb_agg(jsonb_build_array(v.n, v.subject, v.sender_id, v.beginning) order by v.n) from letter_versions v where v.letter_id = l.id)`.as(
        'versions',
      ),
    )
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', id)
    .executeTakeFirst();
/** May it still be let go, or given another time? */
const isAhead = (state: LetterState) => statesFor('schedule').includes(state);

/** All that a writer sees of a letter at the last look, as one word: whatever of it changes makes another. */
function stampOf(row: NonNullable<Row>): string {
  const { audience, subject, preview_line, sender_id, layout_id, own_text, revision, state, due_at, test, versions } = row;
  const seen = JSON.stringify([
    audience,
    subject,
    preview_line,
    sender_id,
    layout_id,
    own_text,
    test,
    versions,
    revision,
    state,
    state === 'draft' ? null : due_at,
  ]);
  return createHash('sha256').update(seen).digest('base64url').slice(0, 22);
}

type Stop = { title: string; words: string };

/** What keeps a letter from leaving for whom it is for. */
function stopsOfAudience(will: number, missing: string[]): Stop[] {
  if (missing.length)
    return [{ title: 'Whom it is for is not all there', words: `It names a ${missing[0]} that was deleted. Take it out.` }];
  return will === 0 ? [{ title: 'Nobody would get it', words: 'Say in Address whom it is for.' }] : [];
}

/** What keeps a letter from leaving for what is written, and for what it has to carry. */
async function stopsOfWords(ctx: Context, newsletter: Newsletter, row: NonNullable<Row>): Promise<Stop[]> {
  if (!row.post_id || !row.document) return [{ title: 'Its post was deleted', words: 'There is nothing to send.' }];
  const found = [
    // What a feed brings is as its writer published it.
    ...(row.link === null ? checksOf({ document: row.document, subject: row.subject, previewLine: row.preview_line }) : []),
    ...(await lookOver(ctx, newsletter, row.id, { asks: false })),
  ];
  const amiss = row.test ? await amissOfTest(ctx, row) : null;
  return [
    ...(amiss ? [{ title: 'Its versions cannot be tried', words: amiss }] : []),
    ...(row.goes === 'page' ? [{ title: 'This is a page alone', words: 'Say in Write that it becomes a letter too.' }] : []),
    ...found.filter((one) => one.tone === 'stop').map(({ title, words }) => ({ title, words })),
  ];
}

/** What is amiss with the versions of a letter, as they are now. */
async function amissOfTest(ctx: Context, row: NonNullable<Row>): Promise<string | null> {
  const sender = row.sender_id
    ? await ctx.db.selectFrom('senders').select('domain').where('id', '=', row.sender_id).executeTakeFirst()
    : undefined;
  const own = { subject: row.subject, senderId: row.sender_id };
  return amissOfVersions(row.test, own, await versionsOf(ctx.db, row.id), sender?.domain ?? null);
}

/** Versions are tried at one moment. */
const NOT_BY_CLOCKS = {
  title: 'Versions are tried at one moment',
  words: 'So it cannot leave at each reader’s own hour. Choose another pace, or take its versions away.',
};

/** Reads how a letter shall leave. Throws "invalid" for an hour that is none or that is over. */
function departureOf(ctx: Context, raw: unknown): { departure: Departure; at: Date } {
  const departure = check(departureSchema, raw);
  const now = ctx.clock.now();
  if (departure.when === 'now') {
    if (departure.pace.kind === 'local hour')
      throw new Fault('invalid', 'To leave at each reader’s own hour it needs an hour. Choose a time.', {
        when: 'Choose a time.',
      });
    return { departure: { ...departure, local: '', fold: 'first' }, at: now };
  }
  const at = momentOfDeparture(departure);
  if (!at) throw new Fault('invalid', 'There is no such day or hour.', { local: 'There is no such day or hour.' });
  if (at <= now) throw new Fault('invalid', 'That time is over. Choose a later one.', { local: 'That time is over.' });
  return { departure, at };
}

/** From when to when a letter's copies are due: by their own clocks the first of its readers get it before its writer's hour comes. */
async function spanOf(ctx: Context, newsletter: Newsletter, departure: Departure, at: Date) {
  if (departure.pace.kind === 'over hours')
    return { from: at, until: new Date(at.getTime() + departure.pace.hours * 3_600_000), clocks: null };
  if (departure.pace.kind !== 'local hour') return { from: at, until: at, clocks: null };
  const { rows } = await sql<{ zone: string; n: number }>`
    select zone, count(*)::int as n from readers where newsletter_id = ${newsletter.id} and zone is not null and standing = 'reading' group by 1`.execute(
    ctx.db,
  );
  const hours = [
    ...hoursIn(
      departure.local,
      rows.map((row) => row.zone),
      departure.zone,
    ).values(),
    at,
  ].map((one) => one.getTime());
  return {
    // What would be over already leaves at once.
    from: new Date(Math.max(Math.min(...hours), ctx.clock.now().getTime())),
    until: new Date(Math.max(...hours)),
    clocks: { known: rows.reduce((sum, row) => sum + row.n, 0), zones: rows.length },
  };
}

async function listNames(ctx: Context, newsletter: Newsletter, audience: Audience): Promise<string[]> {
  const ids = listsIn(audience);
  if (ids.length === 0) return [];
  const rows = await ctx.db
    .selectFrom('lists')
    .select('name')
    .where('newsletter_id', '=', newsletter.id)
    .where('id', 'in', ids)
    .orderBy('position')
    .execute();
  return rows.map((row) => row.name);
}

/** The last letter that left before, and whether the same words did lately. */
async function formerOf(ctx: Context, newsletter: Newsletter, row: NonNullable<Row>) {
  const before = await ctx.db
    .selectFrom('letters as l')
    .leftJoinLateral(
      (eb) => eb.selectFrom('letter_counts as c').select('c.recipients').whereRef('c.letter_id', '=', 'l.id').as('c'),
      (join) => join.onTrue(),
    )
    .select(['l.subject', 'l.audience', 'l.started_at', 'c.recipients'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.state', 'in', ['sending', 'paused', 'sent'])
    .where('l.started_at', 'is not', null)
    .where('l.again_of', 'is', null)
    .where('l.id', '<>', row.id)
    .orderBy('l.due_at', 'desc')
    .executeTakeFirst();
  const former: Former | null = before
    ? {
        subject: before.subject,
        at: before.started_at!,
        recipients: before.recipients ?? 0,
        lists: await listNames(ctx, newsletter, before.audience),
      }
    : null;
  const since = new Date(ctx.clock.now().getTime() - SAME_DAYS * 86_400_000);
  const same = row.post_id
    ? await ctx.db
        .selectFrom('letters as l')
        .innerJoin('posts as p', 'p.id', 'l.post_id')
        .select(['l.subject', 'l.started_at'])
        .where('l.newsletter_id', '=', newsletter.id)
        .where('l.id', '<>', row.id)
        .where('l.state', 'in', ['sending', 'paused', 'sent'])
        .where('l.started_at', '>=', since)
        .where((eb) =>
          eb.or([
            eb('l.post_id', '=', row.post_id),
            eb.and([eb('p.title', '<>', ''), eb('p.title', '=', row.title ?? '')]),
            sql<boolean>`(jsonb_array_length(p.document->'nodes') > 0 and p.document->'nodes' = ${JSON.stringify(row.document?.nodes ?? [])}::jsonb)`,
          ]),
        )
        .orderBy('l.started_at', 'desc')
        .executeTakeFirst()
    : undefined;
  return { former, same: same ? { subject: same.subject, at: same.started_at! } : null };
}

/** More letters than these do not leave within two days. */
const MOST_MEETINGS = 20;

/** Letters within a day of this one's time that go to some of the same people, and to how many: all of them in one pass over the readers. */
async function meetingsOf(ctx: Context, newsletter: Newsletter, row: NonNullable<Row>, at: Date): Promise<Meeting[]> {
  const span = MEETING_HOURS * 3_600_000;
  const near = await ctx.db
    .selectFrom('letters')
    .select(['id', 'subject', 'audience', 'auto_send_id', 'lane', 'joining', 'state', 'due_at', 'started_at', 'sent_on'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '<>', row.id)
    .where('kind', '<>', 'proof')
    .where('state', 'in', ['scheduled', 'held', 'starting', 'sending', 'paused', 'sent'])
    .where('due_at', '>', new Date(at.getTime() - span))
    .where('due_at', '<', new Date(at.getTime() + span))
    .orderBy('due_at')
    .limit(MOST_MEETINGS)
    .execute();
  if (near.length === 0) return [];
  const own = await readyAudience(ctx, ctx.db, newsletter, row.audience, row);
  const both = await Promise.all(
    near.map(async (other) => {
      const theirs =
        other.sent_on && hasBegun(other.state)
          ? sql`exists (select 1 from deliveries d where d.letter_id = ${other.id} and d.sent_on = ${other.sent_on}::date and d.reader_id = r.id)`
          : getsIt(await readyAudience(ctx, ctx.db, newsletter, other.audience, other));
      return sql`count(*) filter (where ${theirs})::int`;
    }),
  );
  const { rows } = await sql<{ both: number[] }>`
    select array[${sql.join(both)}] as both from readers r where r.newsletter_id = ${newsletter.id}::uuid and ${getsIt(own)}`.execute(
    ctx.db,
  );
  return near.flatMap((other, n) => {
    const many = rows[0]?.both[n] ?? 0;
    return many ? [{ id: other.id, subject: other.subject, at: other.started_at ?? other.due_at, both: many }] : [];
  });
}

/** Looks at a letter as it would leave by this departure. Throws "not-found"; what is wrong with its hour is a fault of it. */
export async function lastLook(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<LastLook> {
  const { departure, at } = departureOf(ctx, raw);
  const row = await rowOf(ctx.db, newsletter, id);
  if (!row) throw new Fault('not-found', 'There is no such letter any more.');
  if (!isAhead(row.state)) throw new Fault('conflict', 'This letter has begun to leave already.');
  const [{ missing }, will, lists, { former, same }, span] = await Promise.all([
    readyAudience(ctx, ctx.db, newsletter, row.audience, row),
    willGet(ctx, ctx.db, newsletter, row.audience, row),
    listNames(ctx, newsletter, row.audience),
    formerOf(ctx, newsletter, row),
    spanOf(ctx, newsletter, departure, at),
  ]);
  const meetings = missing.length ? [] : await meetingsOf(ctx, newsletter, row, at);
  return {
    will,
    ...span,
    hour: departure.when === 'at' ? hourWords(departure.local, departure.zone) : '',
    twice: departure.when === 'at' && clockHour(departure.local, departure.zone)?.kind === 'twice',
    differences: differencesOf({ will, lists, former, same, meetings, now: ctx.clock.now(), zone: newsletter.time_zone }),
    stops: [
      ...(await stopsOfWords(ctx, newsletter, row)),
      ...(row.test && departure.pace.kind === 'local hour' ? [NOT_BY_CLOCKS] : []),
      ...stopsOfAudience(will, missing),
    ],
    first: former === null,
    stamp: stampOf(row),
  };
}

const sendSchema = Joi.object<{ departure: unknown; stamp: string }>({
  departure: Joi.object().unknown().required(),
  stamp: Joi.string().max(60).required(),
});

/**
 * Lets a letter go as it was looked at: it is on the runway then, and one that leaves now can be called back for as long as the newsletter says. Throws "conflict"
 * where it is not any more as it was seen, which includes that it was let go already, and "invalid" where something stops it.
 */
export async function letGo(
  ctx: Context,
  newsletter: Newsletter,
  person: { name: string },
  id: string,
  raw: unknown,
): Promise<{ due: Date }> {
  const said = check(sendSchema, raw);
  const { departure, at } = departureOf(ctx, said.departure);
  const span = await spanOf(ctx, newsletter, departure, at);
  // Its words are looked at outside the transaction, which sees by the stamp that they are still the same.
  const seen = await rowOf(ctx.db, newsletter, id);
  const written = seen && isAhead(seen.state) ? await stopsOfWords(ctx, newsletter, seen) : [];
  return ctx.db.transaction().execute(async (trx) => {
    // Locked before it is read: a save that is under way is waited for, and what it changed is seen.
    await trx
      .selectFrom('letters')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .forUpdate()
      .execute();
    const row = await rowOf(trx, newsletter, id);
    if (!row) throw new Fault('not-found', 'There is no such letter any more.');
    if (!isAhead(row.state)) throw new Fault('conflict', 'This letter has begun to leave already.');
    if (stampOf(row) !== said.stamp)
      throw new Fault(
        'conflict',
        row.state === 'draft'
          ? 'It was changed since you looked at it. Look again; nothing has left.'
          : `It is on the runway already: it leaves ${fullTime(row.due_at, newsletter.time_zone)}. Nothing was sent twice.`,
      );
    const { missing } = await readyAudience(ctx, trx, newsletter, row.audience);
    const will = await willGet(ctx, trx, newsletter, row.audience, row);
    const clocks = row.test && departure.pace.kind === 'local hour' ? [NOT_BY_CLOCKS] : [];
    const [stop] = [...written, ...clocks, ...stopsOfAudience(will, missing)];
    if (stop) throw new Fault('invalid', `${stop.title}. ${stop.words}`);
    const due = departure.when === 'now' ? new Date(at.getTime() + newsletter.call_back_seconds * 1_000) : span.from;
    await moveLetter(ctx, trx, id, 'schedule', `Let go by ${person.name}`, { due_at: due });
    await trx
      .updateTable('letters')
      .set({ departure: JSON.stringify(departure), told_causes: [] })
      .where('id', '=', id)
      .execute();
    return { due };
  });
}

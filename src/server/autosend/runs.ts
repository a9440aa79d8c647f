import { sql } from 'kysely';
import { compose, type DigestPost } from '@/core/autosend/digest';
import { fateOf, type Gathered, gather, subjectOf } from '@/core/autosend/gather';
import { groupsOf, LANES, type Lane, samePosts } from '@/core/autosend/lanes';
import { nextRuns, type Rhythm } from '@/core/autosend/rhythm';
import { gatheringOf, laneRhythm, type RuleSettings } from '@/core/autosend/rule';
import { Fault } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { fullTime } from '@/core/growth/times';
import { slugify } from '@/core/newsletters/slug';
import type { Audience } from '@/core/sending/audience';
import { letterWords } from '@/core/writing/words';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { newId } from '../ids';
import { mailOwners } from '../newsletters/alerts';
import { spokenDay } from '../sending/laid-out';
import { armLanes, dropRun, lanePassed } from '../sending/lanes';
import { moveLetter, scheduleLetter } from '../sending/letters';

/*
 * The runs of rules: which posts become a letter, when, and for whom. All of it is kept in the database in steps that may each be the last one of a worker: what is
 * ready gets its place in the row, a run makes its letter and keeps what that holds, and once the letter's recipients are fixed, its lane has come so far.
 */

export type Rule = {
  id: string;
  newsletter_id: string;
  name: string;
  settings: RuleSettings;
  audience: Audience;
  sender_id: string;
  layout_id: string;
  intro: string;
};

/** A post as it stands in the database, and as a lane has it. */
export type RulePost = Gathered & { itemId: string; link: string; summary: string; picture: string | null; ready: boolean };

/** All posts of a rule that may still become part of a letter, as one of its lanes has them. Those that a lane has passed are sent. */
export async function postsOf(db: Db, ruleId: string, upto: number, more: { beyond?: number } = {}): Promise<RulePost[]> {
  const rows = await db
    .selectFrom('rule_posts as p')
    .innerJoin('feed_items as i', 'i.id', 'p.item_id')
    .select([
      'p.item_id',
      'p.state',
      'p.place',
      'p.bundle',
      'i.title',
      'i.link',
      'i.summary',
      'i.picture',
      'i.author',
      'i.topics',
      'i.words',
      'i.published_at',
      'i.first_seen_at',
      'i.changed_at',
      'i.gone_at',
    ])
    .where('p.auto_send_id', '=', ruleId)
    .where((eb) =>
      eb.or([
        eb('p.state', 'in', ['waiting', 'held']),
        eb.and([eb('p.state', '=', 'ready'), eb('p.place', '>', more.beyond ?? upto)]),
      ]),
    )
    .orderBy('p.place')
    .orderBy('i.place')
    .limit(MOST_OPEN)
    .execute();
  return rows.map((row) => ({
    itemId: row.item_id,
    key: row.item_id,
    place: row.place,
    bundle: row.bundle,
    title: row.title,
    link: row.link,
    summary: row.summary,
    picture: row.picture,
    author: row.author,
    topics: row.topics,
    words: row.words,
    publishedAt: row.published_at,
    seenAt: row.first_seen_at,
    changedAt: row.changed_at,
    gone: row.gone_at !== null,
    ready: row.state === 'ready',
    state: row.state === 'ready' ? (row.place! <= upto ? 'sent' : 'waiting') : row.state === 'waiting' ? 'waiting' : 'held',
  }));
}
const MOST_OPEN = 2_000;

/** The rules that have something to do: a post that may be ready, a lane whose time has come, or a draft whose time is over. */
export async function rulesDue(ctx: Context): Promise<{ id: string }[]> {
  const now = ctx.clock.now();
  const { rows } = await sql<{ id: string }>`
    select a.id from (
      select auto_send_id as id from rule_posts where state = 'waiting' and ready_at <= ${now}
      union select auto_send_id from rule_lanes where next_at <= ${now}
      union select auto_send_id from rule_runs where state = 'draft' and approve_by <= ${now}) due
    join auto_sends a on a.id = due.id join newsletters n on n.id = a.newsletter_id
    where a.switched_on_at is not null and a.paused_at is null and n.closing_at is null limit 500`.execute(ctx.db);
  return rows;
}

/** Does what is due of a rule: gives ready posts their places, lets go of drafts whose time is over, and runs the lanes whose time has come. */
export async function runRule(ctx: Context, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const row = await trx
      .selectFrom('auto_sends as a')
      .innerJoin('newsletters as n', 'n.id', 'a.newsletter_id')
      .selectAll('a')
      .where('a.id', '=', id)
      .where('a.switched_on_at', 'is not', null)
      .where('a.paused_at', 'is', null)
      .where('n.closing_at', 'is', null)
      .forUpdate('a')
      .skipLocked()
      .executeTakeFirst();
    if (!row) return;
    await readyPosts(ctx, trx, row);
    await overdueDrafts(ctx, trx, row);
    const lanes = await trx
      .selectFrom('rule_lanes')
      .selectAll()
      .where('auto_send_id', '=', id)
      .where('next_at', '<=', ctx.clock.now())
      .execute();
    for (const lane of LANES) {
      const its = lanes.find((one) => one.lane === lane);
      if (its) await runLane(ctx, trx, row, { ...its, next_at: its.next_at! });
    }
  });
}

/** Gives places to posts that have stood unchanged long enough, the oldest first; once ready they are ready. */
async function readyPosts(ctx: Context, trx: Db, rule: Rule): Promise<void> {
  const now = ctx.clock.now();
  const due = new Set(
    (
      await trx
        .selectFrom('rule_posts')
        .select('item_id')
        .where('auto_send_id', '=', rule.id)
        .where('state', '=', 'waiting')
        .where('ready_at', '<=', now)
        .execute()
    ).map((row) => row.item_id),
  );
  if (due.size === 0) return;
  const of = gatheringOf(rule.settings);
  const judged = gather(
    (await postsOf(trx, rule.id, 0)).filter((post) => due.has(post.itemId)),
    { ...of, most: Number.MAX_SAFE_INTEGER },
    now,
  );
  const { rows } = await sql<{
    n: number;
  }>`select coalesce(max(place), 0)::int as n from rule_posts where auto_send_id = ${rule.id}`.execute(trx);
  let place = rows[0]!.n;
  for (const { post, fate, until } of judged) {
    if (fate === 'in') place += 1;
    const set =
      fate === 'in'
        ? { state: 'ready' as const, place, ready_at: null }
        : fate === 'no match'
          ? { state: 'no match' as const, ready_at: null }
          : // Taken down: should it come back, it is looked at again.
            { ready_at: until };
    await trx.updateTable('rule_posts').set(set).where('auto_send_id', '=', rule.id).where('item_id', '=', post.key).execute();
  }
  if (place > rows[0]!.n) await armLanes(ctx, trx, rule);
}

/** When a lane runs next by its hours; null for one that goes by posts. */
export const nextHour = (rhythm: Rhythm, zone: string, after: Date): Date | null => nextRuns(rhythm, zone, after, 1)[0] ?? null;

type LaneRow = { lane: Lane; upto: number; next_at: Date; skipped_at: Date | null };

async function runLane(ctx: Context, trx: Db, rule: Rule, was: LaneRow): Promise<void> {
  const lane = { ...was, upto: await dropDead(ctx, trx, rule.id, was) };
  const now = ctx.clock.now();
  const rhythm = laneRhythm(rule.settings, lane.lane);
  const next = rhythm && nextHour(rhythm, rule.settings.zone, new Date(Math.max(now.getTime(), lane.next_at.getTime())));
  const later = (more: { skipped_at?: null } = {}) =>
    trx
      .updateTable('rule_lanes')
      .set({ next_at: next, ...more })
      .where('auto_send_id', '=', rule.id)
      .where('lane', '=', lane.lane)
      .execute();
  if (!rhythm) return void (await later());
  const log = (state: 'nothing' | 'skipped', words: string) =>
    trx
      .insertInto('rule_runs')
      .values({ id: newId(), auto_send_id: rule.id, lane: lane.lane, at: lane.next_at, upto: lane.upto, state, words })
      .execute();
  if (lane.skipped_at && lane.skipped_at.getTime() === lane.next_at.getTime()) {
    await log('skipped', 'Skipped by hand; its posts wait for the next one.');
    return void (await later({ skipped_at: null }));
  }
  const open = await trx
    .selectFrom('rule_runs')
    .select('id')
    .where('auto_send_id', '=', rule.id)
    .where('lane', '=', lane.lane)
    .where('state', 'in', ['draft', 'going'])
    .executeTakeFirst();
  if (open) {
    // What goes by posts is run again once the letter before has left.
    if (next) await log('nothing', 'The letter before has not left yet, so its posts wait for the next run.');
    return void (await later());
  }
  const alone = rhythm.kind === 'each';
  const of = gatheringOf(rule.settings);
  const posts = await postsOf(trx, rule.id, lane.upto);
  const judged = gather(
    posts.filter((post) => post.ready),
    of,
    now,
    alone,
  );
  const taken = judged.filter((one) => one.fate === 'in').map((one) => one.post);
  const passed = judged.filter((one) => of.rest === 'never' && !alone && one.fate === 'over').map((one) => one.post);
  const upto = Math.max(lane.upto, ...taken.map((post) => post.place!), ...passed.map((post) => post.place!));
  await later();
  if (lane.lane !== 'usual' && !(await isChosen(trx, rule.id, lane.lane))) {
    // Nobody chose it. Whoever does from now on is looked at by what they had.
    await trx.updateTable('rule_lanes').set({ upto }).where('auto_send_id', '=', rule.id).where('lane', '=', lane.lane).execute();
    return void (await armLanes(ctx, trx, rule));
  }
  if (taken.length > 0) {
    const approval = rule.settings.approval;
    const run = {
      id: newId(),
      auto_send_id: rule.id,
      lane: lane.lane,
      at: lane.next_at,
      upto,
      state: approval ? ('draft' as const) : ('going' as const),
      approve_by: approval ? new Date(now.getTime() + approval.hours * 3_600_000) : null,
    };
    await trx.insertInto('rule_runs').values(run).execute();
    const letterId = await letterOf(ctx, trx, rule, run, taken as RulePost[], { draft: approval !== null, joining: false });
    if (rule.intro) await trx.updateTable('auto_sends').set({ intro: '' }).where('id', '=', rule.id).execute();
    if (approval) await tellDraft(ctx, trx, rule, letterId, run.approve_by!, approval.otherwise, lane.lane);
    return;
  }
  // Nothing for those whose lane it is; whoever has come into it may still need something.
  const run = { id: newId(), auto_send_id: rule.id, lane: lane.lane, at: lane.next_at, upto, approve_by: null };
  const others = await movedInto(trx, rule, lane.lane, upto);
  if (others.length === 0) {
    if (next) await log('nothing', posts.length ? 'Nothing was ready.' : 'There was no new post.');
    return;
  }
  await trx
    .insertInto('rule_runs')
    .values({ ...run, state: 'done', grouped: true, words: 'For those alone who came to this rhythm and had not had them.' })
    .execute();
  for (const group of others) await joiningLetter(ctx, trx, rule, run, group);
}

/** A run whose letter was stopped before its recipients were fixed, or is there no more, is over, and its lane goes on. Returns how far that has come. */
async function dropDead(ctx: Context, trx: Db, ruleId: string, { lane, upto }: LaneRow): Promise<number> {
  const { rows } = await sql<{ id: string; upto: number }>`
    select r.id, r.upto from rule_runs r where r.auto_send_id = ${ruleId} and r.lane = ${lane} and r.state in ('draft', 'going')
      and not exists (select 1 from letters l where l.run_id = r.id and not l.joining and l.state <> 'stopped')`.execute(trx);
  for (const { id } of rows) await dropRun(ctx, trx, id, 'Its letter was stopped before it began.');
  return Math.max(upto, ...rows.map((row) => row.upto));
}

const isChosen = async (trx: Db, ruleId: string, lane: Lane): Promise<boolean> =>
  (await trx
    .selectFrom('reader_rhythms')
    .select('reader_id')
    .where('auto_send_id', '=', ruleId)
    .where('lane', '=', lane)
    .limit(1)
    .executeTakeFirst()) !== undefined;

type Run = { id: string; lane: Lane; upto: number; at: Date };

/** Makes the letter of a run of some posts, and keeps what it holds. */
async function letterOf(
  ctx: Context,
  trx: Db,
  rule: Rule,
  run: Run,
  posts: RulePost[],
  { draft, joining }: { draft: boolean; joining: boolean },
): Promise<string> {
  const newsletter = await trx
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', rule.newsletter_id)
    .executeTakeFirstOrThrow();
  const made = await composed(trx, rule, newsletter, posts, ctx.clock.now(), joining ? '' : rule.intro);
  const letterId = await keepLetter(ctx, trx, rule, made, posts, draft);
  await trx.updateTable('letters').set({ run_id: run.id, lane: run.lane, joining }).where('id', '=', letterId).execute();
  await trx
    .insertInto('letter_posts')
    .values(posts.map((post) => ({ letter_id: letterId, auto_send_id: rule.id, item_id: post.itemId, place: post.place! })))
    .execute();
  return letterId;
}

/** Keeps what a letter says as a post, and the letter, due now. */
async function keepLetter(
  ctx: Context,
  trx: Db,
  rule: Rule,
  made: Awaited<ReturnType<typeof composed>>,
  posts: RulePost[],
  draft: boolean,
): Promise<string> {
  const postId = newId();
  const now = ctx.clock.now();
  const wanted = slugify(made.subject).slice(0, 80) || 'post';
  const takenSlug = await trx
    .selectFrom('posts')
    .select('id')
    .where('newsletter_id', '=', rule.newsletter_id)
    .where('slug', '=', wanted)
    .executeTakeFirst();
  await trx
    .insertInto('posts')
    .values({
      id: postId,
      newsletter_id: rule.newsletter_id,
      slug: takenSlug ? `${wanted}-${postId.slice(-8)}` : wanted,
      title: made.title,
      subtitle: made.summary,
      document: JSON.stringify(made.document),
      link: made.link,
      picture: made.picture,
      author: made.author,
      // What a blog published stands there already, and what was written here has its own page.
      goes: 'letter',
      created_at: (posts.length === 1 && posts[0]!.publishedAt) || now,
      updated_at: now,
    })
    .execute();
  return scheduleLetter(ctx, trx, {
    newsletterId: rule.newsletter_id,
    kind: posts.length > 1 ? 'digest' : 'post',
    postId,
    autoSendId: rule.id,
    layoutId: rule.layout_id,
    audience: rule.audience,
    senderId: rule.sender_id,
    subject: made.subject,
    previewLine: made.summary.slice(0, 240),
    dueAt: now,
    draft,
  });
}

/** The words of a letter of some posts: what a run sends, and what is shown of it beforehand. */
export async function composed(
  db: Db,
  rule: Pick<Rule, 'settings'>,
  newsletter: Pick<Newsletter, 'language' | 'time_zone'>,
  posts: readonly RulePost[],
  at: Date,
  intro: string,
) {
  const words = letterWords(newsletter.language);
  const documents = await db
    .selectFrom('feed_items')
    .select(['id', 'document'])
    .where(
      'id',
      'in',
      posts.map((post) => post.itemId),
    )
    .execute();
  const byId = new Map(documents.map((one) => [one.id, one.document]));
  const day = (date: Date) => spokenDay(date, newsletter.language, newsletter.time_zone);
  const subject = subjectOf(
    rule.settings.subject,
    posts.map((post) => post.title),
    day(at),
    words,
  );
  const digest = posts.map(
    (post): DigestPost => ({
      title: post.title,
      link: post.link,
      summary: post.summary,
      author: post.author,
      day: day(post.publishedAt ?? post.seenAt),
      picture: post.picture,
      document: byId.get(post.itemId) ?? { version: 1, nodes: [] },
    }),
  );
  return { subject, ...compose(digest, subject, { ...rule.settings, intro, readOn: words.readOn }) };
}

type Moved = { posts: number[]; people: string[] };

/** Whoever came into a lane, by what they need up to a place. */
async function movedInto(trx: Db, rule: Rule, lane: Lane, upto: number): Promise<Moved[]> {
  const people = await trx
    .selectFrom('reader_rhythms')
    .select(['reader_id', 'since'])
    .where('auto_send_id', '=', rule.id)
    .where('lane', '=', lane)
    .where('since', 'is not', null)
    .where('joins', 'is', null)
    .orderBy('reader_id')
    .execute();
  if (people.length === 0) return [];
  const least = Math.min(...people.map((one) => one.since!));
  const of = gatheringOf(rule.settings);
  const open = (await postsOf(trx, rule.id, 0, { beyond: least }))
    .filter(
      (post) => post.ready && post.place! <= upto && fateOf({ ...post, state: 'waiting' }, of, new Date(8.64e15)).fate === 'in',
    )
    .map((post) => post.place!);
  const { rows } = await sql<{ reader_id: string; had: number[] }>`
    select d.reader_id, array_agg(p.place) as had from letter_posts p join letters l on l.id = p.letter_id
    join deliveries d on d.letter_id = l.id and d.sent_on = l.sent_on and d.reader_id = any(${people.map((one) => one.reader_id)}::uuid[])
    where p.auto_send_id = ${rule.id}::uuid and p.place > ${least} group by 1`.execute(trx);
  const had = new Map(rows.map((row) => [row.reader_id, new Set(row.had)]));
  return groupsOf(
    people.map((one) => ({ id: one.reader_id, since: one.since!, had: had.get(one.reader_id) ?? new Set<number>() })),
    open,
  );
}

/** A letter for those alone who need just these posts. */
async function joiningLetter(ctx: Context, trx: Db, rule: Rule, run: Run, group: Moved): Promise<void> {
  const posts = (await postsOf(trx, rule.id, 0, { beyond: group.posts[0]! - 1 })).filter((post) =>
    group.posts.includes(post.place ?? -1),
  );
  const letterId = await letterOf(ctx, trx, rule, run, posts, { draft: false, joining: true });
  await join(trx, rule.id, run.lane, letterId, group.people);
}

const join = (trx: Db, ruleId: string, lane: Lane, letterId: string, people: string[]) =>
  sql`
    update reader_rhythms r set joins = ${letterId}::uuid from unnest(${people}::uuid[]) as t(id)
    where r.auto_send_id = ${ruleId}::uuid and r.reader_id = t.id and r.lane = ${lane} and r.since is not null and r.joins is null`.execute(
    trx,
  );

/**
 * Before a run's letter starts: whoever came into its lane goes with it, where they need just what it holds, or gets a letter of their own. A
 * transaction by itself, so that nobody who changes their rhythm waits for a letter to a million.
 */
export async function letJoin(ctx: Context, letterId: string): Promise<void> {
  const letter = await ctx.db
    .selectFrom('letters')
    .select(['id', 'run_id'])
    .where('id', '=', letterId)
    .where('run_id', 'is not', null)
    .where('joining', '=', false)
    .where('state', 'in', ['scheduled', 'held', 'starting'])
    .executeTakeFirst();
  if (!letter) return;
  await inTransaction(ctx.db, async (trx) => {
    const run = await trx
      .selectFrom('rule_runs')
      .selectAll()
      .where('id', '=', letter.run_id)
      .where('grouped', '=', false)
      .forUpdate()
      .executeTakeFirst();
    const rule = run && (await trx.selectFrom('auto_sends').selectAll().where('id', '=', run.auto_send_id).executeTakeFirst());
    if (!run || !rule) return;
    const holds = (
      await trx.selectFrom('letter_posts').select('place').where('letter_id', '=', letter.id).orderBy('place').execute()
    ).map((row) => row.place);
    for (const group of await movedInto(trx, rule, run.lane, run.upto)) {
      if (samePosts(group.posts, holds)) await join(trx, rule.id, run.lane, letter.id, group.people);
      else await joiningLetter(ctx, trx, rule, run, group);
    }
    await trx.updateTable('rule_runs').set({ grouped: true }).where('id', '=', run.id).execute();
  });
}

/** Drafts that nobody let go in time leave, or their posts wait for the next run, as their rule says. What somebody wrote into one is kept as a draft of its own. */
async function overdueDrafts(ctx: Context, trx: Db, rule: Rule): Promise<void> {
  const now = ctx.clock.now();
  const runs = await trx
    .selectFrom('rule_runs')
    .selectAll()
    .where('auto_send_id', '=', rule.id)
    .where('state', '=', 'draft')
    .where('approve_by', '<=', now)
    .orderBy('at')
    .execute();
  for (const run of runs) {
    const letter = await trx
      .selectFrom('letters')
      .select(['id', 'state'])
      .where('run_id', '=', run.id)
      .where('joining', '=', false)
      .executeTakeFirst();
    if (letter && letter.state !== 'draft') {
      // Somebody let it go already.
      await trx.updateTable('rule_runs').set({ state: 'going', approve_by: null }).where('id', '=', run.id).execute();
      continue;
    }
    if (letter && (rule.settings.approval?.otherwise ?? 'send') === 'send') {
      await moveLetter(ctx, trx, letter.id, 'schedule', null, { due_at: now });
      await trx
        .updateTable('rule_runs')
        .set({ state: 'going', approve_by: null, words: 'Nobody looked at it in time, so it left by itself.' })
        .where('id', '=', run.id)
        .execute();
      continue;
    }
    if (letter) await trx.updateTable('letters').set({ run_id: null, lane: null }).where('id', '=', letter.id).execute();
    if (letter) await trx.deleteFrom('letter_posts').where('letter_id', '=', letter.id).execute();
    const alone = laneRhythm(rule.settings, run.lane)?.kind === 'each';
    await trx
      .updateTable('rule_runs')
      .set({
        state: 'dropped',
        approve_by: null,
        words: alone
          ? 'Nobody looked at it in time, so it was not mailed.'
          : 'Nobody looked at it in time, so its posts wait for the next one.',
      })
      .where('id', '=', run.id)
      .execute();
    if (alone) await lanePassed(ctx, trx, run);
  }
}

async function tellDraft(
  ctx: Context,
  trx: Db,
  rule: Rule,
  letterId: string,
  by: Date,
  otherwise: 'send' | 'drop',
  lane: Lane,
): Promise<void> {
  const newsletter = await trx
    .selectFrom('newsletters')
    .select(['name', 'slug'])
    .where('id', '=', rule.newsletter_id)
    .executeTakeFirstOrThrow();
  const { subject } = await trx.selectFrom('letters').select('subject').where('id', '=', letterId).executeTakeFirstOrThrow();
  const { n } = await trx
    .selectFrom('letter_posts')
    .select(sql<number>`count(*)::int`.as('n'))
    .where('letter_id', '=', letterId)
    .executeTakeFirstOrThrow();
  const alone = laneRhythm(rule.settings, lane)?.kind === 'each';
  await mailOwners(
    ctx,
    trx,
    rule.newsletter_id,
    newsletter,
    `“${subject}” waits for you`,
    [
      `${rule.name} made a letter of ${counted(n, 'post', 'posts')}. Look at it and let it go by ${fullTime(by, rule.settings.zone)}.`,
      otherwise === 'send'
        ? 'If nobody does, it leaves by itself then.'
        : alone
          ? 'If nobody does, it is not mailed.'
          : 'If nobody does, it does not leave, and its posts go into the next one.',
    ],
    `/letters/${letterId}`,
    { told: 'must know' },
  );
}

/** Makes a draft that tells readers of an edit of a post they had already: never sent by itself. Throws "conflict" for a post that nobody had yet. */
export async function tellOfEdit(
  ctx: Context,
  newsletter: Newsletter,
  ruleId: string,
  itemId: string,
): Promise<{ letterId: string }> {
  return inTransaction(ctx.db, async (trx) => {
    const rule = await trx
      .selectFrom('auto_sends')
      .selectAll()
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', ruleId)
      .forUpdate()
      .executeTakeFirst();
    if (!rule) throw new Fault('not-found', 'This auto-send is gone.');
    const post = (await postsOf(trx, ruleId, 0, { beyond: 0 })).find((one) => one.itemId === itemId && one.place !== null);
    if (!post) throw new Fault('conflict', 'Nobody had this post yet, so there is nothing to tell of.');
    const made = await composed(trx, rule, newsletter, [post], ctx.clock.now(), '');
    return { letterId: await keepLetter(ctx, trx, rule, made, [post], true) };
  });
}

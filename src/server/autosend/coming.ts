import { sql } from 'kysely';
import { comingRuns, type Fate, fateWords } from '@/core/autosend/gather';
import { LANES, type Lane } from '@/core/autosend/lanes';
import { rhythmWords } from '@/core/autosend/rhythm';
import { gatheringOf, laneRhythm, offeredLanes, type RuleSettings } from '@/core/autosend/rule';
import { usualAtOnce, usualGap } from '@/core/autosend/usual';
import { Fault } from '@/core/faults';
import type { Audience } from '@/core/sending/audience';
import type { LetterState } from '@/core/sending/letter-state';
import type { Person } from '../auth/session';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { drawn, laidPost } from '../sending/laid-out';
import { addressesIn, mailProofs } from '../sending/proof';
import { reachSoon } from '../sending/reach';
import { usualDates } from './polling';
import { countRhythms } from './rhythms';
import { composed, postsOf, type RulePost } from './runs';

/* What rules say and are about to do, as it is shown. The next runs are worked out by the same rules as those that send. */

export type FeedView = {
  id: string;
  /** null: the newsletter's own pages. */
  url: string | null;
  title: string;
  polledAt: Date | null;
  nextPollAt: Date | null;
  fault: string | null;
  /** It broke off in the middle when it was read last. */
  cut: boolean;
  emptiedAt: Date | null;
  quiet: boolean;
  hubUntil: Date | null;
  posts: number;
  /** The usual time between two posts in milliseconds, and how many at once are usual. */
  gapMs: number | null;
  atOnce: number;
  topics: string[];
  authors: string[];
};
/** A post of a run that is to come, and why it is in it or not. */
export type ComingPost = { itemId: string; title: string; fate: Fate; why: string };
export type ComingRun = {
  lane: Lane;
  words: string;
  at: Date | null;
  state: 'ready' | 'gathering' | 'nothing' | 'skipped';
  posts: ComingPost[];
  people: number;
  /** Has it an hour, so that it can be skipped? */
  byHour: boolean;
};
/** A letter that a run has made and that has not begun to leave. */
export type OpenRun = {
  lane: Lane;
  letterId: string;
  subject: string;
  state: LetterState;
  approveBy: Date | null;
  cause: string | null;
};

export type RuleView = {
  id: string;
  name: string;
  settings: RuleSettings;
  audience: Audience;
  sender: { id: string; name: string; address: string };
  layout: { id: string; name: string };
  intro: string;
  switchedOnAt: Date | null;
  pausedAt: Date | null;
  feeds: FeedView[];
  /** How many get it at each rhythm, and whether that is exact. */
  people: { lane: Lane; words: string; n: number }[];
  exact: boolean;
  coming: ComingRun[];
  open: OpenRun[];
  /** New posts that came with too many others and wait for somebody's word, the newest first. */
  held: string[];
  /** How many wait, for the question what becomes of them. */
  waiting: number;
  /** Other rules that are on and mail posts of the same sources: whoever is in both gets them twice. */
  also: string[];
};

const NEXT = 5;

/** A newsletter's rules, the oldest first. */
export async function rulesOf(ctx: Context, newsletter: Newsletter): Promise<RuleView[]> {
  const rows = await ruleRows(ctx.db, newsletter).orderBy('a.created_at').execute();
  return Promise.all(rows.map((row) => viewOf(ctx, newsletter, row)));
}

/** One of them. Throws "not-found". */
export async function ruleOf(ctx: Context, newsletter: Newsletter, id: string): Promise<RuleView> {
  const row = /^[0-9a-f-]{36}$/.test(id) ? await ruleRows(ctx.db, newsletter).where('a.id', '=', id).executeTakeFirst() : null;
  if (!row) throw new Fault('not-found', 'This auto-send is gone.');
  return viewOf(ctx, newsletter, row);
}

const ruleRows = (db: Db, newsletter: Newsletter) =>
  db
    .selectFrom('auto_sends as a')
    .innerJoin('senders as s', 's.id', 'a.sender_id')
    .innerJoin('layouts as y', 'y.id', 'a.layout_id')
    .selectAll('a')
    .select(['s.name as sender_name', 's.address as sender_address', 'y.name as layout_name'])
    .where('a.newsletter_id', '=', newsletter.id);
type Row = Awaited<ReturnType<ReturnType<typeof ruleRows>['executeTakeFirstOrThrow']>>;

async function viewOf(ctx: Context, newsletter: Newsletter, row: Row): Promise<RuleView> {
  const now = ctx.clock.now();
  const { settings } = row;
  const [feeds, { counts, exact }, reach, lanes, open, also] = await Promise.all([
    feedsOf(ctx, row.id),
    countRhythms(ctx, newsletter, row),
    reachSoon(ctx, newsletter, row.audience),
    ctx.db.selectFrom('rule_lanes').selectAll().where('auto_send_id', '=', row.id).execute(),
    openRuns(ctx.db, row.id),
    alsoMailing(ctx.db, row.id),
  ]);
  const offered = offeredLanes(settings);
  const isOffered = (lane: Lane) => lane !== 'usual' && offered.some((one) => one.lane === lane);
  // Whoever chose what is usual anyway is counted with those who chose nothing.
  const elsewhere = LANES.reduce((sum, lane) => sum + (isOffered(lane) ? (counts[lane] ?? 0) : 0), 0);
  const people = offered.map(({ lane, rhythm }) => ({
    lane,
    words: rhythmWords(rhythm),
    n: lane === 'usual' ? Math.max(0, reach.will - elsewhere) : (counts[lane] ?? 0),
  }));
  const coming: ComingRun[] = [];
  let posts: RulePost[] = [];
  for (const { lane, words, n } of people) {
    const its = lanes.find((one) => one.lane === lane);
    const all = await postsOf(ctx.db, row.id, its?.upto ?? 0);
    if (lane === 'usual') posts = all;
    if (lane !== 'usual' && n === 0) continue;
    const rhythm = laneRhythm(settings, lane)!;
    for (const run of comingRuns(all, gatheringOf(settings), rhythm, settings.zone, {
      after: now,
      most: NEXT,
      skipped: its?.skipped_at ?? null,
    })) {
      const shown = run.judged.map(
        (one): ComingPost => ({
          itemId: one.post.key,
          title: one.post.title,
          fate: one.fate,
          why: fateWords(one, settings.zone),
        }),
      );
      const inIt = run.judged.filter((one) => one.fate === 'in');
      const isSkipped =
        run.judged.some((one) => one.fate === 'skipped') || (its?.skipped_at && run.at?.getTime() === its.skipped_at.getTime());
      coming.push({
        lane,
        words,
        at: run.at,
        people: n,
        byHour: 'hour' in rhythm,
        posts: shown,
        state: isSkipped
          ? 'skipped'
          : inIt.length === 0
            ? 'nothing'
            : inIt.every((one) => one.post.place !== null) && run.at
              ? 'ready'
              : 'gathering',
      });
    }
  }
  const far = Number.MAX_SAFE_INTEGER;
  coming.sort((a, b) => (a.at?.getTime() ?? far) - (b.at?.getTime() ?? far));
  return {
    id: row.id,
    name: row.name,
    settings,
    audience: row.audience,
    sender: { id: row.sender_id, name: row.sender_name, address: row.sender_address },
    layout: { id: row.layout_id, name: row.layout_name },
    intro: row.intro,
    switchedOnAt: row.switched_on_at,
    pausedAt: row.paused_at,
    feeds,
    people,
    exact: reach.exact && exact,
    coming: row.switched_on_at && !row.paused_at ? coming.slice(0, NEXT) : [],
    open,
    held: posts
      .filter((post) => post.state === 'held' && !post.gone)
      .reverse()
      .map((post) => post.title),
    waiting: posts.filter((post) => post.state === 'waiting' && !post.gone).length,
    also,
  };
}

async function feedsOf(ctx: Context, ruleId: string): Promise<FeedView[]> {
  const rows = await ctx.db
    .selectFrom('auto_send_feeds as x')
    .innerJoin('feeds as f', 'f.id', 'x.feed_id')
    .selectAll('f')
    .where('x.auto_send_id', '=', ruleId)
    .orderBy('f.created_at')
    .execute();
  return Promise.all(
    rows.map(async (feed) => {
      const { rows: latest } = await sql<{ topics: string[]; author: string }>`
        select topics, author from feed_items where feed_id = ${feed.id} order by coalesce(published_at, first_seen_at) desc limit 60`.execute(
        ctx.db,
      );
      const { n } = await ctx.db
        .selectFrom('feed_items')
        .select(sql<number>`count(*)::int`.as('n'))
        .where('feed_id', '=', feed.id)
        .where('gone_at', 'is', null)
        .executeTakeFirstOrThrow();
      const dates = await usualDates(ctx.db, ruleId, feed.id, ctx.clock.now());
      return {
        id: feed.id,
        url: feed.url,
        title: feed.title,
        polledAt: feed.polled_at,
        nextPollAt: feed.next_poll_at,
        fault: feed.fault,
        cut: feed.cut,
        emptiedAt: feed.emptied_at,
        quiet: feed.quiet_told_at !== null,
        hubUntil: feed.hub_until,
        posts: n,
        gapMs: usualGap(dates),
        atOnce: usualAtOnce(dates),
        topics: [...new Set(latest.flatMap((one) => one.topics))].sort().slice(0, 40),
        authors: [...new Set(latest.map((one) => one.author).filter(Boolean))].sort().slice(0, 40),
      };
    }),
  );
}

async function alsoMailing(db: Db, ruleId: string): Promise<string[]> {
  const { rows } = await sql<{ name: string }>`
    select distinct a.name from auto_send_feeds mine join auto_send_feeds theirs on theirs.feed_id = mine.feed_id and theirs.auto_send_id <> mine.auto_send_id
    join auto_sends a on a.id = theirs.auto_send_id where mine.auto_send_id = ${ruleId} and a.switched_on_at is not null order by 1`.execute(
    db,
  );
  return rows.map((row) => row.name);
}

async function openRuns(db: Db, ruleId: string): Promise<OpenRun[]> {
  const { rows } = await sql<OpenRun>`
    select r.lane, l.id as "letterId", l.subject, l.state, r.approve_by as "approveBy", l.cause from rule_runs r join letters l on l.run_id = r.id and not l.joining
    where r.auto_send_id = ${ruleId} and r.state in ('draft', 'going') order by r.at`.execute(db);
  return rows;
}

/** A post that is in no run to come, and why. */
export type PastPost = {
  itemId: string;
  title: string;
  link: string;
  why: string;
  /** What can be done with it: tell readers of an edit, take it in after all. */
  act: 'tell' | 'take in' | null;
};

/** The newest posts of a rule that are in none of its next runs, each with why. */
export async function pastPosts(ctx: Context, newsletter: Newsletter, ruleId: string): Promise<PastPost[]> {
  const { rows } = await sql<{
    id: string;
    title: string;
    link: string;
    state: string;
    changed_at: Date;
    sent_at: Date | null;
  }>`
    select i.id, i.title, i.link, coalesce(i.published_at, i.first_seen_at) as at, p.state, i.changed_at, s.sent_at
    from rule_posts p join feed_items i on i.id = p.item_id
    left join lateral (select min(l.started_at) as sent_at from letter_posts x join letters l on l.id = x.letter_id where x.item_id = i.id and x.auto_send_id = p.auto_send_id) s on true
    where p.auto_send_id = ${ruleId} and (p.state in ('before', 'left out', 'no match') or s.sent_at is not null)
    order by 4 desc, i.place desc limit 12`.execute(ctx.db);
  const day = (at: Date) =>
    new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone: newsletter.time_zone }).format(at);
  return rows.map((row) => {
    const edited = row.sent_at !== null && row.changed_at > row.sent_at;
    return {
      itemId: row.id,
      title: row.title,
      link: row.link,
      why: row.sent_at
        ? edited
          ? `sent ${day(row.sent_at)}, and edited since; the edit stays on your site.`
          : `sent ${day(row.sent_at)}`
        : fateWords({ fate: row.state as Fate, until: null }, newsletter.time_zone),
      act: edited ? 'tell' : row.sent_at === null && (row.state === 'left out' || row.state === 'no match') ? 'take in' : null,
    };
  });
}

/** A run that was, with what came of it. */
export type RunView = {
  id: string;
  at: Date;
  lane: Lane;
  state: string;
  words: string;
  letters: {
    id: string;
    subject: string;
    state: LetterState;
    joining: boolean;
    posts: number;
    recipients: number;
    delivered: number;
  }[];
};

/** The latest runs of a rule, the newest first. */
export async function runsOf(ctx: Context, ruleId: string, most = 12): Promise<RunView[]> {
  const runs = await ctx.db
    .selectFrom('rule_runs')
    .selectAll()
    .where('auto_send_id', '=', ruleId)
    .orderBy('at', 'desc')
    .orderBy('id', 'desc')
    .limit(most)
    .execute();
  if (runs.length === 0) return [];
  const { rows } = await sql<RunView['letters'][number] & { run_id: string }>`
    select l.run_id, l.id, l.subject, l.state, l.joining, (select count(*)::int from letter_posts p where p.letter_id = l.id) as posts,
      coalesce(c.recipients, 0)::int as recipients, coalesce(c.delivered, 0)::int as delivered
    from letters l left join lateral (select recipients, delivered from letter_counts c where c.letter_id = l.id) c on true
    where l.run_id = any(${runs.map((run) => run.id)}::uuid[]) order by l.joining, l.id`.execute(ctx.db);
  return runs.map(({ id, at, lane, state, words }) => ({
    id,
    at,
    lane,
    state,
    words,
    letters: rows.filter((row) => row.run_id === id),
  }));
}

/** The next letter of a lane as it would be now; of a lane for which nothing waits, a fault that says so. */
async function nextLetter(ctx: Context, newsletter: Newsletter, ruleId: string, lane: Lane, turn: number) {
  const rule = await ctx.db
    .selectFrom('auto_sends')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', ruleId)
    .executeTakeFirst();
  const rhythm = rule && laneRhythm(rule.settings, lane);
  if (!rule || !rhythm) throw new Fault('not-found', 'This auto-send is gone.');
  const its = await ctx.db
    .selectFrom('rule_lanes')
    .selectAll()
    .where('auto_send_id', '=', ruleId)
    .where('lane', '=', lane)
    .executeTakeFirstOrThrow();
  const all = await postsOf(ctx.db, ruleId, its.upto);
  const runs = comingRuns(all, gatheringOf(rule.settings), rhythm, rule.settings.zone, {
    after: ctx.clock.now(),
    most: NEXT,
    skipped: its.skipped_at,
  });
  const run = runs[turn];
  const posts = (run?.judged ?? []).filter((one) => one.fate === 'in').map((one) => one.post as RulePost);
  if (posts.length === 0) throw new Fault('conflict', 'There is no post for it yet, so there is no letter to look at.');
  const made = await composed(ctx.db, rule, newsletter, posts, run?.at ?? ctx.clock.now(), rule.intro);
  const laid = await laidPost(
    ctx,
    ctx.db,
    newsletter,
    {
      id: ruleId,
      link: made.link,
      goes: 'letter',
      audience: 'everybody',
      slug: '',
      title: made.title,
      subtitle: made.summary,
      description: '',
      picture: made.picture,
      guest: '',
      author: made.author,
      document: made.document,
    },
    {
      layout_id: rule.layout_id,
      subject: made.subject,
      preview_line: made.summary.slice(0, 240),
      own_text: null,
      due_at: run?.at ?? ctx.clock.now(),
    },
  );
  return { rule, subject: made.subject, laid, at: run?.at ?? null };
}

/** How a lane's next letter would look, were nothing more written; the n-th from now. */
export async function lookAhead(ctx: Context, newsletter: Newsletter, ruleId: string, lane: Lane, turn: number) {
  const { subject, laid, at } = await nextLetter(ctx, newsletter, ruleId, lane, turn);
  return { subject, at, ...(await drawn(laid)) };
}

/** Mails a proof of a lane's next letter. Throws "conflict" where there is none, or no confirmed sender. */
export async function proveAhead(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  ruleId: string,
  lane: Lane,
  turn: number,
  raw: unknown,
): Promise<{ said: string }> {
  const addresses = addressesIn(raw);
  const { rule, subject, laid } = await nextLetter(ctx, newsletter, ruleId, lane, turn);
  const sender = await ctx.db.selectFrom('senders').selectAll().where('id', '=', rule.sender_id).executeTakeFirst();
  if (!sender?.confirmed_at) throw new Fault('conflict', 'Its sender is not confirmed yet. Confirm it, or choose another.');
  const from = { name: sender.name, address: sender.address, replyTo: sender.reply_to };
  return mailProofs(ctx, newsletter, person, addresses, [
    { subject, from, laid, which: ` It is of ${rule.name}, as it would be now.` },
  ]);
}

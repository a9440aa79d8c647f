import { type Insertable, type Selectable, sql } from 'kysely';
import { TITLES_ONLY, type Whole } from '@/core/autosend/feed';
import {
  isNewPost,
  itemKey,
  type KnownItem,
  nextPoll,
  printOf,
  type Recognised,
  recognise,
  takenDown,
  wordsOf,
} from '@/core/autosend/items';
import { pollEvery, silentSince, usualAtOnce } from '@/core/autosend/usual';
import { asFault } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { fullTime } from '@/core/growth/times';
import type { Context } from '../context';
import { type Db, inTransaction, isAway } from '../db/connection';
import type { FeedItemTable, FeedTable } from '../db/schema';
import { newId } from '../ids';
import { mailOwners } from '../newsletters/alerts';
import { type Brought, bringIn } from './bring-in';
import { FeedAway, type FeedReading, readFeed } from './feeds';
import { readPages } from './pages';

/*
 * Feeds are read here, and what is new in them is given to the rules that mail it. What a rule makes of it is `runs`'.
 */

/** So many of a feed's posts, the newest, are held against a reading. */
const MOST_KNOWN = 2_000;
/** So long a feed may be silent before its owners are told, and so late at most it is asked again, whatever it says. */
const LONGEST_MS = 86_400_000;
/** New posts that are read within this time of each other came at once: a site may bring back its past in portions. */
const AT_ONCE_MS = 3_600_000;

type Feed = Selectable<FeedTable>;

/** So long whoever claimed a feed has it for themselves. */
export const LEASE_MS = 120_000;
/** Whatever hubs tell, a feed is not read again sooner than this. */
export const CALM_MS = 30_000;
/** What a claim writes. */
export const asClaimed = (now: Date) => ({
  next_poll_at: new Date(now.getTime() + LEASE_MS),
  claimed_at: now,
  told_new_at: null,
});
/** A feed as somebody claimed it: its next time is the end of the claim. */
export type ClaimedFeed = Feed & { next_poll_at: Date };
/**
 * Does a reading of this feed still count? Not once another that was done has been filed, and not where it was asked for anew, or no more. One that takes longer than its
 * claim counts: else none ever would where all take so long.
 */
const counts = ({ id, polled_at }: Feed) =>
  sql<boolean>`id = ${id} and polled_at is not distinct from ${polled_at} and claimed_at is not null and next_poll_at is not null`;

/** Claims one feed and reads it, if it is due. */
export async function pollFeed(ctx: Context, id: string): Promise<number> {
  const now = ctx.clock.now();
  const feed = await ctx.db
    .updateTable('feeds')
    .set(asClaimed(now))
    .where('id', '=', id)
    .where('next_poll_at', '<=', now)
    .returningAll()
    .executeTakeFirst();
  return feed ? pollClaimed(ctx, feed as ClaimedFeed) : 0;
}

/**
 * Reads a feed that was claimed, and files what is in it: new posts for every rule that is on, edits, and what was taken down. One transaction, so that a poll that runs
 * twice, or dies between, gives nothing twice and forgets nothing. A feed that fails is asked again further and further apart; what was known stays known. Returns
 * how many posts were new to a rule.
 */
export async function pollClaimed(ctx: Context, feed: ClaimedFeed): Promise<number> {
  const newsletter = await ctx.db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', feed.newsletter_id)
    .executeTakeFirstOrThrow();
  const everyMs = ctx.config.feedSeconds * 1_000;
  let reading: FeedReading;
  try {
    reading = feed.url
      ? await readFeed(
          ctx,
          feed.url,
          { etag: feed.etag, lastModified: feed.last_modified },
          newsletter.time_zone,
          await wantedOf(ctx.db, feed),
        )
      : await readPages(ctx, newsletter);
  } catch (error) {
    if (isAway(error)) throw error;
    await notRead(ctx, feed, error, everyMs);
    return 0;
  }
  try {
    const brought = reading.unchanged ? new Map() : await bringIn(ctx, newsletter, feed, reading.items);
    return await inTransaction(ctx.db, (trx) => file(ctx, trx, feed, reading, brought, everyMs));
  } catch (error) {
    if (isAway(error)) throw error;
    // Something of ours, or something that cannot be kept: the feed waits like one that is away, and holds up no other.
    const failures = feed.failures + 1;
    const now = ctx.clock.now();
    await ctx.db
      .updateTable('feeds')
      .set({
        failures,
        fault: 'Something on our side failed with what this feed holds now.',
        polled_at: now,
        claimed_at: null,
        told_new_at: null,
        next_poll_at: nextPoll(now, everyMs, failures),
      })
      .where(counts(feed))
      .execute();
    ctx.log.error({ err: error, feed: feed.url }, 'new posts could not be kept');
    return 0;
  }
}

/**
 * Of which posts of a feed has to be read what they say: those that a rule may mail and that are not kept as they are now. What stands in it when it is read first is
 * its back catalogue, but for what is dated later than the switch.
 */
async function wantedOf(db: Db, feed: Feed): Promise<Whole> {
  const { since } = await db
    .selectFrom('auto_sends as a')
    .innerJoin('auto_send_feeds as f', 'f.auto_send_id', 'a.id')
    .select((eb) => eb.fn.min('f.since').as('since'))
    .where('f.feed_id', '=', feed.id)
    .where('a.switched_on_at', 'is not', null)
    .executeTakeFirstOrThrow();
  if (!since) return TITLES_ONLY;
  if (!feed.read_at) return { ...TITLES_ONLY, since };
  const known = await db
    .selectFrom('feed_items')
    .select('source')
    .where('feed_id', '=', feed.id)
    .where((eb) => eb.or([eb('document', 'is not', null), eb('published_at', 'is', null), eb('published_at', '<', since)]))
    .orderBy(sql`coalesce(published_at, first_seen_at)`, 'desc')
    .limit(MOST_KNOWN)
    .execute();
  return { known: new Set(known.map((row) => row.source)), since: null };
}

async function notRead(ctx: Context, feed: Feed, error: unknown, everyMs: number): Promise<void> {
  const now = ctx.clock.now();
  const { sentence } = asFault(error);
  const failures = feed.failures + 1;
  const gone = error instanceof FeedAway && error.gone;
  const again = error instanceof FeedAway ? Math.min(error.againMs, LONGEST_MS) : 0;
  const next = new Date(Math.max(nextPoll(now, everyMs, failures).getTime(), now.getTime() + again));
  const since = feed.failing_since ?? now;
  // Told in the transaction that ends the asking: whoever dies in between does neither.
  await inTransaction(ctx.db, async (trx) => {
    const mine = await trx
      .updateTable('feeds')
      .set({
        polled_at: now,
        claimed_at: null,
        // Told once more, it counts.
        told_new_at: null,
        failures,
        fault: sentence,
        failing_since: since,
        next_poll_at: gone ? null : next,
      })
      .where(counts(feed))
      .executeTakeFirst();
    if (mine.numUpdatedRows && (gone || now.getTime() - since.getTime() >= LONGEST_MS))
      await tellSilence(ctx, trx, feed.id, since, sentence, gone);
  });
  ctx.log.warn({ feed: feed.url, failures, reason: sentence }, 'a feed could not be read');
}

async function file(
  ctx: Context,
  trx: Db,
  before: Feed,
  reading: FeedReading,
  brought: Brought,
  everyMs: number,
): Promise<number> {
  const now = ctx.clock.now();
  const feed = await trx.selectFrom('feeds').selectAll().where(counts(before)).forUpdate().executeTakeFirst();
  if (!feed) return 0;
  const known = reading.unchanged ? [] : await knownItems(trx, feed.id, reading.items.map(itemKey));
  let made = 0;
  const emptied = !reading.unchanged && reading.items.length === 0 && known.length > 0;
  if (!reading.unchanged && !emptied) {
    const recognised = recognise(reading.items, known);
    const rules = await rulesOf(trx, feed.id);
    const since = earliest(rules);
    const byId = new Map(known.map((one) => [one.id, one]));
    const shown = recognised.map((one) => asKept(feed, one, one.known ? byId.get(one.known.id) : undefined, since));
    // A rule was switched on while it was being read: what it may mail is read anew, and everything whole, so that once is enough.
    if (shown.some((one) => one.kept && !one.before?.kept && !one.item.document)) {
      await trx.updateTable('feed_items').set({ source: '' }).where('feed_id', '=', feed.id).execute();
      await trx
        .updateTable('feeds')
        .set({ next_poll_at: now, claimed_at: null, etag: null, last_modified: null })
        .where('id', '=', feed.id)
        .execute();
      return 0;
    }
    const ids = await keepItems(ctx, trx, feed, shown, brought);
    // Of one that breaks off nobody can tell what stands there no more.
    if (!reading.cut) await markGone(trx, takenDown(known, recognised), now);
    for (const rule of rules) made += await give(ctx, trx, feed, rule, recognised, ids, reading.title);
  }
  const dates = reading.unchanged ? await latestDates(trx, feed.id) : reading.items.map((item) => item.publishedAt);
  const every = pollEvery(dates, everyMs);
  const quiet = silentSince(dates, now);
  await trx
    .updateTable('feeds')
    .set({
      polled_at: now,
      read_at: feed.read_at ?? now,
      ...(reading.unchanged
        ? {}
        : { title: reading.title || feed.title, hub: reading.hub, topic: reading.hub ? (reading.self ?? feed.url) : null }),
      failures: 0,
      fault: null,
      cut: reading.cut,
      failing_since: null,
      told_at: null,
      emptied_at: emptied ? (feed.emptied_at ?? now) : reading.unchanged ? feed.emptied_at : null,
      quiet_told_at: quiet ? feed.quiet_told_at : null,
      // A feed that moved for good is asked where it is now, unless that is another one we ask for already.
      ...(reading.movedTo && reading.movedTo.length <= 500 && !(await isTaken(trx, feed, reading.movedTo))
        ? { url: reading.movedTo }
        : {}),
      claimed_at: null,
      // A hub told of something while it was being read.
      next_poll_at: feed.told_new_at ? new Date(now.getTime() + CALM_MS) : nextPoll(now, every, 0),
      etag: reading.etag,
      last_modified: reading.lastModified,
    })
    .where('id', '=', feed.id)
    .execute();
  if (emptied && !feed.emptied_at)
    await tellOf(ctx, trx, feed, `${nameOf(feed)} shows no post any more`, [
      `It answers, and holds nothing: ${feed.url ?? 'your own pages'}`,
      'No post counts as taken down for that. If your site was moved or built anew, look whether its feed is still there.',
    ]);
  if (quiet && !feed.quiet_told_at && (await isWatched(trx, feed.id))) {
    await trx.updateTable('feeds').set({ quiet_told_at: now }).where('id', '=', feed.id).execute();
    await tellOf(ctx, trx, feed, `No new post in ${nameOf(feed)} for long`, [
      'There was none for three times as long as is usual there. If you wrote one, its feed does not show it.',
      `What we read: ${feed.url ?? 'your own pages'}`,
    ]);
  }
  if (made) ctx.log.info({ feed: feed.url, posts: made }, 'new posts were found');
  return made;
}

/** What a feed held, as far as it can matter for a reading with these keys. */
async function knownItems(trx: Db, feedId: string, keys: string[]): Promise<Kept[]> {
  return (
    trx
      .selectFrom('feed_items')
      .select([
        'id',
        'item_key as key',
        'link',
        'title',
        'published_at as publishedAt',
        'source',
        'print',
        'gone_at',
        sql<boolean>`document is not null`.as('kept'),
      ])
      .where('feed_id', '=', feedId)
      // The newest, and whatever else the feed itself still shows: a blog may keep its first post on top for years.
      .where((eb) =>
        eb.or([
          eb('item_key', '=', sql<string>`any(${keys}::text[])`),
          eb(
            'id',
            'in',
            eb
              .selectFrom('feed_items as newest')
              .select('newest.id')
              .where('newest.feed_id', '=', feedId)
              .orderBy(sql`coalesce(newest.published_at, newest.first_seen_at)`, 'desc')
              .limit(MOST_KNOWN),
          ),
        ]),
      )
      .execute()
  );
}

/** The dates of a feed's newest posts. */
const latestDates = async (trx: Db, feedId: string): Promise<(Date | null)[]> =>
  (
    await trx
      .selectFrom('feed_items')
      .select('published_at')
      .where('feed_id', '=', feedId)
      .orderBy(sql`coalesce(published_at, first_seen_at)`, 'desc')
      .limit(60)
      .execute()
  ).map((row) => row.published_at);

const nameOf = (feed: Pick<Feed, 'title' | 'url'>) => feed.title || feed.url || 'your own pages';

const isTaken = async (trx: Db, feed: Feed, url: string) =>
  (await trx
    .selectFrom('feeds')
    .select('id')
    .where('newsletter_id', '=', feed.newsletter_id)
    .where('url', '=', url)
    .where('id', '<>', feed.id)
    .executeTakeFirst()) !== undefined;

const isWatched = async (trx: Db, feedId: string) =>
  (await trx
    .selectFrom('auto_send_feeds as f')
    .innerJoin('auto_sends as a', 'a.id', 'f.auto_send_id')
    .select('a.id')
    .where('f.feed_id', '=', feedId)
    .where('a.switched_on_at', 'is not', null)
    .where('a.paused_at', 'is', null)
    .executeTakeFirst()) !== undefined;

type Rule = { id: string; name: string; since: Date; begunAt: Date | null; quietMs: number; brake: number | null };

async function rulesOf(trx: Db, feedId: string): Promise<Rule[]> {
  const rows = await trx
    .selectFrom('auto_sends as a')
    .innerJoin('auto_send_feeds as f', 'f.auto_send_id', 'a.id')
    .select(['a.id', 'a.name', 'a.switched_on_at', 'a.settings', 'f.begun_at', 'f.since'])
    .where('f.feed_id', '=', feedId)
    .where('a.switched_on_at', 'is not', null)
    .orderBy('a.id')
    .forUpdate('a')
    .execute();
  return rows.map((row) => ({
    id: row.id,
    name: row.name,
    since: row.since,
    begunAt: row.begun_at,
    quietMs: row.settings.quietMinutes * 60_000,
    brake: row.settings.brake,
  }));
}

const earliest = (rules: Rule[]): Date | null =>
  rules.length ? new Date(Math.min(...rules.map((rule) => rule.since.getTime()))) : null;

type Kept = KnownItem & { source: string; print: string | null; gone_at: Date | null; kept: boolean };

type Shown = Recognised & { before: Kept | undefined; kept: boolean };

/** A post of a reading with what is known of it, and whether what it says is kept: not of the back catalogue, which is most of a first reading. */
function asKept(feed: Feed, one: Recognised, before: Kept | undefined, since: Date | null): Shown {
  const { publishedAt } = one.item;
  const may = since !== null && ((publishedAt !== null && publishedAt >= since) || (feed.read_at !== null && !before));
  return { ...one, before, kept: may || before?.kept === true };
}

/** Keeps what a reading says of each post; answers their ids by their keys. What is edited waits anew where it is not ready yet. */
async function keepItems(ctx: Context, trx: Db, feed: Feed, shown: Shown[], brought: Brought): Promise<Map<string, string>> {
  const now = ctx.clock.now();
  const ids = new Map<string, string>();
  const fresh: Insertable<FeedItemTable>[] = [];
  const rewritten: { id: string; source: string }[] = [];
  // A feed has its newest first, and so the newest is kept last.
  for (const { item, key, before, kept } of shown.toReversed()) {
    const id = before?.id ?? newId();
    ids.set(key, id);
    const print = printOf(item) ?? before?.print ?? null;
    const edited = before !== undefined && before.print !== null && before.print !== print;
    const whole = brought.get(key);
    const document = whole?.document ?? item.document;
    const said = {
      item_key: key,
      title: item.title,
      link: item.link,
      author: item.author,
      topics: item.topics,
      summary: item.summary,
      // What is kept of one that says the same has its pictures here already.
      ...(!before?.kept || edited
        ? {
            document: kept && document ? JSON.stringify(document) : null,
            words: kept && document ? wordsOf(document) : '',
            picture: whole?.picture ?? item.picture,
          }
        : {}),
      ...(whole ? { pictures: JSON.stringify(whole.pictures) } : {}),
      source: item.source,
      print,
      published_at: item.publishedAt,
      gone_at: null,
    };
    if (!before) fresh.push({ id, feed_id: feed.id, first_seen_at: now, changed_at: now, ...said });
    else if (
      edited ||
      (kept && !before.kept) ||
      before.key !== key ||
      before.gone_at ||
      before.publishedAt?.getTime() !== item.publishedAt?.getTime()
    ) {
      await trx
        .updateTable('feed_items')
        .set({ ...said, ...(edited ? { changed_at: now } : {}) })
        .where('id', '=', id)
        .execute();
      // Looked at again: it may have become ready to leave, or have to stand still anew.
      await trx
        .updateTable('rule_posts')
        .set({ ready_at: now })
        .where('item_id', '=', id)
        .where('state', '=', 'waiting')
        .execute();
    } else if (before.source !== item.source) rewritten.push({ id, source: item.source });
  }
  // Written otherwise, and saying the same: some feeds are, whenever they are asked for.
  if (rewritten.length)
    await sql`
      update feed_items i set source = t.source from jsonb_to_recordset(${JSON.stringify(rewritten)}::jsonb) as t(id uuid, source text)
      where i.id = t.id`.execute(trx);
  if (fresh.length) await trx.insertInto('feed_items').values(fresh).execute();
  return ids;
}

const markGone = async (trx: Db, gone: KnownItem[], now: Date) => {
  if (gone.length)
    await trx
      .updateTable('feed_items')
      .set({ gone_at: now })
      .where(
        'id',
        'in',
        gone.map((one) => one.id),
      )
      .where('gone_at', 'is', null)
      .execute();
};

/** The dates of a feed's posts by which is told what is usual there: not of those that came with too many others, or were left out, and none that has just come. */
export async function usualDates(db: Db, ruleId: string, feedId: string, now: Date): Promise<(Date | null)[]> {
  const { rows } = await sql<{ published_at: Date | null }>`
    select i.published_at from feed_items i left join rule_posts p on p.item_id = i.id and p.auto_send_id = ${ruleId}::uuid
    where i.feed_id = ${feedId}::uuid and i.first_seen_at <= ${new Date(now.getTime() - AT_ONCE_MS)} and coalesce(p.state, 'before') not in ('held', 'left out')
    order by coalesce(i.published_at, i.first_seen_at) desc limit 60`.execute(db);
  return rows.map((row) => row.published_at);
}

/** Gives a rule the posts of a reading that it does not have yet: the new ones to be mailed, all else as its back catalogue. Returns how many are new. */
async function give(
  ctx: Context,
  trx: Db,
  feed: Feed,
  rule: Rule,
  recognised: Recognised[],
  ids: Map<string, string>,
  title: string,
): Promise<number> {
  const now = ctx.clock.now();
  const first = rule.begunAt === null;
  const rows = recognised.map(({ item, key }) => ({ item, id: ids.get(key)! }));
  // All else of the feed stood there before the rule was made.
  if (first) {
    await sql`
      insert into rule_posts (auto_send_id, item_id, state, filed_at) select ${rule.id}::uuid, i.id, 'before', ${now} from feed_items i
      where i.feed_id = ${feed.id}::uuid and i.first_seen_at < ${rule.since} on conflict do nothing`.execute(trx);
    await trx
      .updateTable('auto_send_feeds')
      .set({ begun_at: now })
      .where('auto_send_id', '=', rule.id)
      .where('feed_id', '=', feed.id)
      .execute();
  }
  const filed = rows.map(({ item, id }) => ({
    id,
    isNew: isNewPost(item.publishedAt, rule.since, first),
    readyAt: new Date(Math.max(now.getTime() + rule.quietMs, item.publishedAt?.getTime() ?? 0)),
  }));
  if (filed.length === 0) return 0;
  const { rows: fresh } = await sql<{ item_id: string; state: string }>`
    insert into rule_posts (auto_send_id, item_id, state, ready_at, filed_at)
    select ${rule.id}::uuid, t.id, case when t.new then 'waiting' else 'before' end, case when t.new then t.at end, ${now}
    from unnest(${filed.map((one) => one.id)}::uuid[], ${filed.map((one) => one.isNew)}::boolean[], ${filed.map((one) => one.readyAt)}::timestamptz[]) as t(id, new, at)
    on conflict do nothing returning item_id, state`.execute(trx);
  const news = fresh.filter((row) => row.state === 'waiting').length;
  if (news === 0) return 0;
  const brake = rule.brake ?? usualAtOnce(await usualDates(trx, rule.id, feed.id, now));
  const { rows: lately } = await sql<{ n: number }>`
    select count(*)::int as n from rule_posts p join feed_items i on i.id = p.item_id
    where p.auto_send_id = ${rule.id}::uuid and i.feed_id = ${feed.id}::uuid and p.state in ('waiting', 'held', 'ready') and p.filed_at > ${new Date(now.getTime() - AT_ONCE_MS)}`.execute(
    trx,
  );
  if (lately[0]!.n <= brake) return news;
  const { rows: held } = await sql<{ was: boolean }>`
    with were as (select exists (select 1 from rule_posts p where p.auto_send_id = ${rule.id}::uuid and p.state = 'held') as was),
    now_held as (update rule_posts p set state = 'held', ready_at = null from feed_items i
      where i.id = p.item_id and i.feed_id = ${feed.id}::uuid and p.auto_send_id = ${rule.id}::uuid and p.state = 'waiting' and p.filed_at > ${new Date(now.getTime() - AT_ONCE_MS)} returning 1)
    select was from were, (select count(*) from now_held) n`.execute(trx);
  // Said once, until somebody has decided.
  if (!held[0]!.was)
    await tellOf(
      ctx,
      trx,
      feed,
      `${counted(lately[0]!.n, 'new post', 'new posts')} came at once`,
      [
        `${title || rule.name} has ${lately[0]!.n} posts that were not there before. That is more than is usual there (${brake}), so none of them leaves by itself.`,
        'Say on the desk, under Auto-sends, which of them go.',
      ],
      `/auto-sends/${rule.id}`,
    );
  return news;
}

/** Tells a newsletter's owners of one of its feeds. */
async function tellOf(
  ctx: Context,
  trx: Db,
  feed: Pick<Feed, 'newsletter_id'>,
  heading: string,
  words: string[],
  path = '/auto-sends',
): Promise<void> {
  const newsletter = await trx
    .selectFrom('newsletters')
    .select(['name', 'slug'])
    .where('id', '=', feed.newsletter_id)
    .executeTakeFirstOrThrow();
  await mailOwners(ctx, trx, feed.newsletter_id, newsletter, heading, words, path, { told: 'must know' });
}

/** Tells a newsletter's owners that a feed has been silent for a day, or is gone: once, until it can be read again. */
async function tellSilence(ctx: Context, trx: Db, id: string, since: Date, sentence: string, gone: boolean): Promise<void> {
  const feed = await trx
    .updateTable('feeds')
    .set({ told_at: ctx.clock.now() })
    .where('id', '=', id)
    .where('told_at', 'is', null)
    .returningAll()
    .executeTakeFirst();
  if (!feed) return;
  const { time_zone } = await trx
    .selectFrom('newsletters')
    .select('time_zone')
    .where('id', '=', feed.newsletter_id)
    .executeTakeFirstOrThrow();
  await tellOf(ctx, trx, feed, gone ? `The feed of ${nameOf(feed)} is gone` : `We cannot read the feed of ${nameOf(feed)}`, [
    `${gone ? 'It' : `Since ${fullTime(since, time_zone)} it`} cannot be read: ${feed.url}`,
    sentence,
    gone
      ? 'No new post becomes a letter until you connect the blog anew, or switch its rule on again.'
      : 'We keep asking. Once it can be read again, what is new in it becomes letters; more than is usual at once waits for your word.',
  ]);
}

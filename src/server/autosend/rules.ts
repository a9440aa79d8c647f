import { isDeepStrictEqual } from 'node:util';
import Joi from 'joi';
import { sql } from 'kysely';
import { TITLES_ONLY } from '@/core/autosend/feed';
import { LANES, type Lane } from '@/core/autosend/lanes';
import { laneRhythm, type RuleSettings, type RuleWords, usualSettings } from '@/core/autosend/rule';
import { ruleSettingsSchema } from '@/core/autosend/schemas';
import { asFault, Fault } from '@/core/faults';
import { ofList } from '@/core/sending/audience';
import { audienceSchema } from '@/core/sending/schemas';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { newId } from '../ids';
import { armLanes } from '../sending/lanes';
import { moveLetter } from '../sending/letters';
import { readFeed } from './feeds';
import { nextHour } from './runs';

/* Rules: made, changed, switched on and off, paused, and what somebody decides of their posts and runs. */

const MOST_FEEDS = 60;
const feedUrl = Joi.string()
  .trim()
  .uri({ scheme: ['http', 'https'] })
  .max(500)
  .label('Feed address')
  .messages({
    'string.uri': 'A feed address starts with https:// or http://.',
    'string.uriCustomScheme': 'A feed address starts with https:// or http://.',
  });
const newRule = Joi.object<{ feedUrls: string[]; own: boolean; name: string; senderId: string; listId: string }>({
  feedUrls: Joi.array().items(feedUrl).max(MOST_FEEDS).default([]),
  own: Joi.boolean().default(false),
  name: Joi.string().trim().max(80).allow('').default('').label('Name'),
  senderId: Joi.string().uuid().required().label('Sender'),
  listId: Joi.string().uuid().required().label('List'),
}).custom((value, helpers) => (value.feedUrls.length || value.own ? value : helpers.error('any.invalid')));

/**
 * Makes a rule that mails each new post, switched off. A single feed is read once, so that a wrong address is found now and not on a Thursday. `own`: the newsletter's
 * own pages are a source too.
 */
export async function createRule(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const value = check(newRule, raw);
  await ownWays(ctx.db, newsletter, value);
  if (!(await isOwn(ctx.db, newsletter, 'lists', value.listId)))
    throw new Fault('invalid', 'Choose a list.', { listId: 'Choose a list.' });
  const titles = new Map<string, string>();
  if (value.feedUrls.length === 1) {
    const [url] = value.feedUrls as [string];
    const feed = await readFeed(ctx, url, { etag: null, lastModified: null }, newsletter.time_zone, TITLES_ONLY).catch(
      (error: unknown) => {
        const fault = asFault(error);
        throw new Fault(fault.code, fault.sentence, { feedUrl: fault.sentence });
      },
    );
    titles.set(url, feed.title);
  }
  const id = newId();
  await inTransaction(ctx.db, async (trx) => {
    const layout = await trx
      .selectFrom('layouts')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .orderBy('is_default', 'desc')
      .orderBy('updated_at')
      .executeTakeFirstOrThrow();
    const [first] = value.feedUrls;
    await trx
      .insertInto('auto_sends')
      .values({
        id,
        newsletter_id: newsletter.id,
        name: value.name || (first ? titles.get(first) || new URL(first).host : newsletter.name),
        settings: JSON.stringify(usualSettings(newsletter.time_zone)),
        audience: JSON.stringify(ofList(value.listId)),
        sender_id: value.senderId,
        layout_id: layout.id,
        created_at: ctx.clock.now(),
      })
      .execute();
    await trx
      .insertInto('rule_lanes')
      .values(LANES.map((lane) => ({ auto_send_id: id, lane })))
      .execute();
    for (const url of [...new Set(value.feedUrls), ...(value.own ? [null] : [])])
      await addTo(ctx, trx, newsletter, id, url, titles.get(url ?? '') ?? '');
  });
  return { id };
}

async function addTo(
  ctx: Context,
  trx: Db,
  newsletter: Newsletter,
  ruleId: string,
  url: string | null,
  title: string,
): Promise<void> {
  const now = ctx.clock.now();
  const { rows } = await sql<{ id: string }>`
    insert into feeds (id, newsletter_id, url, title, created_at) values (${newId()}, ${newsletter.id}, ${url}, ${title || (url ? new URL(url).host : newsletter.name)}, ${now})
    on conflict (newsletter_id, url) do update set title = case when feeds.title = '' then excluded.title else feeds.title end returning id`.execute(
    trx,
  );
  await trx
    .insertInto('auto_send_feeds')
    .values({ auto_send_id: ruleId, feed_id: rows[0]!.id, since: now })
    .onConflict((c) => c.doNothing())
    .execute();
}

/** Gives a rule another source: a feed's address, or '' for the newsletter's own pages. What stands there now is never mailed. */
export async function addFeed(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const { url } = check(Joi.object<{ url: string }>({ url: feedUrl.allow('').required() }), raw);
  const title = url
    ? (await readFeed(ctx, url, { etag: null, lastModified: null }, newsletter.time_zone, TITLES_ONLY)).title
    : '';
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    const { n } = await trx
      .selectFrom('auto_send_feeds')
      .select(sql<number>`count(*)::int`.as('n'))
      .where('auto_send_id', '=', id)
      .executeTakeFirstOrThrow();
    if (n >= MOST_FEEDS) throw new Fault('conflict', `A rule has ${MOST_FEEDS} sources at most.`);
    await addTo(ctx, trx, newsletter, id, url || null, title);
    if (rule.switched_on_at) await ask(ctx, trx, id);
  });
}

/** Takes a source from a rule, but for its last one. Posts of it that wait are not mailed. */
export async function removeFeed(ctx: Context, newsletter: Newsletter, id: string, feedId: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    await own(trx, newsletter, id);
    const feeds = await trx.selectFrom('auto_send_feeds').select('feed_id').where('auto_send_id', '=', id).execute();
    if (feeds.length < 2) throw new Fault('conflict', 'A rule needs a source. Delete the rule, or add another source first.');
    await trx.deleteFrom('auto_send_feeds').where('auto_send_id', '=', id).where('feed_id', '=', feedId).execute();
    await sql`
      update rule_posts p set state = 'left out', ready_at = null from feed_items i
      where i.id = p.item_id and i.feed_id = ${feedId} and p.auto_send_id = ${id} and p.state in ('waiting', 'held', 'ready')`.execute(
      trx,
    );
    await restUnasked(trx, newsletter.id);
  });
}

/** Asks for a rule's feeds, whole, at once: what somebody reads of them just now does not count. */
const ask = (ctx: Context, trx: Db, ruleId: string) =>
  sql`
    update feeds f set next_poll_at = ${ctx.clock.now()}, claimed_at = null, etag = null, last_modified = null, failures = 0, fault = null, failing_since = null, told_at = null
    from auto_send_feeds a where a.feed_id = f.id and a.auto_send_id = ${ruleId}`.execute(trx);

/** A feed that no rule wants which is on is asked for no more. */
const restUnasked = (trx: Db, newsletterId: string) =>
  sql`
    update feeds f set next_poll_at = null where f.newsletter_id = ${newsletterId} and f.next_poll_at is not null
      and not exists (select 1 from auto_send_feeds x join auto_sends a on a.id = x.auto_send_id where x.feed_id = f.id and a.switched_on_at is not null)`.execute(
    trx,
  );

const isOwn = async (db: Db, newsletter: Newsletter, table: 'senders' | 'lists' | 'layouts', id: string) =>
  (await db.selectFrom(table).select('id').where('newsletter_id', '=', newsletter.id).where('id', '=', id).executeTakeFirst()) !==
  undefined;

async function ownWays(db: Db, newsletter: Newsletter, value: { senderId: string; layoutId?: string }): Promise<void> {
  if (!(await isOwn(db, newsletter, 'senders', value.senderId)))
    throw new Fault('invalid', 'Choose a sender.', { senderId: 'Choose a sender.' });
  if (value.layoutId && !(await isOwn(db, newsletter, 'layouts', value.layoutId)))
    throw new Fault('invalid', 'Choose a layout.', { layoutId: 'Choose a layout.' });
}

async function own(trx: Db, newsletter: Newsletter, id: string) {
  const rule = await trx
    .selectFrom('auto_sends')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .forUpdate()
    .executeTakeFirst();
  if (!rule) throw new Fault('not-found', 'This auto-send is gone.');
  return rule;
}

const words = {
  name: Joi.string().trim().min(1).max(80).required().label('Name'),
  settings: ruleSettingsSchema.required(),
  audience: audienceSchema.required(),
  senderId: Joi.string().uuid().required().label('Sender'),
  layoutId: Joi.string().uuid().required().label('Layout'),
  intro: Joi.string().trim().allow('').max(2_000).required().label('Note'),
};
const change = Joi.object<RuleWords & { seen: RuleWords }>({ ...words, seen: Joi.object(words).required() });

/**
 * Changes what a rule says; letters made already keep what they have. What waits is looked at by the new words at once. `seen` is what it said when somebody began to
 * change it: throws "conflict" where it says something else now, so that no window takes back what another chose.
 */
export async function changeRule(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const { seen, ...value } = check(change, raw);
  await ownWays(ctx.db, newsletter, value);
  const now = ctx.clock.now();
  await inTransaction(ctx.db, async (trx) => {
    const before = await own(trx, newsletter, id);
    const { name, settings, audience, intro, sender_id: senderId, layout_id: layoutId } = before;
    if (!isDeepStrictEqual(seen, { name, settings, audience, intro, senderId, layoutId }))
      throw new Fault(
        'conflict',
        'This was changed meanwhile, or its note has left with a letter. Here it is as it stands now; choose again.',
      );
    await trx
      .updateTable('auto_sends')
      .set({
        name: value.name,
        settings: JSON.stringify(value.settings),
        audience: JSON.stringify(value.audience),
        sender_id: value.senderId,
        layout_id: value.layoutId,
        intro: value.intro,
      })
      .where('id', '=', id)
      .execute();
    // Whoever had chosen gets it as it usually comes, where nothing may be chosen any more; each post once all the same.
    if (before.settings.choices && !value.settings.choices)
      await sql`
        update reader_rhythms r set lane = 'usual', joins = null, since = coalesce(r.since, l.upto) from rule_lanes l
        where r.auto_send_id = ${id} and r.lane <> 'usual' and l.auto_send_id = r.auto_send_id and l.lane = r.lane`.execute(trx);
    // Nobody has come by the others yet: they begin where the usual one is.
    if (!before.settings.choices && value.settings.choices)
      await sql`
        update rule_lanes l set upto = u.upto from rule_lanes u
        where l.auto_send_id = ${id} and u.auto_send_id = l.auto_send_id and u.lane = 'usual' and l.lane <> 'usual'`.execute(trx);
    await trx
      .updateTable('rule_posts')
      .set({ ready_at: now })
      .where('auto_send_id', '=', id)
      .where('state', '=', 'waiting')
      .execute();
    if (before.switched_on_at) await schedule(ctx, trx, { id, settings: value.settings }, before.settings);
  });
}

/** Sets each lane's next hour; one whose rhythm is as it was keeps it. */
async function schedule(
  ctx: Context,
  trx: Db,
  rule: { id: string; settings: RuleSettings },
  before: RuleSettings | null,
): Promise<void> {
  for (const lane of LANES) {
    const rhythm = laneRhythm(rule.settings, lane);
    if (before && before.zone === rule.settings.zone && JSON.stringify(laneRhythm(before, lane)) === JSON.stringify(rhythm))
      continue;
    await trx
      .updateTable('rule_lanes')
      .set({ next_at: rhythm && nextHour(rhythm, rule.settings.zone, ctx.clock.now()), skipped_at: null })
      .where('auto_send_id', '=', rule.id)
      .where('lane', '=', lane)
      .execute();
  }
  await armLanes(ctx, trx, rule);
}

/** After the clock went backwards: an hour that was next by the old time is not waited for by the new, and what was edited then was edited now at the latest. */
export async function mendLanes(ctx: Context): Promise<void> {
  const now = ctx.clock.now();
  await ctx.db.updateTable('feed_items').set({ changed_at: now }).where('changed_at', '>', now).execute();
  await sql`update rule_posts p set ready_at = ${now} from feed_items i where i.id = p.item_id and p.state = 'waiting' and p.ready_at > ${now} and (i.published_at is null or i.published_at <= ${now})`.execute(
    ctx.db,
  );
  const rules = await ctx.db
    .selectFrom('auto_sends')
    .select(['id', 'settings'])
    .where('switched_on_at', 'is not', null)
    .execute();
  for (const rule of rules)
    for (const lane of LANES) {
      const rhythm = laneRhythm(rule.settings, lane);
      const next = rhythm && nextHour(rhythm, rule.settings.zone, now);
      if (next)
        await ctx.db
          .updateTable('rule_lanes')
          .set({ next_at: next, skipped_at: null })
          .where('auto_send_id', '=', rule.id)
          .where('lane', '=', lane)
          .where('next_at', '>', next)
          .execute();
    }
}

/**
 * Switches a rule on or off. On: the next reading files everything its feeds hold as their back catalogue, and only what appears after this moment is mailed. Off and on
 * again starts afresh, so that nothing from between is mailed.
 */
export async function switchRule(ctx: Context, newsletter: Newsletter, id: string, on: boolean): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    if ((rule.switched_on_at !== null) === on) return;
    await trx
      .updateTable('auto_sends')
      .set({ switched_on_at: on ? ctx.clock.now() : null, paused_at: null })
      .where('id', '=', id)
      .execute();
    await sql`
      update rule_posts p set state = 'left out', ready_at = null where p.auto_send_id = ${id}
        and (p.state in ('waiting', 'held') or p.state = 'ready' and p.place > (select min(upto) from rule_lanes l where l.auto_send_id = p.auto_send_id))`.execute(
      trx,
    );
    if (on) {
      await trx
        .updateTable('auto_send_feeds')
        .set({ begun_at: null, since: ctx.clock.now() })
        .where('auto_send_id', '=', id)
        .execute();
      await ask(ctx, trx, id);
      await schedule(ctx, trx, rule, null);
    } else {
      await endRuns(ctx, trx, id);
      await trx.updateTable('rule_lanes').set({ next_at: null, skipped_at: null }).where('auto_send_id', '=', id).execute();
      await restUnasked(trx, newsletter.id);
    }
  });
}

/** What a rule made and what has not begun to leave is a draft like any other then: neither mailed by itself later, nor lost. */
async function endRuns(ctx: Context, trx: Db, id: string): Promise<void> {
  const letters = await trx
    .selectFrom('letters')
    .select('id')
    .where('auto_send_id', '=', id)
    .where('run_id', 'is not', null)
    .where('state', 'in', ['draft', 'scheduled', 'held'])
    .orderBy('id')
    .execute();
  for (const letter of letters) {
    await moveLetter(ctx, trx, letter.id, 'unschedule', 'Its auto-send was switched off');
    await trx.deleteFrom('letter_posts').where('letter_id', '=', letter.id).execute();
    await trx.updateTable('letters').set({ run_id: null }).where('id', '=', letter.id).execute();
  }
  await trx
    .updateTable('rule_runs')
    .set({ state: 'dropped', approve_by: null, words: 'Switched off before its letter left.' })
    .where('auto_send_id', '=', id)
    .where('state', 'in', ['draft', 'going'])
    // One that is being fixed at this moment leaves.
    .where(sql<boolean>`not exists (select 1 from letters l where l.run_id = rule_runs.id and l.state = 'starting')`)
    .execute();
}

/** Pauses a rule: its feeds are read on and what is new gathers, and nothing of it leaves. */
export async function pauseRule(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    if (!rule.switched_on_at) throw new Fault('conflict', 'This auto-send is switched off already.');
    await trx
      .updateTable('auto_sends')
      .set({ paused_at: rule.paused_at ?? ctx.clock.now() })
      .where('id', '=', id)
      .execute();
  });
}

/** What becomes of posts that gathered: each goes, all in one letter, the newest alone, or none. */
const WHICH = ['all', 'together', 'newest', 'none'] as const;
export type Which = (typeof WHICH)[number];
const which = Joi.object<{ which: Which }>({
  which: Joi.valid(...WHICH)
    .required()
    .label('Which'),
});

/** Lets a paused rule go on, and says what becomes of what gathered meanwhile. Hours that were missed do not come again. */
export async function goOn(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const value = check(which, raw);
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    if (!rule.paused_at) return;
    await trx.updateTable('auto_sends').set({ paused_at: null }).where('id', '=', id).execute();
    await decide(ctx, trx, id, 'waiting', value.which);
    await schedule(ctx, trx, rule, null);
  });
}

/** Says of the new posts that came with too many others which of them are mailed; the others count as known. Returns how many are. */
export async function decideHeld(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<{ posts: number }> {
  const value = check(which, raw);
  return inTransaction(ctx.db, async (trx) => {
    await own(trx, newsletter, id);
    return { posts: await decide(ctx, trx, id, 'held', value.which) };
  });
}

async function decide(ctx: Context, trx: Db, id: string, state: 'waiting' | 'held', chosen: Which): Promise<number> {
  const posts = await trx
    .selectFrom('rule_posts as p')
    .innerJoin('feed_items as i', 'i.id', 'p.item_id')
    .select(['p.item_id', 'i.gone_at'])
    .where('p.auto_send_id', '=', id)
    .where('p.state', '=', state)
    .orderBy(sql`coalesce(i.published_at, i.first_seen_at)`)
    .orderBy('i.place')
    .execute();
  const there = posts.filter((one) => one.gone_at === null);
  const go = chosen === 'none' ? [] : chosen === 'newest' ? there.slice(-1) : there;
  const set = (ids: string[], to: { state: 'waiting' | 'left out'; ready_at: Date | null; bundle: string | null }) =>
    ids.length
      ? trx.updateTable('rule_posts').set(to).where('auto_send_id', '=', id).where('item_id', 'in', ids).execute()
      : null;
  const ids = go.map((one) => one.item_id);
  await set(ids, { state: 'waiting', ready_at: ctx.clock.now(), bundle: chosen === 'together' ? newId() : null });
  await set(
    posts.map((one) => one.item_id).filter((one) => !ids.includes(one)),
    { state: 'left out', ready_at: null, bundle: null },
  );
  return ids.length;
}

/** Leaves one post out of what is to come, or takes one in again that was left out. What a lane has mailed already stays mailed, and is not mailed again. */
export async function leaveOut(ctx: Context, newsletter: Newsletter, id: string, itemId: string, out: boolean): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    const post = await trx
      .selectFrom('rule_posts')
      .selectAll()
      .where('auto_send_id', '=', id)
      .where('item_id', '=', itemId)
      .where('state', 'in', out ? ['waiting', 'held', 'ready'] : ['left out', 'no match'])
      .executeTakeFirst();
    if (!post) throw new Fault('conflict', out ? 'This post does not wait any more.' : 'This post was not left out.');
    const back =
      post.place === null
        ? { state: 'waiting' as const, ready_at: ctx.clock.now() }
        : { state: 'ready' as const, ready_at: null };
    await trx
      .updateTable('rule_posts')
      .set(out ? { state: 'left out', ready_at: null } : back)
      .where('auto_send_id', '=', id)
      .where('item_id', '=', itemId)
      .execute();
    if (!out) await armLanes(ctx, trx, rule);
  });
}

/** Skips a lane's next hour, or takes that back: its posts wait for the one after. */
export async function skipNext(ctx: Context, newsletter: Newsletter, id: string, lane: Lane, skip: boolean): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    const rhythm = laneRhythm(rule.settings, lane);
    if (!rhythm || !('hour' in rhythm))
      throw new Fault('conflict', 'Only a letter that has its hour can be skipped. Leave its posts out instead.');
    await trx
      .updateTable('rule_lanes')
      .set((eb) => ({ skipped_at: skip ? eb.ref('next_at') : null }))
      .where('auto_send_id', '=', id)
      .where('lane', '=', lane)
      .execute();
  });
}

/** Runs a rule now, at every rhythm, with what is there, though its last edits may be a moment ago. Throws "conflict" where nothing waits. */
export async function runNow(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    const rule = await own(trx, newsletter, id);
    if (!rule.switched_on_at || rule.paused_at)
      throw new Fault('conflict', 'This auto-send is not on, so nothing of it can leave now.');
    const now = ctx.clock.now();
    const { rows } = await sql<{ n: number }>`
      with waits as (
        select p.item_id, p.state, p.place from rule_posts p join feed_items i on i.id = p.item_id
        where p.auto_send_id = ${id} and p.state in ('waiting', 'ready') and i.gone_at is null and (i.published_at is null or i.published_at <= ${now})),
      stood as (update feed_items i set changed_at = least(i.changed_at, ${new Date(now.getTime() - rule.settings.quietMinutes * 60_000)}) from waits w where w.item_id = i.id and w.state = 'waiting'),
      due as (update rule_posts p set ready_at = ${now} from waits w where w.item_id = p.item_id and p.auto_send_id = ${id} and w.state = 'waiting')
      select count(*)::int as n from waits where state = 'waiting' or place > (select min(upto) from rule_lanes l where l.auto_send_id = ${id} and l.lane = 'usual')`.execute(
      trx,
    );
    if (rows[0]!.n === 0) throw new Fault('conflict', 'No post waits, so there is nothing to send.');
    for (const lane of LANES)
      if (laneRhythm(rule.settings, lane))
        await trx
          .updateTable('rule_lanes')
          .set({ next_at: now, skipped_at: null })
          .where('auto_send_id', '=', id)
          .where('lane', '=', lane)
          .execute();
  });
}

/** Deletes a rule. Its letters stay; what waited is not mailed. */
export async function deleteRule(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await inTransaction(ctx.db, async (trx) => {
    await own(trx, newsletter, id);
    await endRuns(ctx, trx, id);
    await trx.deleteFrom('auto_sends').where('id', '=', id).execute();
    await restUnasked(trx, newsletter.id);
    // What no rule and no letter knows is not kept.
    await sql`
      delete from feeds f where f.newsletter_id = ${newsletter.id} and not exists (select 1 from auto_send_feeds x where x.feed_id = f.id)`.execute(
      trx,
    );
  });
}

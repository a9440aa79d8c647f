import Joi from 'joi';
import { sql } from 'kysely';
import { type FeedItem, itemKey, newItems, nextPoll, normaliseLink } from '@/core/autosend/items';
import { asFault, Fault } from '@/core/faults';
import { fullTime } from '@/core/growth/times';
import { slugify } from '@/core/newsletters/slug';
import { ofList } from '@/core/sending/audience';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction, isAway } from '../db/connection';
import { newId } from '../ids';
import { mailOwners } from '../newsletters/alerts';
import { scheduleLetter } from '../sending/letters';
import { FeedAway, readFeed } from './feeds';

export type NewPostsView = {
  id: string;
  name: string;
  feedUrl: string;
  feedTitle: string | null;
  senderId: string;
  senderName: string;
  listId: string;
  listName: string;
  layoutId: string;
  layoutName: string;
  switchedOnAt: Date | null;
  polledAt: Date | null;
  nextPollAt: Date | null;
  fault: string | null;
  items: { key: string; title: string; link: string; at: Date; state: 'before' | 'mailed' | 'held' | 'left out' }[];
  /** New posts that came with too many others at once and wait for somebody's word, the newest first. */
  held: string[];
};

const waySchemas = {
  senderId: Joi.string().uuid().required().label('Sender'),
  listId: Joi.string().uuid().required().label('List'),
};
const schema = Joi.object<{ feedUrl: string; senderId: string; listId: string }>({
  feedUrl: Joi.string()
    .trim()
    .uri({ scheme: ['http', 'https'] })
    .max(500)
    .required()
    .label('Feed address')
    .messages({
      'string.uri': 'A feed address starts with https:// or http://.',
      'string.uriCustomScheme': 'A feed address starts with https:// or http://.',
    }),
  ...waySchemas,
});
const ways = Joi.object<{ senderId: string; listId: string; layoutId?: string }>({
  ...waySchemas,
  layoutId: Joi.string().uuid().label('Layout'),
});

/** Looks at a feed before anything is saved: its title and newest posts, or the fault that stands in the way. */
export async function tryFeed(ctx: Context, feedUrl: string): Promise<{ title: string; posts: string[] }> {
  const reading = await readFeed(ctx, feedUrl, { etag: null, lastModified: null });
  return { title: reading.title, posts: reading.items.slice(0, 3).map((item) => item.title) };
}

/** Makes the rule "new posts", switched off. The feed is read once, so that a wrong address is found now and not on a Thursday. */
export async function createNewPosts(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const value = check(schema, raw);
  await ownWays(ctx, newsletter, value);
  const feed = await tryFeed(ctx, value.feedUrl).catch((error) => {
    const fault = asFault(error);
    throw new Fault(fault.code, fault.sentence, { feedUrl: fault.sentence });
  });
  const layout = await ctx.db
    .selectFrom('layouts')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('is_default', 'desc')
    .orderBy('updated_at')
    .executeTakeFirstOrThrow();
  const id = newId();
  await ctx.db
    .insertInto('auto_sends')
    .values({
      id,
      newsletter_id: newsletter.id,
      name: feed.title || new URL(value.feedUrl).host,
      feed_url: value.feedUrl,
      feed_title: feed.title,
      sender_id: value.senderId,
      list_id: value.listId,
      layout_id: layout.id,
      created_at: ctx.clock.now(),
    })
    .execute();
  return { id };
}

/** Gives a rule another sender, list or layout; letters already made keep theirs. */
export async function changeNewPosts(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<void> {
  const value = check(ways, raw);
  await ownWays(ctx, newsletter, value);
  const result = await ctx.db
    .updateTable('auto_sends')
    .set({
      sender_id: value.senderId,
      list_id: value.listId,
      ...(value.layoutId ? { layout_id: value.layoutId } : {}),
    })
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n) throw new Fault('not-found', 'This auto-send is gone.');
}

type OwnWays = { senderId: string; listId: string; layoutId?: string };
async function ownWays(ctx: Context, newsletter: Newsletter, value: OwnWays): Promise<void> {
  const own = async (table: 'senders' | 'lists' | 'layouts', id: string) =>
    (await ctx.db
      .selectFrom(table)
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .executeTakeFirst()) !== undefined;
  if (!(await own('senders', value.senderId))) throw new Fault('invalid', 'Choose a sender.', { senderId: 'Choose a sender.' });
  if (!(await own('lists', value.listId))) throw new Fault('invalid', 'Choose a list.', { listId: 'Choose a list.' });
  if (value.layoutId && !(await own('layouts', value.layoutId)))
    throw new Fault('invalid', 'Choose a layout.', { layoutId: 'Choose a layout.' });
}

/**
 * Switches a rule on or off. On: the next reading files everything the feed holds as its back catalogue, and only what appears
 * after this moment is mailed. Off and on again starts afresh, so that nothing from the pause is mailed in one go.
 */
export async function switchNewPosts(ctx: Context, newsletter: Newsletter, id: string, on: boolean): Promise<void> {
  const now = ctx.clock.now();
  const result = await ctx.db
    .updateTable('auto_sends')
    .set(
      on
        ? {
            switched_on_at: now,
            baseline_at: null,
            etag: null,
            last_modified: null,
            next_poll_at: now,
            failures: 0,
            fault: null,
            failing_since: null,
            told_at: null,
          }
        : { switched_on_at: null, next_poll_at: null },
    )
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n) throw new Fault('not-found', 'This auto-send is gone.');
}

/**
 * Reads a rule's feed if it is due and makes a letter of each new post. Filing an item and scheduling its letter are one
 * transaction keyed by the item, so a poll that runs twice, or dies between, mails nothing twice and forgets nothing. A feed that
 * fails is asked again further and further apart; what was known stays known. Returns how many letters were made.
 */
export async function pollNewPosts(ctx: Context, id: string): Promise<number> {
  const now = ctx.clock.now();
  const rule = await ctx.db
    .selectFrom('auto_sends as a')
    .selectAll('a')
    .where('a.id', '=', id)
    .where('a.switched_on_at', 'is not', null)
    .where('a.next_poll_at', '<=', now)
    .executeTakeFirst();
  if (!rule?.switched_on_at) return 0;
  const everyMs = ctx.config.feedSeconds * 1000;
  const save = (set: Record<string, unknown>, db: Db = ctx.db) =>
    db
      .updateTable('auto_sends')
      .set({ polled_at: now, ...set })
      .where('id', '=', id)
      .where('switched_on_at', '=', rule.switched_on_at)
      .execute();
  let reading: Awaited<ReturnType<typeof readFeed>>;
  try {
    reading = await readFeed(ctx, rule.feed_url, { etag: rule.etag, lastModified: rule.last_modified });
  } catch (error) {
    const { sentence } = asFault(error);
    const failures = rule.failures + 1;
    const gone = error instanceof FeedAway && error.gone;
    const again = error instanceof FeedAway ? Math.min(error.againMs, LONGEST_MS) : 0;
    const next = new Date(Math.max(nextPoll(now, everyMs, failures).getTime(), now.getTime() + again));
    const since = rule.failing_since ?? now;
    // Told in the transaction that ends the asking: whoever dies in between does neither.
    await inTransaction(ctx.db, async (trx) => {
      await save({ failures, fault: sentence, failing_since: since, next_poll_at: gone ? null : next }, trx);
      if (gone || now.getTime() - since.getTime() >= LONGEST_MS) await tellSilence(ctx, trx, rule.id, since, sentence, gone);
    });
    ctx.log.warn({ feed: rule.feed_url, failures, reason: sentence }, 'a feed could not be read');
    return 0;
  }
  const next = {
    failures: 0,
    fault: null,
    failing_since: null,
    told_at: null,
    // A feed that moved for good is asked where it is now.
    ...(reading.movedTo && reading.movedTo.length <= 500 ? { feed_url: reading.movedTo } : {}),
    next_poll_at: nextPoll(now, everyMs, 0),
    etag: reading.etag,
    last_modified: reading.lastModified,
  };
  if (reading.unchanged) {
    await save(next);
    return 0;
  }
  const known = await ctx.db.selectFrom('feed_items').select(['item_key', 'link']).where('auto_send_id', '=', id).execute();
  // The first reading after switching on only files: what stands in the feed then is its back catalogue.
  const first = rule.baseline_at === null;
  const switchedOn = rule.switched_on_at;
  const { mail, file, hold } = newItems(
    reading.items,
    { keys: new Set(known.map((row) => row.item_key)), links: new Set(known.map((row) => normaliseLink(row.link))) },
    switchedOn,
    (item) => !first || publishedAfter(item.publishedAt, switchedOn),
  );
  const made = await inTransaction(ctx.db, async (trx) => {
    let letters = 0;
    let waiting = 0;
    const held = new Set(hold);
    const isNew = new Set([...mail, ...hold]);
    for (const item of [...file, ...mail, ...hold]) {
      const filed = await trx
        .insertInto('feed_items')
        .values({
          auto_send_id: id,
          item_key: itemKey(item),
          title: item.title,
          link: item.link,
          published_at: item.publishedAt,
          first_seen_at: now,
        })
        .onConflict((c) => c.doNothing())
        .returning('item_key')
        .executeTakeFirst();
      if (!filed || !isNew.has(item)) continue;
      const postId = await keepPost(ctx, trx, rule.newsletter_id, item);
      const made = held.has(item)
        ? { state: 'held' as const, held_post_id: postId }
        : { state: 'mailed' as const, letter_id: await letterFrom(ctx, trx, rule, postId, item.title, item.summary) };
      await trx
        .updateTable('feed_items')
        .set(made)
        .where('auto_send_id', '=', id)
        .where('item_key', '=', filed.item_key)
        .execute();
      if (held.has(item)) waiting += 1;
      else letters += 1;
    }
    if (waiting) {
      const newsletter = await trx
        .selectFrom('newsletters')
        .select(['name', 'slug'])
        .where('id', '=', rule.newsletter_id)
        .executeTakeFirstOrThrow();
      await mailOwners(
        ctx,
        trx,
        rule.newsletter_id,
        newsletter,
        `${waiting} new posts came at once`,
        [
          `${reading.title || rule.name} has ${waiting} posts that were not there before. So many letters in a day is more than most readers want, so none of them has left.`,
          'Say on the desk, under Auto-sends, which of them go.',
        ],
        '/auto-sends',
        { asked: false },
      );
    }
    await trx
      .updateTable('auto_sends')
      .set({ polled_at: now, feed_title: reading.title || rule.feed_title, baseline_at: rule.baseline_at ?? now, ...next })
      .where('id', '=', id)
      .where('switched_on_at', '=', rule.switched_on_at)
      .execute();
    return letters;
  }).catch(async (error: unknown) => {
    if (isAway(error)) throw error;
    // Something of ours, or something that cannot be kept: the feed waits like one that is away, and holds up no other.
    const failures = rule.failures + 1;
    await save({
      failures,
      fault: 'Something on our side failed with what this feed holds now.',
      next_poll_at: nextPoll(now, everyMs, failures),
    });
    ctx.log.error({ err: error, feed: rule.feed_url }, 'new posts could not be kept');
    return 0;
  });
  if (made) ctx.log.info({ feed: rule.feed_url, letters: made }, 'new posts became letters');
  return made;
}

/** So long a feed may be silent before its owners are told, and so late at most it is asked again, whatever it says. */
const LONGEST_MS = 86_400_000;

/** Tells a newsletter's owners that a feed has been silent for a day, or is gone: once, until it can be read again. */
async function tellSilence(ctx: Context, trx: Db, id: string, since: Date, sentence: string, gone: boolean): Promise<void> {
  const rule = await trx
    .updateTable('auto_sends')
    .set({ told_at: ctx.clock.now() })
    .where('id', '=', id)
    .where('told_at', 'is', null)
    .where('switched_on_at', 'is not', null)
    .returning(['name', 'newsletter_id', 'feed_url'])
    .executeTakeFirst();
  if (!rule) return;
  const newsletter = await trx
    .selectFrom('newsletters')
    .select(['name', 'slug', 'time_zone'])
    .where('id', '=', rule.newsletter_id)
    .executeTakeFirstOrThrow();
  await mailOwners(
    ctx,
    trx,
    rule.newsletter_id,
    newsletter,
    gone ? `The feed of ${rule.name} is gone` : `We cannot read the feed of ${rule.name}`,
    [
      `${gone ? 'It' : `Since ${fullTime(since, newsletter.time_zone)} it`} cannot be read: ${rule.feed_url}`,
      sentence,
      gone
        ? 'No new post becomes a letter until you connect the blog anew, or switch this on again.'
        : 'We keep asking. Once it can be read again, what is new in it becomes letters; more than five at once wait for your word.',
    ],
    '/auto-sends',
    { asked: false },
  );
}

type Rule = { id: string; newsletter_id: string; layout_id: string; list_id: string; sender_id: string };

/** A post of a feed as a letter that is due now. */
const letterFrom = (ctx: Context, db: Db, rule: Rule, postId: string, title: string, summary: string): Promise<string> =>
  scheduleLetter(ctx, db, {
    newsletterId: rule.newsletter_id,
    postId,
    autoSendId: rule.id,
    layoutId: rule.layout_id,
    audience: ofList(rule.list_id),
    senderId: rule.sender_id,
    subject: title,
    previewLine: summary,
    dueAt: ctx.clock.now(),
  });

const decision = Joi.object<{ which: 'all' | 'newest' | 'none' }>({
  which: Joi.string().valid('all', 'newest', 'none').required().label('Which'),
});

/** Says of the new posts that a rule holds which of them become letters; the others count as known. Returns how many letters were made. */
export async function decideHeld(ctx: Context, newsletter: Newsletter, id: string, raw: unknown): Promise<{ letters: number }> {
  const { which } = check(decision, raw);
  return ctx.db.transaction().execute(async (trx) => {
    const rule = await trx
      .selectFrom('auto_sends')
      .select(['id', 'newsletter_id', 'layout_id', 'list_id', 'sender_id'])
      .where('newsletter_id', '=', newsletter.id)
      .where('id', '=', id)
      .forUpdate()
      .executeTakeFirst();
    if (!rule) throw new Fault('not-found', 'This auto-send is gone.');
    const held = await trx
      .selectFrom('feed_items as i')
      .innerJoin('posts as p', 'p.id', 'i.held_post_id')
      .select(['i.item_key', 'p.id', 'p.title', 'p.subtitle'])
      .where('i.auto_send_id', '=', id)
      .orderBy(sql`coalesce(i.published_at, i.first_seen_at)`)
      .orderBy('i.place')
      .execute();
    const go = which === 'all' ? held : which === 'newest' ? held.slice(-1) : [];
    for (const post of held) {
      const letterId = go.includes(post) ? await letterFrom(ctx, trx, rule, post.id, post.title, post.subtitle) : null;
      await trx
        .updateTable('feed_items')
        .set({ held_post_id: null, letter_id: letterId, state: letterId ? 'mailed' : 'left out' })
        .where('auto_send_id', '=', id)
        .where('item_key', '=', post.item_key)
        .execute();
    }
    return { letters: go.length };
  });
}

/** A feed's item as a post of the newsletter, under an address of its own. */
async function keepPost(ctx: Context, db: Db, newsletterId: string, item: FeedItem): Promise<string> {
  const now = ctx.clock.now();
  const wanted = slugify(item.title).slice(0, 80) || 'post';
  const id = newId();
  const taken = await db
    .selectFrom('posts')
    .select('id')
    .where('newsletter_id', '=', newsletterId)
    .where('slug', '=', wanted)
    .executeTakeFirst();
  await db
    .insertInto('posts')
    .values({
      id,
      newsletter_id: newsletterId,
      slug: taken ? `${wanted}-${id.slice(-8)}` : wanted,
      title: item.title,
      subtitle: item.summary,
      document: JSON.stringify(item.document),
      link: item.link || null,
      picture: item.picture,
      created_at: item.publishedAt ?? now,
      updated_at: now,
    })
    .execute();
  return id;
}

/** On the first reading only an item that carries a later date than the switch counts as new. */
const publishedAfter = (at: Date | null, switchedOn: Date) => at !== null && at >= switchedOn;

/** A newsletter's rules with their newest posts. */
export async function newPostsOf(ctx: Context, newsletter: Newsletter): Promise<NewPostsView[]> {
  const rows = await ctx.db
    .selectFrom('auto_sends as a')
    .innerJoin('senders as s', 's.id', 'a.sender_id')
    .innerJoin('lists as l', 'l.id', 'a.list_id')
    .innerJoin('layouts as y', 'y.id', 'a.layout_id')
    .selectAll('a')
    .select('y.name as layout_name')
    .select(['s.name as sender_name', 's.address as sender_address', 'l.name as list_name'])
    .where('a.newsletter_id', '=', newsletter.id)
    .orderBy('a.created_at')
    .execute();
  return Promise.all(
    rows.map(async (row) => {
      const items = await ctx.db
        .selectFrom('feed_items')
        .select(['item_key as key', 'title', 'link', sql<Date>`coalesce(published_at, first_seen_at)`.as('at'), 'state'])
        .where('auto_send_id', '=', row.id)
        .orderBy('at', 'desc')
        .orderBy('place', 'desc')
        .limit(6)
        .execute();
      const held = await ctx.db
        .selectFrom('feed_items')
        .select('title')
        .where('auto_send_id', '=', row.id)
        .where('held_post_id', 'is not', null)
        .orderBy(sql`coalesce(published_at, first_seen_at)`, 'desc')
        .orderBy('place', 'desc')
        .execute();
      return {
        id: row.id,
        name: row.name,
        feedUrl: row.feed_url,
        feedTitle: row.feed_title,
        senderId: row.sender_id,
        senderName: `${row.sender_name} <${row.sender_address}>`,
        listId: row.list_id,
        listName: row.list_name,
        layoutId: row.layout_id,
        layoutName: row.layout_name,
        switchedOnAt: row.switched_on_at,
        polledAt: row.polled_at,
        nextPollAt: row.next_poll_at,
        fault: row.fault,
        items,
        held: held.map(({ title }) => title),
      };
    }),
  );
}

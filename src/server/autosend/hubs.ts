import { sql } from 'kysely';
import { asFault } from '@/core/faults';
import type { Context } from '../context';
import { guardedFetch } from '../fetch/guarded';
import { CALM_MS, LEASE_MS } from './polling';

/*
 * Hubs tell of new posts as soon as there are any (W3C WebSub). Ours is a subscriber that believes none of them: whatever a hub sends, the feed itself is read, so that
 * nobody who learns an address can do more than have us look once. Feeds are read at their own pace all the same, for hubs fall silent.
 */

const DAY_MS = 86_400_000;
/** What we ask for, and the most that we hold a hub to. */
const LEASE_SECONDS = 10 * 86_400;
/** A hub that did not confirm is asked again after so long. */
const AGAIN_MS = 6 * 3_600_000;
const AT_ONCE = 10;

/** Asks the hubs of feeds that are read and of which no hub tells yet, or will not for long. Returns how many were asked. */
export async function askHubs(ctx: Context): Promise<number> {
  const now = ctx.clock.now();
  // Marked first: a hub that takes its time is not asked twice.
  const { rows } = await sql<{ id: string; hub: string; topic: string; hub_token: string }>`
    update feeds f set hub_asked_at = ${now}, hub_token = coalesce(hub_token, gen_random_uuid()::text) where f.id in (
      select id from feeds where hub is not null and topic is not null and next_poll_at is not null
        and (hub_until is null or hub_until < ${new Date(now.getTime() + DAY_MS)}) and (hub_asked_at is null or hub_asked_at < ${new Date(now.getTime() - AGAIN_MS)})
      limit ${AT_ONCE} for update skip locked)
    returning id, hub, topic, hub_token`.execute(ctx.db);
  await Promise.all(
    rows.map(async (feed) => {
      const wish = new URLSearchParams({
        'hub.mode': 'subscribe',
        'hub.topic': feed.topic,
        'hub.callback': `${ctx.config.linkOrigin}/e/hub/${feed.hub_token}`,
        'hub.lease_seconds': String(LEASE_SECONDS),
      });
      await guardedFetch(
        feed.hub,
        ctx.config.allowLoopback,
        { 'content-type': 'application/x-www-form-urlencoded' },
        { timeoutMs: 10_000, bytes: 100_000, redirects: 0 },
        wish.toString(),
      ).catch((error: unknown) => ctx.log.info({ hub: feed.hub, reason: asFault(error).sentence }, 'a hub could not be asked'));
    }),
  );
  return rows.length;
}

/** A hub asks whether we meant it. Answers what it is to be told back, or null where we did not ask for that. */
export async function confirmHub(ctx: Context, token: string, query: URLSearchParams): Promise<string | null> {
  const challenge = query.get('hub.challenge') ?? '';
  const topic = query.get('hub.topic') ?? '';
  if (query.get('hub.mode') !== 'subscribe' || !challenge || challenge.length > 1_000) return null;
  const seconds = Math.min(
    LEASE_SECONDS,
    Math.max(0, Number.parseInt(query.get('hub.lease_seconds') ?? '', 10) || LEASE_SECONDS),
  );
  const now = ctx.clock.now();
  const { numUpdatedRows } = await ctx.db
    .updateTable('feeds')
    .set({ hub_until: new Date(now.getTime() + seconds * 1_000) })
    .where('hub_token', '=', token)
    .where('topic', '=', topic)
    .where('hub_asked_at', '>', new Date(now.getTime() - DAY_MS))
    .executeTakeFirst();
  return numUpdatedRows > 0n ? challenge : null;
}

/**
 * A hub tells that there is something new: the feed is read soon, at once where it has not been read just before, and once however often it is told. A reading that is
 * under way goes on, and another follows it, for what is new may have come behind it. Whether anybody knew the address is not told.
 */
export async function toldByHub(ctx: Context, token: string): Promise<void> {
  const now = ctx.clock.now();
  // One that cannot be read is asked again sooner for that, though less and less.
  await sql`
    update feeds set told_new_at = ${now}, next_poll_at = case when claimed_at > ${new Date(now.getTime() - LEASE_MS)} then next_poll_at
      else least(next_poll_at, greatest(${now}::timestamptz, polled_at + ${CALM_MS} * power(2, least(failures, 6)) * interval '1 millisecond')) end
    where hub_token = ${token} and next_poll_at is not null and told_new_at is null`.execute(ctx.db);
}

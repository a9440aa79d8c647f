import { sql } from 'kysely';
import type { Context } from '../context';
import { isAway } from '../db/connection';
import { asClaimed, type ClaimedFeed, pollClaimed } from './polling';

/** The host of an address, as SQL; the pages written here are of none, so their newsletter stands for it. */
const HOST = sql<string>`coalesce(lower(substring(f.url from '^[a-z]+://([^/?#]+)')), f.newsletter_id::text)`;
/** So many of those that are due are looked through for hosts that have room. */
const LOOKED_THROUGH = 500;

/** So many feeds are asked side by side: most of the time nothing is done but wait for somebody's server. */
const AT_ONCE = 48;
/** And so many of one host, which may be where thousands of blogs stand. */
const OF_ONE_HOST = 6;

/**
 * Reads the feeds that are due, apart from all other work, so that no server that is slow keeps a letter or another feed waiting. What it takes it claims for two
 * minutes, so that no other worker asks for it meanwhile; should this one die, it is due again then.
 */
export class FeedReader {
  readonly #running = new Map<string, Promise<number>>();
  readonly #hosts = new Map<string, number>();
  #looking: Promise<void> | null = null;
  #stopped = false;
  constructor(
    private readonly ctx: Context,
    private readonly atOnce = AT_ONCE,
  ) {}

  /** Takes what is due, as much as there is room for. Called every second, and whenever there is room again. */
  look(): Promise<void> {
    this.#looking ??= this.#take().finally(() => {
      this.#looking = null;
    });
    return this.#looking;
  }

  /** Reads until nothing is due any more. Returns how many posts were new. */
  async settle(): Promise<number> {
    let posts = 0;
    for (;;) {
      await this.look();
      if (this.#running.size === 0) return posts;
      for (const made of await Promise.all(this.#running.values())) posts += made;
    }
  }

  async stop(): Promise<void> {
    this.#stopped = true;
    await Promise.allSettled(this.#running.values());
  }

  async #take(): Promise<void> {
    const room = this.atOnce - this.#running.size;
    if (this.#stopped || room <= 0) return;
    const now = this.ctx.clock.now();
    const claimed = asClaimed(now);
    const there = [...this.#hosts].map(([host, n]) => ({ host, n }));
    // Of each host as many as it has room for, so that thousands of one never stand before the others.
    const { rows } = await sql<ClaimedFeed & { host: string }>`
      update feeds f set next_poll_at = ${claimed.next_poll_at}, claimed_at = ${claimed.claimed_at}, told_new_at = ${claimed.told_new_at} where f.id in (
        select d.id from feeds d join (
          select id, next_poll_at, row_number() over (partition by host order by next_poll_at) + coalesce((select n from jsonb_to_recordset(${JSON.stringify(there)}::jsonb) as t(host text, n int) where t.host = due.host), 0) as n
          from (select f.id, f.next_poll_at, ${HOST} as host from feeds f join newsletters w on w.id = f.newsletter_id
            where f.next_poll_at <= ${now} and w.closing_at is null and f.id <> all(${[...this.#running.keys()]}::uuid[]) and ${HOST} <> all(${there.filter((one) => one.n >= OF_ONE_HOST).map((one) => one.host)}::text[])
            order by f.next_poll_at limit ${LOOKED_THROUGH}) due) fits on fits.id = d.id
        where fits.n <= ${OF_ONE_HOST} and d.next_poll_at <= ${now} order by d.next_poll_at limit ${room} for update of d skip locked)
      returning f.*, ${HOST} as host`.execute(this.ctx.db);
    for (const feed of rows) this.#begin(feed, feed.host);
  }

  #begin(feed: ClaimedFeed, host: string): void {
    this.#hosts.set(host, (this.#hosts.get(host) ?? 0) + 1);
    const work = pollClaimed(this.ctx, feed)
      .catch((error: unknown) => {
        if (!isAway(error)) this.ctx.log.error({ err: error, feed: feed.url }, 'reading a feed failed');
        return 0;
      })
      .finally(() => {
        this.#running.delete(feed.id);
        const left = this.#hosts.get(host)! - 1;
        if (left > 0) this.#hosts.set(host, left);
        else this.#hosts.delete(host);
        // Some at a time: each look costs the database something.
        if (this.#running.size <= this.atOnce * 0.75) void this.look().catch(() => undefined);
      });
    this.#running.set(feed.id, work);
  }
}

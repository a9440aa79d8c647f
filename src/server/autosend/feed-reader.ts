import { sql } from 'kysely';
import type { Context } from '../context';
import { isAway } from '../db/connection';
import { type ClaimedFeed, LEASE_MS, pollClaimed } from './polling';

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
  #waiting: ClaimedFeed[] = [];
  #looking: Promise<void> | null = null;
  #stopped = false;
  constructor(
    private readonly ctx: Context,
    private readonly atOnce = AT_ONCE,
  ) {}

  /** Takes what is due, as much as there is room for. Called every second, and whenever one is done. */
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
    this.#waiting = [];
    await Promise.allSettled(this.#running.values());
  }

  async #take(): Promise<void> {
    const room = this.atOnce - this.#running.size - this.#waiting.length;
    if (this.#stopped) return;
    if (room > 0) {
      const now = this.ctx.clock.now();
      const { rows } = await sql<ClaimedFeed>`
        update feeds f set next_poll_at = ${new Date(now.getTime() + LEASE_MS)} where f.id in (
          select d.id from feeds d join newsletters n on n.id = d.newsletter_id
          where d.next_poll_at <= ${now} and n.closing_at is null order by d.next_poll_at limit ${room} for update of d skip locked)
        returning *`.execute(this.ctx.db);
      this.#waiting.push(...rows.filter((row) => !this.#running.has(row.id)));
    }
    this.#begin();
  }

  #begin(): void {
    const later: ClaimedFeed[] = [];
    for (const feed of this.#waiting) {
      const host = feed.url ? new URL(feed.url).host : feed.newsletter_id;
      const there = this.#hosts.get(host) ?? 0;
      if (this.#running.size >= this.atOnce || there >= OF_ONE_HOST) {
        later.push(feed);
        continue;
      }
      this.#hosts.set(host, there + 1);
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
          if (!this.#stopped) void this.look().catch(() => undefined);
        });
      this.#running.set(feed.id, work);
    }
    this.#waiting = later;
  }
}

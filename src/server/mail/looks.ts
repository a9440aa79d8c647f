import { type Layout, STARTING_LAYOUT } from '@/core/writing/layout';
import type { Look } from '@/core/writing/look';
import type { Context } from '../context';
import type { Db } from '../db/connection';

/** So long a look that was asked for holds for the mails after it. */
const LOOK_MS = 10_000;
const MOST_LOOKS = 5_000;

/** The layout that a newsletter's letters and short mails take where they name no other. */
export async function usualLayout(db: Db, newsletterId: string): Promise<Layout> {
  const row = await db
    .selectFrom('layouts')
    .select('layout')
    .where('newsletter_id', '=', newsletterId)
    .orderBy('is_default', 'desc')
    .orderBy('updated_at')
    .limit(1)
    .executeTakeFirst();
  return row?.layout ?? STARTING_LAYOUT;
}

export type Dress = { look: Look; accent: string };

/** How the mails of newsletters look, asked for once in a while and not with every mail. */
export class Looks {
  readonly #kept = new Map<string, Dress & { at: number }>();

  constructor(private readonly ctx: Context) {}

  /** A newsletter's usual look and its own colour; null where it is gone. */
  async of(newsletterId: string): Promise<Dress | null> {
    const now = this.ctx.clock.now().getTime();
    const kept = this.#kept.get(newsletterId);
    if (kept && Math.abs(now - kept.at) < LOOK_MS) return kept;
    const row = await this.ctx.db.selectFrom('newsletters').select('accent').where('id', '=', newsletterId).executeTakeFirst();
    if (!row) return null;
    const { look } = await usualLayout(this.ctx.db, newsletterId);
    if (this.#kept.size >= MOST_LOOKS) this.#kept.clear();
    const found = { at: now, look, accent: row.accent };
    this.#kept.set(newsletterId, found);
    return found;
  }
}

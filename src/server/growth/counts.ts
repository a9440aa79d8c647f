import { sql } from 'kysely';
import { localDay } from '@/core/growth/days';
import type { Context } from '../context';
import type { Db } from '../db/connection';

type Scope = { id: string; time_zone: string };
type DailyField = 'asked' | 'joined' | 'left_count';
export type FormCount = 'loaded' | 'seen' | 'started' | 'sent_in' | 'confirmed';

/** Adds to a newsletter's counts of its local day, in the caller's transaction. */
export async function countDay(ctx: Context, db: Db, newsletter: Scope, field: DailyField, by = 1): Promise<void> {
  const day = localDay(ctx.clock.now(), newsletter.time_zone);
  await db
    .insertInto('daily_counts')
    .values({ newsletter_id: newsletter.id, day, [field]: by })
    .onConflict((c) => c.columns(['newsletter_id', 'day']).doUpdateSet({ [field]: sql`daily_counts.${sql.ref(field)} + ${by}` }))
    .execute();
}

/** Adds to a form's counts of its newsletter's local day, for one version of a running test ('' for the form itself). */
export async function countForm(
  ctx: Context,
  db: Db,
  newsletter: Scope,
  formId: string,
  field: FormCount,
  variant = '',
  by = 1,
): Promise<void> {
  const day = localDay(ctx.clock.now(), newsletter.time_zone);
  await db
    .insertInto('form_days')
    .values({ form_id: formId, newsletter_id: newsletter.id, day, variant, [field]: by })
    .onConflict((c) =>
      c.columns(['form_id', 'day', 'variant']).doUpdateSet({ [field]: sql`form_days.${sql.ref(field)} + ${by}` }),
    )
    .execute();
}

type Sighting = { form: { id: string; newsletter: Scope }; field: FormCount; variant: string; place: string | null };
const WITHIN_MS = 100;

/**
 * Collects what happens to forms on pages (loaded, seen, started) and writes it together within 100 ms, so that a busy page costs one
 * statement and not one a visitor. A write that fails is logged and dropped: these counts are not worth a visitor's waiting.
 */
export class FormBook {
  #waiting: Sighting[] = [];
  #timer: NodeJS.Timeout | null = null;
  constructor(private readonly ctx: Context) {}

  add(sighting: Sighting): void {
    if (this.#waiting.length < 100_000) this.#waiting.push(sighting);
    this.#timer ??= setTimeout(() => void this.flush(), WITHIN_MS);
  }

  async flush(): Promise<void> {
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = null;
    const batch = this.#waiting.splice(0);
    if (batch.length === 0) return;
    const counts = new Map<string, { one: Sighting; by: number }>();
    for (const one of batch) {
      const key = `${one.form.id} ${one.field} ${one.variant}`;
      counts.set(key, { one, by: (counts.get(key)?.by ?? 0) + 1 });
    }
    try {
      await this.ctx.db.transaction().execute(async (trx) => {
        // In one order always, so that two processes writing at once wait for each other instead of blocking for ever.
        for (const [, { one, by }] of [...counts].sort(([a], [b]) => (a < b ? -1 : 1)))
          await countForm(this.ctx, trx, one.form.newsletter, one.form.id, one.field, one.variant, by);
      });
      await keepPlaces(this.ctx, batch);
    } catch (error) {
      this.ctx.log.warn({ reason: (error as Error).message, lost: batch.length }, 'counts of forms could not be written');
    }
  }
}

async function keepPlaces(ctx: Context, batch: Sighting[]): Promise<void> {
  const places = new Map<string, { form_id: string; host: string; path: string; loads: number }>();
  for (const { form, field, place } of batch) {
    if (field !== 'loaded' || !place || !URL.canParse(place)) continue;
    const { host, pathname } = new URL(place);
    const key = `${form.id} ${host}${pathname}`;
    const known = places.get(key);
    if (known) known.loads += 1;
    else places.set(key, { form_id: form.id, host: host.slice(0, 200), path: pathname.slice(0, 300), loads: 1 });
  }
  const now = ctx.clock.now();
  for (const [, place] of [...places].sort(([a], [b]) => (a < b ? -1 : 1))) {
    await ctx.db
      .insertInto('form_places')
      .values({ ...place, loads: String(place.loads), first_at: now, last_at: now })
      .onConflict((c) =>
        c.columns(['form_id', 'host', 'path']).doUpdateSet({ last_at: now, loads: sql`form_places.loads + ${place.loads}` }),
      )
      .execute();
  }
}

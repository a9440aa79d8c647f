import { sql } from 'kysely';
import { localDay } from '@/core/growth/days';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';
import { added, type Scope, summed } from '../readers/days';

export type FormCount = 'loaded' | 'seen' | 'started' | 'sent_in' | 'confirmed';
type FormDayCount = { newsletter: Scope; formId: string; field: FormCount; variant?: string; by?: number };

const FORM_FIELDS = ['loaded', 'seen', 'started', 'sent_in', 'confirmed'] as const;
/** Adds to forms' counts of their newsletters' local day, for one version of a running test ('' for the form itself), in one statement, in the caller's transaction. */
export async function countForms(ctx: Pick<Context, 'clock'>, db: Db, counts: FormDayCount[]): Promise<void> {
  if (counts.length === 0) return;
  const now = ctx.clock.now();
  const rows = summed(counts, FORM_FIELDS, ({ newsletter, formId, variant }) => ({
    form_id: formId,
    newsletter_id: newsletter.id,
    day: localDay(now, newsletter.time_zone),
    variant: variant ?? '',
  }));
  await sql`${insertRows('form_days', ['form_id', 'newsletter_id', 'day', 'variant', ...FORM_FIELDS], rows)}
    on conflict (form_id, day, variant) do update set ${added('form_days', FORM_FIELDS)}`.execute(db);
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
    try {
      const counts = batch.map(({ form, ...one }) => ({ ...one, formId: form.id, newsletter: form.newsletter }));
      await countForms(this.ctx, this.ctx.db, counts);
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
    const url = new URL(place);
    const [host, path] = [url.host.slice(0, 200), url.pathname.slice(0, 300)];
    const key = `${form.id} ${host}${path}`;
    const known = places.get(key);
    if (known) known.loads += 1;
    else places.set(key, { form_id: form.id, host, path, loads: 1 });
  }
  if (places.size === 0) return;
  const now = ctx.clock.now();
  const rows = [...places].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, place]) => ({ ...place, first_at: now, last_at: now }));
  await sql`${insertRows('form_places', ['form_id', 'host', 'path', 'loads', 'first_at', 'last_at'], rows)}
    on conflict (form_id, host, path) do update set last_at = excluded.last_at, loads = form_places.loads + excluded.loads`.execute(
    ctx.db,
  );
}

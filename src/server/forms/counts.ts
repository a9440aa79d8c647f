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

type Sighting = {
  form: { id: string; newsletter: Scope };
  field: FormCount;
  variant: string;
  place: string | null;
  /** Who says so; '' where it is not known. */
  client: string;
};
const WITHIN_MS = 100;
/** So many notes of one form are believed of one address in a minute: a school reads an article at once, nobody loads it a thousand times. */
const MOST_NOTES_A_MINUTE = 120;
const MOST_REMEMBERED = 50_000;
/** On so many pages a form is remembered; a site has no more, but somebody who makes addresses up has. */
const MOST_PLACES = 400;

/**
 * Collects what happens to forms on pages (loaded, seen, started) and writes it together within 100 ms, so that a busy page costs one
 * statement and not one a visitor. A write that fails is logged and dropped: these counts are not worth a visitor's waiting.
 */
export class FormBook {
  #waiting: Sighting[] = [];
  #timer: NodeJS.Timeout | null = null;
  /** Notes of this minute, by form and address. */
  readonly #noted = new Map<string, number>();
  #minute = 0;
  constructor(private readonly ctx: Context) {}

  add(sighting: Sighting): void {
    const minute = Math.floor(Date.now() / 60_000);
    if (minute !== this.#minute || this.#noted.size > MOST_REMEMBERED) this.#noted.clear();
    this.#minute = minute;
    // An IPv6 host has a whole /64 to speak from.
    const from = sighting.client.includes(':') ? sighting.client.split(':').slice(0, 4).join(':') : sighting.client;
    const key = `${sighting.form.id} ${from}`;
    const noted = (this.#noted.get(key) ?? 0) + 1;
    this.#noted.set(key, noted);
    if (noted > MOST_NOTES_A_MINUTE) return;
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
  const { rows: full } = await sql<{ form_id: string; host: string; path: string }>`
    select form_id, host, path from form_places where form_id in (
      select form_id from form_places where form_id = any(${[...new Set([...places.values()].map((place) => place.form_id))]}::uuid[])
      group by form_id having count(*) >= ${MOST_PLACES})`.execute(ctx.db);
  const isFull = new Set(full.map((place) => place.form_id));
  const known = new Set(full.map((place) => `${place.form_id} ${place.host}${place.path}`));
  const rows = [...places]
    .filter(([key, place]) => !isFull.has(place.form_id) || known.has(key))
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([, place]) => ({ ...place, first_at: now, last_at: now }));
  if (rows.length === 0) return;
  await sql`${insertRows('form_places', ['form_id', 'host', 'path', 'loads', 'first_at', 'last_at'], rows)}
    on conflict (form_id, host, path) do update set last_at = excluded.last_at, loads = form_places.loads + excluded.loads`.execute(
    ctx.db,
  );
}

import { sql } from 'kysely';
import { localDay } from '@/core/growth/days';
import type { Context } from '../context';
import type { Db } from '../db/connection';

type Scope = { id: string; time_zone: string };
type DailyField = 'asked' | 'joined' | 'left_count';
type FormField = 'loaded' | 'sent_in' | 'confirmed';

/** Adds to a newsletter's counts of its local day, in the caller's transaction. */
export async function countDay(ctx: Context, db: Db, newsletter: Scope, field: DailyField, by = 1): Promise<void> {
  const day = localDay(ctx.clock.now(), newsletter.time_zone);
  await db
    .insertInto('daily_counts')
    .values({ newsletter_id: newsletter.id, day, [field]: by })
    .onConflict((c) => c.columns(['newsletter_id', 'day']).doUpdateSet({ [field]: sql`daily_counts.${sql.ref(field)} + ${by}` }))
    .execute();
}

/** Adds to a form's counts of its newsletter's local day. */
export async function countForm(
  ctx: Context,
  db: Db,
  newsletter: Scope,
  formId: string,
  field: FormField,
  by = 1,
): Promise<void> {
  const day = localDay(ctx.clock.now(), newsletter.time_zone);
  await db
    .insertInto('form_days')
    .values({ form_id: formId, newsletter_id: newsletter.id, day, [field]: by })
    .onConflict((c) => c.columns(['form_id', 'day']).doUpdateSet({ [field]: sql`form_days.${sql.ref(field)} + ${by}` }))
    .execute();
}

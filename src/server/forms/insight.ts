import { sql } from 'kysely';
import { daysWithin, localDay } from '@/core/growth/days';
import type { FormSteps } from '@/core/growth/measures';
import type { Within } from '@/core/growth/periods';
import { probabilityBetter } from '@/core/growth/rates';
import type { Context, Newsletter } from '../context';

export type Counted = { name: string; readers: number; confirmed: number };
export type Place = { host: string; path: string; lastAt: Date; loads: number };
export type FormResult = {
  days: FormSteps;
  /** Of those who came at least 30 days ago and confirmed: how many there are, and how many read now. */
  stayed: { of: number; still: number };
};
export type FormInsight = FormResult & {
  pages: Counted[];
  sources: Counted[];
  campaigns: Counted[];
  places: Place[];
};

const DAYS = 28;

/** What all forms of a newsletter, or one, brought in the last days (`core/growth/measures`). */
export async function stepsOf(ctx: Context, newsletter: Newsletter, within: Within, formId?: string): Promise<FormSteps> {
  const { from, to } = daysWithin(within, ctx.clock.now(), newsletter.time_zone);
  const only = (column: string) => (formId ? sql`and ${sql.ref(column)} = ${formId}` : sql``);
  const [visits, people] = await Promise.all([
    sql<Pick<FormSteps, 'loaded' | 'seen' | 'started'>>`
      select coalesce(sum(loaded), 0)::int as loaded, coalesce(sum(seen), 0)::int as seen, coalesce(sum(started), 0)::int as started
      from form_days where newsletter_id = ${newsletter.id} and day >= ${from}::date and day <= ${to}::date ${only('form_id')}`.execute(
      ctx.db,
    ),
    sql<Pick<FormSteps, 'asked' | 'confirmed' | 'reading'>>`
      select coalesce(sum(asked), 0)::int as asked, coalesce(sum(confirmed), 0)::int as confirmed, coalesce(sum(reading), 0)::int as reading
      from source_between(${newsletter.id}, ${from}::date, ${to}::date) where dimension = 'form' ${only('name')}`.execute(ctx.db),
  ]);
  return { ...visits.rows[0]!, ...people.rows[0]! };
}

/** The same of one form, with who stayed. */
async function resultOf(ctx: Context, newsletter: Newsletter, formId: string, within: Within = DAYS): Promise<FormResult> {
  const before = localDay(new Date(ctx.clock.now().getTime() - 30 * 86_400_000), newsletter.time_zone);
  const [counted, stayed] = await Promise.all([
    stepsOf(ctx, newsletter, within, formId),
    // By the day they came: whoever came within the last 30 days cannot have stayed for so long.
    sql<FormResult['stayed']>`
      select coalesce(sum(confirmed), 0)::int as of, coalesce(sum(reading), 0)::int as still from source_parts
      where newsletter_id = ${newsletter.id} and dimension = 'form' and name = ${formId} and day < ${before}::date`.execute(
      ctx.db,
    ),
  ]);
  return { days: counted, stayed: stayed.rows[0]! };
}

export type FormComparison = {
  a: FormResult;
  b: FormResult /** That of those who were shown the form, b confirms more. */;
  bWins: number;
};

/** Two forms of a newsletter side by side. */
export async function compareForms(
  ctx: Context,
  newsletter: Newsletter,
  [a, b]: [string, string],
  within: Within,
): Promise<FormComparison> {
  const [one, other] = await Promise.all([resultOf(ctx, newsletter, a, within), resultOf(ctx, newsletter, b, within)]);
  const arm = (steps: FormResult) => ({ shown: steps.days.loaded, converted: steps.days.confirmed });
  return { a: one, b: other, bWins: probabilityBetter(arm(one), arm(other)) };
}

/** What a form has brought: the last 28 days step by step, who stayed, from which pages and sources, and where it was really seen. */
export async function insightOf(ctx: Context, newsletter: Newsletter, formId: string): Promise<FormInsight> {
  const by = async (what: 'page' | 'source' | 'campaign') => {
    const { rows } = await sql<Counted>`
      select name, sum(asked)::int as readers, sum(confirmed)::int as confirmed from source_parts
      where newsletter_id = ${newsletter.id} and dimension = ${`${what} of ${formId}`} group by 1 order by 3 desc, 2 desc, 1 limit 6`.execute(
      ctx.db,
    );
    return rows;
  };
  const [steps, pages, sources, campaigns, places] = await Promise.all([
    resultOf(ctx, newsletter, formId),
    by('page'),
    by('source'),
    by('campaign'),
    ctx.db
      .selectFrom('form_places')
      .select(['host', 'path', 'last_at', 'loads'])
      .where('form_id', '=', formId)
      .orderBy('last_at', 'desc')
      .limit(8)
      .execute(),
  ]);
  return {
    ...steps,
    pages,
    sources,
    campaigns,
    places: places.map((row) => ({ host: row.host, path: row.path, lastAt: row.last_at, loads: Number(row.loads) })),
  };
}

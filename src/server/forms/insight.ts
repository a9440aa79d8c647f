import { sql } from 'kysely';
import { probabilityBetter } from '@/core/growth/rates';
import type { Context, Newsletter } from '../context';

export type Counted = { name: string; readers: number; confirmed: number };
export type Place = { host: string; path: string; lastAt: Date; loads: number };
export type FormSteps = {
  days: { loaded: number; seen: number; started: number; sentIn: number; confirmed: number };
  /** Of those who confirmed at least 30 days ago: how many there are, and how many still read. */
  stayed: { of: number; still: number };
};
export type FormInsight = FormSteps & {
  pages: Counted[];
  sources: Counted[];
  campaigns: Counted[];
  places: Place[];
};

const DAYS = 28;

/** What a form has brought in the last days, step by step, and who stayed. */
export async function stepsOf(ctx: Context, newsletter: Newsletter, formId: string, lastDays = DAYS): Promise<FormSteps> {
  const now = ctx.clock.now();
  const since = new Date(now.getTime() - lastDays * 86_400_000).toISOString().slice(0, 10);
  const days = await sql<FormSteps['days']>`
    select coalesce(sum(loaded), 0)::int as loaded, coalesce(sum(seen), 0)::int as seen, coalesce(sum(started), 0)::int as started,
           coalesce(sum(sent_in), 0)::int as "sentIn", coalesce(sum(confirmed), 0)::int as confirmed
    from form_days where form_id = ${formId} and day >= ${since}`.execute(ctx.db);
  const stayed = await sql<FormSteps['stayed']>`
    select count(distinct r.id)::int as of, count(distinct r.id) filter (where m.state = 'reading' and r.address_state = 'fine')::int as still
    from readers r join memberships m on m.reader_id = r.id
    where r.newsletter_id = ${newsletter.id} and r.source_form_id = ${formId} and r.trial_id is null and m.joined_at < ${new Date(now.getTime() - 30 * 86_400_000)}`.execute(
    ctx.db,
  );
  return { days: days.rows[0]!, stayed: stayed.rows[0]! };
}

export type FormComparison = {
  a: FormSteps;
  b: FormSteps /** That of those who were shown the form, b confirms more. */;
  bWins: number;
};

/** Two forms of a newsletter side by side. */
export async function compareForms(
  ctx: Context,
  newsletter: Newsletter,
  [a, b]: [string, string],
  lastDays: number,
): Promise<FormComparison> {
  const [one, other] = await Promise.all([stepsOf(ctx, newsletter, a, lastDays), stepsOf(ctx, newsletter, b, lastDays)]);
  const arm = ({ days }: FormSteps) => ({ shown: days.loaded, converted: days.confirmed });
  return { a: one, b: other, bWins: probabilityBetter(arm(one), arm(other)) };
}

/** What a form has brought: the last 28 days step by step, who stayed, from which pages and sources, and where it was really seen. */
export async function insightOf(ctx: Context, newsletter: Newsletter, formId: string): Promise<FormInsight> {
  const by = async (what: ReturnType<typeof sql<string>>) => {
    const { rows } = await sql<Counted>`
      select ${what} as name, count(distinct r.id)::int as readers, count(distinct r.id) filter (where m.joined_at is not null)::int as confirmed
      from readers r join memberships m on m.reader_id = r.id
      where r.newsletter_id = ${newsletter.id} and r.source_form_id = ${formId} and r.trial_id is null and ${what} is not null and ${what} <> ''
      group by 1 order by 3 desc, 2 desc limit 6`.execute(ctx.db);
    return rows;
  };
  const [steps, pages, sources, campaigns, places] = await Promise.all([
    stepsOf(ctx, newsletter, formId),
    by(sql<string>`regexp_replace(r.source_page, '^https?://[^/]+|[?].*$', '', 'g')`),
    by(sql<string>`r.source_name`),
    by(sql<string>`r.source_campaign`),
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

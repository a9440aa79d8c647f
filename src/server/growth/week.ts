import { sql } from 'kysely';
import { DateTime } from 'luxon';
import { localDay, momentsOf } from '@/core/growth/days';
import { dayAfter, daysTo } from '@/core/growth/periods';
import { isEmptyWeek, type Week, type WeekLetter, weekWords } from '@/core/growth/week';
import { lineForAll } from '@/core/writing/line';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { deliveryOf } from '../delivery/standing';
import { mailOwners } from '../newsletters/alerts';
import { livingNewsletters } from '../newsletters/newsletters';
import { growthOf } from './growth';
import { sourcesOf } from './sources';
import { warningsNow } from './watch';

/** The newsletter's local hour, on Mondays, at which its week is told. */
const TELL_HOUR = 8;
/** Sources of those who signed up by no form. */
const NO_FORM: ReadonlySet<string> = new Set(['import', 'by hand']);
const MOST_LETTERS = 5;
const MOST_SOURCES = 3;
/** Standings are looked at over so many days. */
const LATELY = 28;

/** The first Monday at that hour after a moment. */
export function nextMonday(after: Date, zone: string): Date {
  const here = DateTime.fromJSDate(after, { zone });
  const monday = here.startOf('week').set({ hour: TELL_HOUR });
  return (monday > here ? monday : here.startOf('week').plus({ weeks: 1 }).set({ hour: TELL_HOUR })).toJSDate();
}

/** Newsletters whose week is to be told, or that do not know yet when: those that are new, and those whose Monday lies further ahead than a week, since the clock went backwards. */
export function weeksDue(ctx: Context): Promise<{ id: string }[]> {
  const now = ctx.clock.now();
  return livingNewsletters(ctx.db)
    .where((eb) =>
      eb.or([
        eb('summary_due_at', 'is', null),
        eb('summary_due_at', '<=', now),
        eb('summary_due_at', '>', new Date(now.getTime() + 8 * 86_400_000)),
      ]),
    )
    .limit(100)
    .execute();
}

/**
 * Tells the owners of a newsletter of the last whole week, if that is due and wanted and there is anything to tell; one week once, even where two look at once, and one
 * alone where several went by.
 */
export async function tellWeek(ctx: Context, newsletterId: string): Promise<void> {
  const newsletter = await ctx.db.selectFrom('newsletters').selectAll().where('id', '=', newsletterId).executeTakeFirst();
  if (!newsletter) return;
  const now = ctx.clock.now();
  const due = newsletter.summary_due_at;
  const tells = due !== null && due <= now && newsletter.weekly_summary;
  // One that cannot be told stands back behind the others, and comes again in an hour.
  const week = tells ? await weekOf(ctx, newsletter).catch((error) => standBack(ctx, newsletterId, due, error)) : null;
  await inTransaction(ctx.db, async (trx) => {
    const { numUpdatedRows } = await trx
      .updateTable('newsletters')
      .set({ summary_due_at: nextMonday(now, newsletter.time_zone) })
      .where('id', '=', newsletterId)
      .where('summary_due_at', due === null ? 'is' : '=', due)
      .executeTakeFirstOrThrow();
    if (!numUpdatedRows || !week || isEmptyWeek(week)) return;
    const { heading, paragraphs } = weekWords(week);
    await mailOwners(ctx, trx, newsletterId, newsletter, heading, paragraphs, `/growth?from=${week.from}&to=${week.to}`, {
      told: 'usual',
      label: 'See the week',
    });
  });
}

async function standBack(ctx: Context, id: string, due: Date, error: unknown): Promise<never> {
  const later = new Date(ctx.clock.now().getTime() + 3_600_000);
  await ctx.db
    .updateTable('newsletters')
    .set({ summary_due_at: later })
    .where('id', '=', id)
    .where('summary_due_at', '=', due)
    .execute();
  throw error;
}

/** A subject for all, without what is put in for each. */
const titleOf = (subject: string): string => lineForAll(subject) || 'Without a subject';

/** The last whole week, Monday to Sunday, by the newsletter's own days; in the figures of the screens of the same days. */
export async function weekOf(ctx: Context, newsletter: Newsletter): Promise<Week> {
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const monday = DateTime.fromJSDate(now, { zone }).startOf('week').toISODate()!;
  const days = daysTo(dayAfter(monday, -1), 7);
  const { from, until } = momentsOf(days, zone);
  const soon = new Date(now.getTime() + 7 * 86_400_000);
  const [growth, sources, delivery, unusual, left, ahead] = await Promise.all([
    growthOf(ctx, newsletter, days),
    sourcesOf(ctx, newsletter, days),
    deliveryOf(ctx, newsletter, LATELY),
    warningsNow(ctx, newsletter),
    // Also what was put away since.
    sql<Omit<WeekLetter, 'counted'> & { opens: boolean; clicks: boolean }>`
      select l.subject, l.counts_opens as opens, l.counts_clicks as clicks, coalesce(c.recipients, 0) as recipients, coalesce(c.delivered, 0) as delivered, coalesce(c.opened_people, 0) as people,
        coalesce(c.opened_machines, 0) as machines, coalesce(c.hidden, 0) as hidden, coalesce(c.clicked, 0) as clicked
      from letters l left join lateral (select * from letter_counts c where c.letter_id = l.id) c on true
      where l.newsletter_id = ${newsletter.id}::uuid and l.started_at >= ${from} and l.started_at < ${until} order by l.started_at desc, l.id`.execute(
      ctx.db,
    ),
    ctx.db
      .selectFrom('letters')
      .select(['subject', 'due_at'])
      .where('newsletter_id', '=', newsletter.id)
      .where('state', '=', 'scheduled')
      .where('due_at', '<', soon)
      .orderBy('due_at')
      .orderBy('id')
      .limit(MOST_LETTERS)
      .execute(),
  ]);
  const readers = growth.reading + growth.unreachable;
  return {
    ...days,
    reading: growth.reading,
    now: growth.now,
    before: growth.before,
    signedUp: sources.asked,
    sources: sources.by.source.filter(({ name, asked }) => asked > 0 && !NO_FORM.has(name)).slice(0, MOST_SOURCES),
    letters: left.rows
      .slice(0, MOST_LETTERS)
      .map(({ opens, clicks, ...letter }) => ({ ...letter, subject: titleOf(letter.subject), counted: { opens, clicks } })),
    moreLetters: Math.max(0, left.rows.length - MOST_LETTERS),
    troubled: delivery.standings
      .filter(({ tone }) => tone === 'look' || tone === 'mend')
      .map(({ name, state }) => ({ name, state })),
    unusual: unusual.map(({ heading }) => heading),
    goal: growth.goal && { ...growth.goal, reached: readers >= growth.goal.readers },
    ahead: ahead.map(({ subject, due_at }) => ({ subject: titleOf(subject), day: localDay(due_at, zone) })),
  };
}

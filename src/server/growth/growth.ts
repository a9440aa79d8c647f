import Joi from 'joi';
import { sql } from 'kysely';
import { DateTime } from 'luxon';
import { Fault } from '@/core/faults';
import { asOneSource } from '@/core/growth/attribution';
import { daysWithin, localDay, momentsOf } from '@/core/growth/days';
import { type Forecast, forecast, type Jump, jumpAt, type Week, weeksToGoal } from '@/core/growth/forecast';
import { type Days, dayAfter, daysTo, eachDay, lengthOf, type Within } from '@/core/growth/periods';
import { type Rate, rate } from '@/core/growth/rates';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';
import { totalsOf } from '../readers/readers';

export type Span = { joined: number; left: number };
export type GrowthNote = { id: string; day: string; words: string; jump: Jump | null };
/** Who first came in a month: how many asked, confirmed, and read now. */
export type Cohort = { month: string; asked: number; confirmed: number; reading: number };
/** How many of those who came by a source, and confirmed, read now. */
export type Staying = { name: string; confirmed: number; reading: number; stays: Rate };
export type GrowthView = {
  /** Reads now, and those whose address takes no mail. */
  reading: number;
  unreachable: number;
  /** People on lists at the end of each day, the first of the span first. */
  curve: { day: string; readers: number }[];
  now: Span;
  /** Of the days that these are held against. */
  before: Span;
  /** Those who ended in these days, each person by the first thing that ended it. */
  causes: { cause: string; n: number }[];
  forecast: { from: string; weeks: Forecast[] } | null;
  goal: { readers: number; day: string | null } | null;
  notes: GrowthNote[];
  cohorts: Cohort[];
  staying: Staying[];
};

/** Forecasts look at so many weeks. */
const WEEKS = 78;
const MOST_NOTES = 100;
const COHORTS = 12;
/** Of fewer people is not told whether they stay. */
const LEAST_STAYING = 20;
const MOST_STAYING = 12;
const MOST_SPELT = 500;
const CAUSES: Record<string, string> = {
  leave: 'unsubscribed',
  complaint: 'reported as junk',
  bounce: 'mailbox dead',
  suppress: 'suppressed by you',
  'take off': 'taken off by you',
  erase: 'erased',
};

/**
 * How the newsletter grows: people on lists day by day, what comes if it goes on so, who stays, and why people ended; from counts kept as things happen. Days are the
 * newsletter's own, `beside` those that they are held against (by default as many before them).
 */
export async function growthOf(ctx: Context, newsletter: Newsletter, within: Within, beside?: Days): Promise<GrowthView> {
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const today = localDay(now, zone);
  const days = daysWithin(within, now, zone);
  const held = beside ?? daysTo(dayAfter(days.from, -1), lengthOf(days));
  const all = eachDay({ from: [days.from, held.from, daysTo(today, 7 * WEEKS + 7).from].sort()[0]!, to: today });
  const [totals, counted, causes, notes, row, cohorts, staying] = await Promise.all([
    totalsOf(ctx, newsletter),
    ctx.db
      .selectFrom('daily_counts')
      .select(['day', 'joined', 'left_count as left'])
      .where('newsletter_id', '=', newsletter.id)
      .where('day', '>=', all[0]!)
      .execute(),
    endingsOf(ctx, newsletter, days),
    ctx.db
      .selectFrom('growth_notes')
      .select(['id', 'day', 'words'])
      .where('newsletter_id', '=', newsletter.id)
      .where('day', '>=', days.from)
      .where('day', '<=', days.to)
      .orderBy('day', 'desc')
      .orderBy('created_at', 'desc')
      .limit(MOST_NOTES)
      .execute(),
    ctx.db.selectFrom('newsletters').select('reader_goal').where('id', '=', newsletter.id).executeTakeFirstOrThrow(),
    cohortsOf(ctx, newsletter),
    stayingOf(ctx, newsletter),
  ]);
  const byDay = new Map(counted.map((one) => [one.day, one]));
  const each = all.map((day) => ({ day, joined: byDay.get(day)?.joined ?? 0, left: byDay.get(day)?.left ?? 0 }));
  const onLists = totals.reading + totals.unreachable;
  let later = 0;
  const curve = [...each].reverse().map(({ day, joined, left }) => {
    const readers = Math.max(0, onLists - later);
    later += joined - left;
    return { day, readers };
  });
  const some = ({ from, to }: Days) => each.filter(({ day }) => day >= from && day <= to);
  const joined = each.map((day) => day.joined);
  const weeks = weeksOf(each);
  const made = forecast(weeks, onLists);
  const goal = row.reader_goal;
  const reached = goal && made ? weeksToGoal(made, onLists, goal) : null;
  return {
    reading: totals.reading,
    unreachable: totals.unreachable,
    curve: curve.reverse().filter(({ day }) => day >= days.from && day <= days.to),
    now: sumOf(some(days)),
    before: sumOf(some(held)),
    causes,
    forecast: made && { from: today, weeks: made },
    goal: goal ? { readers: goal, day: reached === null ? null : dayAfter(today, 7 * reached) } : null,
    notes: notes.map((note) => ({ ...note, jump: jumpAt(joined, all.indexOf(note.day)) })),
    cohorts,
    staying,
  };
}

const sumOf = (days: Span[]): Span =>
  days.reduce((sum, day) => ({ joined: sum.joined + day.joined, left: sum.left + day.left }), { joined: 0, left: 0 });

/** Whole weeks that end yesterday, from the first in which anybody joined. */
function weeksOf(days: Span[]): Week[] {
  const whole = days.slice(0, -1);
  const weeks: Week[] = [];
  for (let end = whole.length; end >= 7; end -= 7) weeks.unshift(sumOf(whole.slice(end - 7, end)));
  const first = weeks.findIndex((week) => week.joined > 0);
  return first === -1 ? [] : weeks.slice(first).slice(-WEEKS);
}

/** Why people ended in some days, each of them once. */
async function endingsOf(ctx: Context, newsletter: Newsletter, days: Days): Promise<GrowthView['causes']> {
  const { from, until } = momentsOf(days, newsletter.time_zone);
  const { rows } = await sql<{ act: string; n: number }>`
    select act, count(*)::int as n from (
      select distinct on (c.reader_id) c.reader_id, c.act from consents c
      where c.newsletter_id = ${newsletter.id}::uuid and c.at >= ${from} and c.at < ${until} and c.act in ('leave', 'complaint', 'bounce', 'suppress', 'take off', 'erase')
      order by c.reader_id, c.at) ended
    where not exists (select 1 from readers r where r.id = ended.reader_id and r.standing in ('reading', 'waiting'))
    group by 1 order by 2 desc`.execute(ctx.db);
  return rows.map(({ act, n }) => ({ cause: CAUSES[act] ?? act, n }));
}

async function cohortsOf(ctx: Context, newsletter: Newsletter): Promise<Cohort[]> {
  const first = DateTime.fromISO(localDay(ctx.clock.now(), newsletter.time_zone))
    .startOf('month')
    .minus({ months: COHORTS - 1 });
  const { rows } = await sql<Cohort>`
    select to_char(month, 'YYYY-MM') as month, sum(asked)::int as asked, sum(confirmed)::int as confirmed, sum(reading)::int as reading from (
      select month, asked, confirmed, reading from source_months where newsletter_id = ${newsletter.id}::uuid and dimension = 'all' and month >= ${first.toISODate()!}::date
      union all select date_trunc('month', day)::date, asked, confirmed, reading from source_changes where newsletter_id = ${newsletter.id}::uuid and dimension = 'all' and day >= ${first.toISODate()!}::date) m
    group by 1 having sum(asked) > 0 order by 1 desc`.execute(ctx.db);
  return rows;
}

/** Of those who came by each source in the last twelve whole months that ended a month ago or earlier, and confirmed: how many read now. */
async function stayingOf(ctx: Context, newsletter: Newsletter): Promise<Staying[]> {
  const here = DateTime.fromISO(localDay(ctx.clock.now(), newsletter.time_zone));
  const end = here.minus({ days: 30 }).startOf('month');
  const { rows } = await sql<{ name: string; confirmed: number; reading: number }>`
    select name, sum(confirmed)::int as confirmed, sum(reading)::int as reading from (
      select name, confirmed, reading from source_months where newsletter_id = ${newsletter.id}::uuid and dimension = 'source' and month >= ${end.minus({ months: 12 }).toISODate()!}::date and month < ${end.toISODate()!}::date
      union all select name, confirmed, reading from source_changes where newsletter_id = ${newsletter.id}::uuid and dimension = 'source' and day >= ${end.minus({ months: 12 }).toISODate()!}::date and day < ${end.toISODate()!}::date) m
    group by 1 having sum(confirmed) > 0 order by 2 desc limit ${MOST_SPELT}`.execute(ctx.db);
  return asOneSource(
    rows,
    (row) => row.confirmed,
    (a, b) => ({ ...a, confirmed: a.confirmed + b.confirmed, reading: a.reading + b.reading }),
  )
    .filter(({ confirmed }) => confirmed >= LEAST_STAYING)
    .slice(0, MOST_STAYING)
    .flatMap((one) => {
      const stays = rate(one.reading, one.confirmed);
      return stays ? [{ ...one, stays }] : [];
    })
    .sort((a, b) => b.stays.share - a.stays.share);
}

const noteSchema = Joi.object<{ day: string; words: string }>({
  day: Joi.string()
    .pattern(/^\d{4}-\d{2}-\d{2}$/)
    .required()
    .label('Day')
    .messages({ 'string.pattern.base': 'Choose a day.' }),
  words: Joi.string().trim().min(1).max(200).required().label('What happened'),
});

/** Notes something on a day of the time line. */
export async function addNote(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<void> {
  const { day, words } = check(noteSchema, raw);
  if (!DateTime.fromISO(day).isValid) throw new Fault('invalid', 'There is no such day.', { day: 'Choose a day.' });
  if (day > localDay(ctx.clock.now(), newsletter.time_zone))
    throw new Fault('invalid', 'This day is still to come. A note says what happened.', { day: 'Choose a day that has come.' });
  const { n } = await ctx.db
    .selectFrom('growth_notes')
    .select((eb) => eb.fn.countAll<string>().as('n'))
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirstOrThrow();
  if (Number(n) >= 1_000) throw new Fault('invalid', 'There are a thousand notes already. Take some away first.');
  await ctx.db
    .insertInto('growth_notes')
    .values({ id: newId(), newsletter_id: newsletter.id, day, words, created_at: ctx.clock.now() })
    .execute();
}

export async function dropNote(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await ctx.db.deleteFrom('growth_notes').where('id', '=', id).where('newsletter_id', '=', newsletter.id).execute();
}

const goalSchema = Joi.object<{ goal: number | null }>({
  goal: Joi.number().integer().min(1).max(100_000_000).empty('').default(null).label('Readers'),
});

/** How many readers the writer would like to have; none takes the goal away. */
export async function setGoal(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<void> {
  const { goal } = check(goalSchema, raw);
  await ctx.db.updateTable('newsletters').set({ reader_goal: goal }).where('id', '=', newsletter.id).execute();
}

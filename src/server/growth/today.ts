import { sql } from 'kysely';
import { lastDays } from '@/core/growth/days';
import type { FormSteps } from '@/core/growth/measures';
import { type RuleView, rulesOf } from '../autosend/coming';
import type { Context, Newsletter } from '../context';
import { type FormView, formsOf } from '../forms/forms';
import { stepsOf } from '../forms/insight';
import { type Totals, totalsOf } from '../readers/readers';
import { type DomainView, domainsOf } from '../senders/domains';
import { type SenderView, sendersOf } from '../senders/senders';
import { laneOf } from '../sending/audience';
import { type LaterShare, laterShares, type RampDayView, rampOf } from '../sending/ramp';
import { reachSoon } from '../sending/reach';
import { type Listed, lettersOf } from '../sending/views';
import { type OpenWarning, warningsNow } from './watch';

export type DayCount = { day: string; joined: number; left: number };
export type Standing = { provider: string; settled: number; delivered: number; refused: number };
export type Today = {
  now: Date;
  totals: Totals;
  days: DayCount[];
  week: { joined: number; left: number };
  funnel: FormSteps;
  standing: Standing[];
  letters: Listed[];
  /** How many each letter on the runway would go to now. */
  reach: Map<string, { will: number; exact: boolean }>;
  senders: SenderView[];
  domains: DomainView[];
  autoSends: RuleView[];
  formsSeen: boolean;
  /** The form that a new newsletter puts on its site. */
  form: FormView | null;
  listId: string | null;
  /** Has a member signed up with their own address and confirmed it? */
  tried: boolean;
  /** What of letters under way leaves on later days, by a ramp-up. */
  later: LaterShare[];
  ramps: { domain: string; ahead: RampDayView[] }[];
  unusual: OpenWarning[];
};

/** What the first hour looks at. */
export type FirstSteps = Pick<Today, 'now' | 'senders' | 'domains' | 'autoSends' | 'formsSeen' | 'form' | 'listId' | 'tried'> & {
  reading: number;
};

const DAYS = 28;

/** Everything the home screen says, from counts kept as things happen. */
export async function today(ctx: Context, newsletter: Newsletter): Promise<Today> {
  const now = ctx.clock.now();
  const names = lastDays(now, newsletter.time_zone, DAYS);
  const [totals, counted, funnel, standing, letters, senders, domains, autoSends, forms, tried, later, unusual, list] =
    await Promise.all([
      totalsOf(ctx, newsletter),
      ctx.db
        .selectFrom('daily_counts')
        .select(['day', 'joined', 'left_count'])
        .where('newsletter_id', '=', newsletter.id)
        .where('day', '>=', names[0]!)
        .execute(),
      stepsOf(ctx, newsletter, DAYS),
      standingOf(ctx, newsletter),
      lettersOf(ctx, newsletter, { most: 12, drafts: false }).then((found) => found.letters),
      sendersOf(ctx, newsletter),
      domainsOf(ctx, newsletter),
      rulesOf(ctx, newsletter),
      formsOf(ctx, newsletter),
      triedBySelf(ctx, newsletter),
      laterShares(ctx, newsletter),
      warningsNow(ctx, newsletter),
      ctx.db.selectFrom('lists').select('id').where('newsletter_id', '=', newsletter.id).orderBy('position').executeTakeFirst(),
    ]);
  const ahead = letters.filter((letter) => letter.state === 'scheduled' || letter.state === 'held');
  const reach = new Map(
    await Promise.all(
      ahead.map(
        async (letter) =>
          [letter.id, await reachSoon(ctx, newsletter, letter.audience, await laneOf(ctx.db, newsletter, letter.id))] as const,
      ),
    ),
  );
  const ramps = await Promise.all(
    domains.map(async (domain) => ({ domain: domain.name, ahead: (await rampOf(ctx, newsletter, domain))?.ahead ?? [] })),
  );
  const byDay = new Map(counted.map((row) => [row.day, row]));
  const days = names.map((day) => ({ day, joined: byDay.get(day)?.joined ?? 0, left: byDay.get(day)?.left_count ?? 0 }));
  const week = days
    .slice(-7)
    .reduce((sum, day) => ({ joined: sum.joined + day.joined, left: sum.left + day.left }), { joined: 0, left: 0 });
  return {
    now,
    totals,
    days,
    week,
    funnel,
    standing,
    letters,
    reach,
    senders,
    domains,
    autoSends,
    formsSeen: forms.some((form) => !form.hosted && form.loaded > 0),
    form: forms.find((form) => !form.hosted && !form.archivedAt) ?? forms[0] ?? null,
    listId: list?.id ?? null,
    tried,
    later,
    ramps: ramps.filter(({ ahead }) => ahead.length > 0),
    unusual,
  };
}

async function triedBySelf(ctx: Context, newsletter: Newsletter): Promise<boolean> {
  const row = await ctx.db
    .selectFrom('members')
    .innerJoin('user', 'user.id', 'members.user_id')
    .innerJoin('readers', (join) =>
      join
        .onRef('readers.newsletter_id', '=', 'members.newsletter_id')
        .on(sql<boolean>`readers.address_key = lower("user".email)`),
    )
    .select('readers.id')
    .where('members.newsletter_id', '=', newsletter.id)
    .where('readers.confirmed', '=', true)
    .executeTakeFirst();
  if (row) return true;
  const trial = ctx.db
    .selectFrom('trials')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('sent_in_at', 'is not', null);
  return (await trial.executeTakeFirst()) !== undefined;
}

/**
 * How each mailbox provider took the letters that began in the last 14 days; of each letter its largest providers are told apart. What still waits
 * or was called off says nothing of a provider and is not counted.
 */
async function standingOf(ctx: Context, newsletter: Newsletter): Promise<Standing[]> {
  const since = new Date(ctx.clock.now().getTime() - 14 * 86_400_000);
  const { rows } = await sql<Standing>`
    select d.name as provider, sum(c.delivered + c.bounced + c.refused + c.given_up)::int as settled, sum(c.delivered)::int as delivered, sum(c.bounced + c.refused + c.given_up)::int as refused
    from letters l cross join lateral (select * from letter_domain_counts c where c.letter_id = l.id) c join mail_domains d on d.id = c.domain_id
    where l.newsletter_id = ${newsletter.id} and l.started_at >= ${since} group by 1 having sum(c.delivered + c.bounced + c.refused + c.given_up) > 0 order by 2 desc limit 6`.execute(
    ctx.db,
  );
  return rows;
}

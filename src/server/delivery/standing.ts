import { sql } from 'kysely';
import { DateTime } from 'luxon';
import { REASON_NAMES, type Reason } from '@/core/delivery/reason';
import {
  type Copies,
  ELSEWHERE,
  junkByWeek,
  latelyOf,
  MOST_DRAWN,
  type Provider,
  type ProviderLine,
  plus,
  type ReasonView,
  type Standing,
  standingOf,
} from '@/core/delivery/standing';
import { lastDays } from '@/core/growth/days';
import { alike } from '@/core/sending/outcome';
import type { Context, Newsletter } from '../context';

/** Words are read of the latest so many copies of a reason. */
const LATEST = 200;
const MOST_WORDS = 3;
/** Why a copy is put off for no fault of it. */
const SLOW: Reason[] = ['slow', 'greylist'];
/** What its readers' habit is, by so many. */
const HABIT = 182;

/** The Monday of a day's week. */
const weekOf = (day: string): string => DateTime.fromISO(day).startOf('week').toISODate()!;

export type DeliveryView = {
  standings: Standing[];
  providers: Provider[];
  /** The same, week by week, with how often copies were put off. */
  lines: ProviderLine[];
  reasons: ReasonView[];
  /** Complaints of these days, and what else readers and providers reported. */
  feedback: { kind: string; n: number }[];
  since: string;
  /** From this Monday on is lately, by which standings are. */
  lately: string;
};

/**
 * How each provider treats letters: what became of those that left in the last days, in whole weeks, with why copies did not arrive. Its standing is that of the last
 * four weeks. A provider is a domain of readers' addresses; those that are not among the largest of a letter are counted under one name.
 */
export async function deliveryOf(ctx: Context, newsletter: Newsletter, days: number): Promise<DeliveryView> {
  // In whole weeks, so that every figure of the screen is of the same letters.
  const since = weekOf(lastDays(ctx.clock.now(), newsletter.time_zone, days)[0]!);
  const known = lastDays(ctx.clock.now(), newsletter.time_zone, Math.max(days, HABIT))[0]!;
  const lately = latelyOf(weekOf(lastDays(ctx.clock.now(), newsletter.time_zone, 1)[0]!));
  const [copies, reasons, latest, put, feedback] = await Promise.all([
    sql<Copies & { week: string; domain: number }>`
      select to_char(date_trunc('week', l.sent_on), 'YYYY-MM-DD') as week, c.domain_id as domain, sum(c.delivered)::int as delivered, sum(c.bounced)::int as bounced, sum(c.refused)::int as refused,
        sum(c.given_up)::int as "givenUp", sum(c.opened_people)::int as read, sum(c.hidden)::int as hidden, sum(c.clicked)::int as clicked, sum(c.complained)::int as complained
      from letters l join letter_domain_counts c on c.newsletter_id = ${newsletter.id}::uuid and c.letter_id = l.id
      where l.newsletter_id = ${newsletter.id}::uuid and l.sent_on >= ${known}::date group by 1, 2 order by 1`.execute(ctx.db),
    sql<{ domain: number; reason: Reason; putOff: number; ended: number }>`
      select domain_id as domain, reason, sum(put_off)::int as "putOff", sum(ended)::int as ended
      from reason_since(${newsletter.id}, ${since}::date) group by 1, 2`.execute(ctx.db),
    sql<{ domain: number; reason: Reason; putOff: number; ended: number }>`
      select domain_id as domain, reason, sum(put_off)::int as "putOff", sum(ended)::int as ended
      from reason_since(${newsletter.id}, ${lately}::date) group by 1, 2`.execute(ctx.db),
    sql<{ week: string; domain: number; n: number }>`
      select to_char(date_trunc('week', day), 'YYYY-MM-DD') as week, domain_id as domain, sum(put_off)::int as n from reason_parts
      where newsletter_id = ${newsletter.id}::uuid and day >= ${since}::date and reason = any(${SLOW as string[]}::text[]) group by 1, 2`.execute(
      ctx.db,
    ),
    sql<{ kind: string; n: number }>`
      select kind, count(*)::int as n from feedback where newsletter_id = ${newsletter.id}::uuid and at >= ${since}::date group by 1 order by 2 desc`.execute(
      ctx.db,
    ),
  ]);
  const names = await namesOf(ctx, [...new Set([...copies.rows, ...latest.rows, ...put.rows].map((row) => row.domain))]);
  const providers = new Map<string, { weeks: Map<string, Copies>; reasons: Map<Reason, { putOff: number; ended: number }> }>();
  const of = (domain: number) => {
    const name = names.get(domain) ?? ELSEWHERE;
    const found = providers.get(name) ?? { weeks: new Map(), reasons: new Map() };
    providers.set(name, found);
    return found;
  };
  for (const { week, domain, ...some } of copies.rows) {
    const { weeks } = of(domain);
    const before = weeks.get(week);
    weeks.set(week, before ? plus(before, some) : some);
  }
  for (const { domain, reason, putOff, ended } of latest.rows) {
    const known = of(domain).reasons;
    const before = known.get(reason) ?? { putOff: 0, ended: 0 };
    known.set(reason, { putOff: before.putOff + putOff, ended: before.ended + ended });
  }
  const all: Provider[] = [...providers].map(([name, { weeks, reasons: why }]) => ({
    name,
    weeks: [...weeks].sort(([a], [b]) => (a < b ? -1 : 1)).map(([week, some]) => ({ week, copies: some })),
    reasons: [...why].map(([reason, n]) => ({ reason, ...n })),
  }));
  const standings = all
    .map((provider) => standingOf(provider, all, { shown: since, lately }))
    .sort((a, b) => Number(a.name === ELSEWHERE) - Number(b.name === ELSEWHERE) || b.settled - a.settled);
  const putOff = new Map<string, number>();
  for (const { week, domain, n } of put.rows) {
    const key = `${names.get(domain) ?? ELSEWHERE} ${week}`;
    putOff.set(key, (putOff.get(key) ?? 0) + n);
  }
  const shown = standings.map(({ name }) => {
    const { weeks, ...provider } = all.find((one) => one.name === name)!;
    return { ...provider, weeks: weeks.filter(({ week }) => week >= since) };
  });
  return {
    standings,
    providers: shown,
    lines: shown.slice(0, MOST_DRAWN).map(({ name, weeks }) => {
      const junk = junkByWeek(all.find((one) => one.name === name)!, all, since);
      return {
        name,
        weeks: weeks.map((one) => ({
          ...one,
          putOff: putOff.get(`${name} ${one.week}`) ?? 0,
          junk: junk.get(one.week) ?? null,
        })),
      };
    }),
    reasons: await withWords(ctx, newsletter, since, reasons.rows),
    feedback: feedback.rows,
    since,
    lately,
  };
}

async function namesOf(ctx: Context, domains: number[]): Promise<Map<number, string>> {
  const rows = await ctx.db
    .selectFrom('mail_domains')
    .select(['id', 'name'])
    .where('id', 'in', domains.length ? domains : [0])
    .execute();
  return new Map(rows.map(({ id, name }) => [id, name]));
}

async function withWords(
  ctx: Context,
  newsletter: Newsletter,
  since: string,
  counts: { reason: Reason; putOff: number; ended: number }[],
): Promise<ReasonView[]> {
  const { rows } = await sql<{ reason: Reason; response: string }>`
    select r.reason, d.response from unnest(${REASON_NAMES as string[]}::text[]) as r(reason) cross join lateral
      (select response from deliveries d where d.newsletter_id = ${newsletter.id}::uuid and d.reason = r.reason and d.state in ('bounced', 'refused', 'given up') and d.sent_on >= ${since}::date
       order by d.sent_on desc, d.id desc limit ${LATEST}) d where d.response is not null`.execute(ctx.db);
  return REASON_NAMES.flatMap((reason): ReasonView[] => {
    const own = counts.filter((one) => one.reason === reason);
    const putOff = own.reduce((sum, one) => sum + one.putOff, 0);
    const ended = own.reduce((sum, one) => sum + one.ended, 0);
    if (putOff + ended === 0) return [];
    const said = rows.filter((row) => row.reason === reason);
    const kinds = new Map<string, { example: string; n: number }>();
    for (const { response } of said) {
      const key = alike(response);
      kinds.set(key, { example: response, n: (kinds.get(key)?.n ?? 0) + 1 });
    }
    const words = [...kinds.values()]
      .sort((a, b) => b.n - a.n)
      .slice(0, MOST_WORDS)
      // Whose mailbox it was is nobody's affair here.
      .map(({ example, n }) => ({ example: example.replace(/<?[^\s<>@]+@[^\s<>@]+>?/g, '…'), share: n / said.length }));
    return [{ reason, putOff, ended, words }];
  }).sort((a, b) => b.ended - a.ended || b.putOff - a.putOff);
}

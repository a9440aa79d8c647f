import { sql } from 'kysely';
import { DateTime } from 'luxon';
import { daysWithin, momentsOf } from '@/core/growth/days';
import { type ConfirmedAt, type FewerConfirm, fewerConfirm } from '@/core/growth/fewer-confirm';
import type { FormSteps } from '@/core/growth/measures';
import type { Within } from '@/core/growth/periods';
import type { Context, Newsletter } from '../context';
import { stepsOf } from '../forms/insight';

/** Where those stand who signed up by a form and have not confirmed. */
export const LOST = {
  bounced: 'The confirmation mail could not be delivered',
  late: 'It is still on its way',
  expired: 'It arrived, and its link ran out unused',
  unused: 'It arrived, and nobody has pressed its link yet',
  'none sent': 'No confirmation mail left',
} as const;
export type LostWhy = keyof typeof LOST;

export type Funnel = {
  steps: FormSteps;
  /** The latest of those who have not confirmed, by why; `of` is how many were looked at, and whether there are more. */
  lost: { of: number; more: boolean; why: { why: LostWhy; n: number }[] };
  /** Where confirmation mails likely land in junk, since far fewer confirm there than elsewhere; of the latest who signed up. */
  junk: FewerConfirm[];
  /** Who sent a form in and was held back as a machine, and never came through: kept for a month. */
  held: number;
  /** Of the latest of those who confirmed and got a letter: how many have read one. */
  firstRead: { of: number; read: number };
  /** Of those who came more than thirty days ago within the span, and confirmed: who reads now. */
  stayed: { of: number; reading: number };
};

/** People are looked at one by one, the latest first, and no more than so many. */
const MOST = 5_000;
const MOST_LOST = 2_000;
/** Who signed up just now had no time to confirm. */
const TO_CONFIRM_MS = 86_400_000;

/** From a form that was seen to a reader who stays, for whoever came in the last days by a form, and where people are lost on the way. */
export async function funnelOf(ctx: Context, newsletter: Newsletter, within: Within): Promise<Funnel> {
  const now = ctx.clock.now();
  const days = daysWithin(within, now, newsletter.time_zone);
  const { from, until } = momentsOf(days, newsletter.time_zone);
  const stayedBefore = DateTime.fromJSDate(now, { zone: newsletter.time_zone }).minus({ days: 30 }).toISODate()!;
  const [steps, lost, providers, held, read, stayed] = await Promise.all([
    stepsOf(ctx, newsletter, days),
    sql<{ why: LostWhy; n: number }>`
      with latest as (
        select id from readers where newsletter_id = ${newsletter.id}::uuid and standing = 'waiting' and created_at >= ${from} and created_at < ${until} and source_form_id is not null
        order by created_at desc, id desc limit ${MOST_LOST}
      )
      select case when m.state is null then 'none sent' when m.state in ('bounced', 'refused', 'given up', 'aside', 'cancelled') then 'bounced' when m.state <> 'delivered' then 'late'
          when c.expires_at <= ${now} then 'expired' else 'unused' end as why, count(*)::int as n
      from latest r
      left join lateral (select state from mails m where m.reader_id = r.id and m.kind = 'confirmation' order by m.id desc limit 1) m on true
      left join lateral (select expires_at from confirmations c where c.reader_id = r.id order by c.sent_at desc limit 1) c on true
      group by 1 order by 2 desc`.execute(ctx.db),
    sql<ConfirmedAt>`
      select d.name, r.asked, r.confirmed from (
        select domain_id, count(*)::int as asked, count(*) filter (where confirmed)::int as confirmed from (
          select domain_id, confirmed from readers where newsletter_id = ${newsletter.id}::uuid and created_at >= ${from} and created_at < ${until} and created_at < ${new Date(now.getTime() - TO_CONFIRM_MS)}
            and source_form_id is not null and (confirmed or address_state = 'fine')
          order by created_at desc, id desc limit ${MOST}) latest group by 1) r join mail_domains d on d.id = r.domain_id order by 2 desc`.execute(
      ctx.db,
    ),
    ctx.db
      .selectFrom('held_back')
      .select((eb) => eb.fn.countAll<string>().as('n'))
      .where('newsletter_id', '=', newsletter.id)
      .where('at', '>=', from)
      .where('at', '<', until)
      .executeTakeFirstOrThrow(),
    sql<{ of: number; read: number }>`
      select count(*)::int as of, count(last_read_at)::int as read from (
        select last_read_at from readers where newsletter_id = ${newsletter.id}::uuid and created_at >= ${from} and created_at < ${until} and source_form_id is not null and confirmed and letters_got > 0
        order by created_at desc, id desc limit ${MOST}) r`.execute(ctx.db),
    sql<{ of: number; reading: number }>`
      select coalesce(sum(confirmed), 0)::int as of, coalesce(sum(reading), 0)::int as reading from source_parts
      where newsletter_id = ${newsletter.id} and dimension = 'form' and day >= ${days.from}::date and day <= ${days.to}::date and day < ${stayedBefore}::date`.execute(
      ctx.db,
    ),
  ]);
  const looked = lost.rows.reduce((sum, { n }) => sum + n, 0);
  return {
    steps,
    lost: { of: looked, more: looked >= MOST_LOST, why: lost.rows },
    junk: fewerConfirm(providers.rows),
    held: Number(held.n),
    firstRead: read.rows[0]!,
    stayed: stayed.rows[0]!,
  };
}

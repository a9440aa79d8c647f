import { sql } from 'kysely';
import { DateTime } from 'luxon';
import { counted } from '@/core/growth/figures';
import type { Notice } from '@/core/writing/notice';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { post } from '../mail/post';
import { ownersOf } from './members';

type Kind = 'joined' | 'left';
type Scope = { id: string; time_zone: string };
/** The newsletter's local hour at which a day's joins and leaves are told. */
const TELL_HOUR = 8;

/** Tells the owners of a join or leave as they wish: now, with tomorrow morning's summary, or not at all. In the caller's transaction. */
export async function noteForOwners(
  ctx: Context,
  db: Db,
  newsletter: Scope,
  kind: Kind,
  reader: { id: string; address: string; listName: string },
): Promise<void> {
  const row = await db
    .selectFrom('newsletters')
    .select(['name', 'slug', 'alert_joins', 'alert_leaves', 'alerts_due_at'])
    .where('id', '=', newsletter.id)
    .executeTakeFirstOrThrow();
  const when = kind === 'joined' ? row.alert_joins : row.alert_leaves;
  if (when === 'off') return;
  if (when === 'daily') {
    if (row.alerts_due_at) return;
    const here = DateTime.fromJSDate(ctx.clock.now(), { zone: newsletter.time_zone });
    const due = here.startOf('day').plus({ days: 1 }).set({ hour: TELL_HOUR });
    await db.updateTable('newsletters').set({ alerts_due_at: due.toJSDate() }).where('id', '=', newsletter.id).execute();
    return;
  }
  await mailOwners(
    ctx,
    db,
    newsletter.id,
    row,
    `${reader.address} ${kind} ${reader.listName}`,
    [kind === 'joined' ? `${reader.address} reads ${reader.listName} now.` : `${reader.address} left ${reader.listName}.`],
    `/readers/${reader.id}`,
  );
}

/** Mails the summary of yesterday to a newsletter's owners if it is due. Runs once even when called twice. */
export async function tellOwnersDaily(ctx: Context, newsletterId: string): Promise<void> {
  await ctx.db.transaction().execute(async (trx) => {
    const row = await trx
      .selectFrom('newsletters')
      .select(['name', 'slug', 'time_zone', 'alert_joins', 'alert_leaves', 'alerts_due_at'])
      .where('id', '=', newsletterId)
      .where('alerts_due_at', '<=', ctx.clock.now())
      .forUpdate()
      .executeTakeFirst();
    if (!row?.alerts_due_at) return;
    await trx.updateTable('newsletters').set({ alerts_due_at: null }).where('id', '=', newsletterId).execute();
    const until = DateTime.fromJSDate(row.alerts_due_at, { zone: row.time_zone }).startOf('day');
    const acts = await trx
      .selectFrom('consents as c')
      .innerJoin('readers as r', 'r.id', 'c.reader_id')
      .select(['r.address', 'c.act'])
      .where('c.newsletter_id', '=', newsletterId)
      .where('c.at', '>=', until.minus({ days: 1 }).toJSDate())
      .where('c.at', '<', until.toJSDate())
      .where(sql<boolean>`c.act in ('confirm', 'leave')`)
      .orderBy('c.at')
      .execute();
    const of = (act: 'confirm' | 'leave', wish: string) =>
      wish === 'daily' ? [...new Set(acts.filter((entry) => entry.act === act).map((entry) => entry.address))] : [];
    const joined = of('confirm', row.alert_joins);
    const left = of('leave', row.alert_leaves);
    if (joined.length + left.length === 0) return;
    const named = (all: string[]) =>
      all.length <= 20 ? all.join(', ') : `${all.slice(0, 20).join(', ')} and ${all.length - 20} more`;
    const day = until.minus({ days: 1 }).setLocale('en-GB').toFormat('cccc, d LLLL');
    await mailOwners(
      ctx,
      trx,
      newsletterId,
      row,
      `${day}: ${[joined.length ? `${counted(joined.length, 'person', 'people')} joined` : '', left.length ? `${left.length} left` : ''].filter(Boolean).join(', ')}`,
      [...(joined.length ? [`Joined: ${named(joined)}.`] : []), ...(left.length ? [`Left: ${named(left)}.`] : [])],
      '/readers',
    );
  });
}

/** Why owners are told: they asked for it, it comes unless they do not want it, or every owner has to know. */
type Told = 'asked' | 'usual' | 'must know';
const WHY: Record<Told, (name: string) => string> = {
  asked: (name) => `You get this because you own ${name} and asked to be told. Switch it off under Settings.`,
  usual: (name) => `You get this because you own ${name}. Switch it off under Settings.`,
  'must know': (name) => `You get this because you own ${name}.`,
};

/** Mails the owners of a newsletter. In the caller's transaction. */
export async function mailOwners(
  ctx: Context,
  db: Db,
  newsletterId: string,
  newsletter: { name: string; slug: string },
  heading: string,
  paragraphs: string[],
  path: string,
  { told = 'asked', label = 'Open the desk' }: { told?: Told; label?: string } = {},
): Promise<void> {
  const notice: Notice = {
    name: newsletter.name,
    colour: '#17645c',
    heading,
    paragraphs,
    link: { label, url: `${ctx.config.webOrigin}/desk/${newsletter.slug}${path}` },
    footer: [WHY[told](newsletter.name)],
  };
  for (const owner of await ownersOf(db, newsletterId))
    await post(ctx, db, { newsletterId: null, kind: 'alert', to: owner.email, subject: heading, notice });
}

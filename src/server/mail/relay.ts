import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { parseDomain } from '@/core/readers/address';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { allowedAddress } from '../fetch/guarded';
import { seal, unseal } from '../secrets';
import { LineDown, type LineStep, MailLine, type Manner, type Target } from './smtp';

export type RelayView = {
  host: string;
  port: number;
  tls: 'required' | 'implicit' | 'none';
  user: string;
  perHour: number;
  perDay: number;
  switchedOn: boolean;
  probedAt: Date | null;
  fault: string | null;
};
type Input = {
  host: string;
  port: number;
  tls: RelayView['tls'];
  user: string;
  password?: string;
  perHour: number;
  perDay: number;
};

const schema = Joi.object<Input>({
  host: Joi.string()
    .trim()
    .required()
    .label('Host')
    .custom((value, helpers) =>
      /^\d+\.\d+\.\d+\.\d+$/.test(value)
        ? value
        : (parseDomain(value) ?? helpers.message({ custom: 'This is not a host name.' })),
    ),
  port: Joi.number().integer().min(1).max(65_535).required().label('Port'),
  tls: Joi.string().valid('required', 'implicit', 'none').required().label('Encryption'),
  user: Joi.string().trim().max(200).allow('').default('').label('Name'),
  password: Joi.string().max(500).allow('').optional().label('Password'),
  perHour: Joi.number().integer().min(1).max(1_000_000).required().label('Letters an hour'),
  perDay: Joi.number().integer().min(1).max(10_000_000).required().label('Letters a day'),
});

/** A newsletter's own SMTP service, without its password; null where letters go straight to the mailbox providers. */
export async function relayOf(ctx: Context, newsletter: Newsletter): Promise<RelayView | null> {
  const row = await ctx.db.selectFrom('relays').selectAll().where('newsletter_id', '=', newsletter.id).executeTakeFirst();
  return row
    ? {
        host: row.host,
        port: row.port,
        tls: row.tls,
        user: row.user_name,
        perHour: row.per_hour,
        perDay: row.per_day,
        switchedOn: row.switched_on,
        probedAt: row.probed_at,
        fault: row.probe_fault,
      }
    : null;
}

/** Keeps a relay and tries it at once. An empty password keeps the one that is there. It is used only after a probe that worked. */
export async function keepRelay(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ fault: string | null }> {
  const value = check(schema, raw);
  const old = await ctx.db.selectFrom('relays').select('password').where('newsletter_id', '=', newsletter.id).executeTakeFirst();
  const password = value.password ? seal(value.password, ctx.config.keys) : (old?.password ?? seal('', ctx.config.keys));
  const row = {
    host: value.host,
    port: value.port,
    tls: value.tls,
    user_name: value.user,
    password,
    per_hour: value.perHour,
    per_day: value.perDay,
  };
  await ctx.db
    .insertInto('relays')
    .values({ newsletter_id: newsletter.id, ...row })
    .onConflict((c) => c.column('newsletter_id').doUpdateSet(row))
    .execute();
  return probeRelay(ctx, newsletter);
}

/** Somebody looks on while a relay is tried. */
const PROBE_PATIENCE = { connect: 10_000, greeting: 30_000, hello: 30_000, tls: 30_000 };

/** What to do about a connection that failed at a step. */
const NEXT: Record<LineStep, string> = {
  connect: 'Check host and port; many hosts close port 25, try 587 or 465.',
  greeting: 'Something answers there that is no mail server, or it does not want us.',
  hello: 'The server does not take mail from this machine.',
  tls: 'Try the other kind of encryption: 465 is encrypted from the start, 587 after the greeting.',
  login: 'Check name and password; some services want one made for programs.',
  send: 'The server broke off.',
};

/** Connects, encrypts and signs in without sending anything; keeps what it found and switches the relay on or off accordingly. */
export async function probeRelay(ctx: Context, newsletter: Newsletter): Promise<{ fault: string | null }> {
  const row = await ctx.db.selectFrom('relays').selectAll().where('newsletter_id', '=', newsletter.id).executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no SMTP service to try.');
  let fault: string | null = null;
  try {
    (await dial(ctx, row)).close();
  } catch (error) {
    fault =
      error instanceof LineDown
        ? `${error.message}. ${NEXT[error.step]}`
        : error instanceof Fault
          ? error.sentence
          : 'It could not be tried.';
  }
  await ctx.db
    .updateTable('relays')
    .set({ probed_at: ctx.clock.now(), probe_fault: fault, switched_on: fault === null })
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  // It has a route of its own from its first probe that worked.
  if (fault === null)
    await ctx.db
      .insertInto('routes')
      .values({ kind: 'relay', newsletter_id: newsletter.id, name: row.host })
      .onConflict((c) =>
        c
          .column('newsletter_id')
          .doUpdateSet({ name: row.host, paused_until: null, paused_for: null, failing_since: null, failed_rounds: 0 }),
      )
      .execute();
  return { fault };
}

type RelayRow = { host: string; port: number; tls: RelayView['tls']; user_name: string; password: Buffer };

async function dial(ctx: Context, row: RelayRow): Promise<MailLine> {
  const addresses = /^\d/.test(row.host) ? [row.host] : await ctx.resolver.addresses(row.host).catch(() => []);
  const usable = addresses.filter((address) => allowedAddress(address, ctx.config.allowLoopback));
  const target = (address: string): Target => ({ host: row.host, address, port: row.port });
  if (addresses.length === 0) throw new LineDown(target(''), 'connect', 'has no address in DNS');
  if (usable.length === 0) throw new LineDown(target(''), 'connect', 'is not on the public internet');
  const manner: Manner = {
    heloName: `out.${ctx.config.mailDomain}`,
    tls: row.tls,
    // In the demo the relay's certificate is its own.
    verify: !ctx.config.allowLoopback,
    trustedCa: ctx.config.trustedCa,
    patience: { ...ctx.config.patience, ...PROBE_PATIENCE },
    ...(row.user_name ? { login: { user: row.user_name, password: unseal(row.password, ctx.config.keys) } } : {}),
  };
  return MailLine.open(target(usable[0]!), manner);
}

/** A line to the newsletter's relay. Rejects with `LineDown`, also where it is switched off. */
export async function openRelay(ctx: Context, newsletterId: string): Promise<MailLine> {
  const row = await ctx.db
    .selectFrom('relays')
    .selectAll()
    .where('newsletter_id', '=', newsletterId)
    .where('switched_on', '=', true)
    .executeTakeFirst();
  if (!row) throw new LineDown({ host: 'Your SMTP service', address: '', port: 0 }, 'connect', 'is switched off');
  return dial(ctx, row);
}

/** Letters leave a twentieth of a relay's hour and day to single mails: a confirmation does not wait for a letter that filled the hour. */
const KEPT_FREE = 20;

/** How many more letters or single mails a newsletter's relay takes now, with what is in hand of all workers; and when to ask again where it takes none. */
export async function relayRoom(
  ctx: Context,
  newsletterId: string,
  routeId: number,
  of: 'letters' | 'mails',
): Promise<{ left: number; again: Date }> {
  const now = ctx.clock.now();
  const hour = new Date(Math.floor(now.getTime() / 3_600_000) * 3_600_000);
  const { rows } = await sql<{ per_hour: number; per_day: number; hour: number; day: number; in_hand: number }>`
    select r.per_hour, r.per_day, coalesce((select sum(mails) from relay_hours where newsletter_id = r.newsletter_id and hour = ${hour}), 0)::int as hour,
      coalesce((select sum(mails) from relay_hours where newsletter_id = r.newsletter_id and hour > ${new Date(hour.getTime() - 86_400_000)}), 0)::int as day,
      ((select count(*) from deliveries where state = 'claimed' and claimed_by is not null and route_id = ${routeId}) + (select count(*) from mails where state = 'claimed' and route_id = ${routeId}))::int as in_hand
    from relays r where r.newsletter_id = ${newsletterId} and r.switched_on`.execute(ctx.db);
  const used = rows[0];
  const again = new Date(hour.getTime() + 3_600_000);
  if (!used) return { left: 0, again };
  const most = (limit: number) => limit - (of === 'letters' ? Math.floor(limit / KEPT_FREE) : 0);
  return { left: Math.max(0, Math.min(most(used.per_hour) - used.hour, most(used.per_day) - used.day) - used.in_hand), again };
}

/** Counts mails that a relay took in this hour. */
export async function countRelay(ctx: Pick<Context, 'clock'>, db: Db, newsletterId: string, mails: number): Promise<void> {
  const hour = new Date(Math.floor(ctx.clock.now().getTime() / 3_600_000) * 3_600_000);
  await db
    .insertInto('relay_hours')
    .values({ newsletter_id: newsletterId, hour, mails })
    .onConflict((c) => c.columns(['newsletter_id', 'hour']).doUpdateSet({ mails: sql`relay_hours.mails + ${mails}` }))
    .execute();
}

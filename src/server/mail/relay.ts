import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { parseDomain } from '@/core/readers/address';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
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
  const password = value.password ? seal(value.password, ctx.config.secret) : (old?.password ?? seal('', ctx.config.secret));
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

/** Takes the relay away: letters go straight to the mailbox providers again, also those under way. */
export async function dropRelay(ctx: Context, newsletter: Newsletter): Promise<void> {
  await ctx.db.deleteFrom('relays').where('newsletter_id', '=', newsletter.id).execute();
  await sql`update deliveries set route = provider, due_at = least(due_at, ${ctx.clock.now()}::timestamptz) where route = ${relayRoute(newsletter.id)} and state = 'queued'`.execute(
    ctx.db,
  );
}

/** The route name of a newsletter's relay. */
export const relayRoute = (newsletterId: string) => `relay:${newsletterId}`;

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
    (await openRelay(ctx, row)).close();
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
  return { fault };
}

type RelayRow = { host: string; port: number; tls: RelayView['tls']; user_name: string; password: Buffer };

async function openRelay(ctx: Context, row: RelayRow): Promise<MailLine> {
  const addresses = /^\d/.test(row.host) ? [row.host] : await ctx.resolver.addresses(row.host);
  const usable = addresses.filter((address) => allowedAddress(address, ctx.config.allowLoopback));
  const target = (address: string): Target => ({ host: row.host, address, port: row.port });
  if (addresses.length === 0) throw new LineDown(target(''), 'connect', 'has no address in DNS');
  if (usable.length === 0) throw new LineDown(target(''), 'connect', 'is not on the public internet');
  const manner: Manner = {
    heloName: `out.${ctx.config.mailDomain}`,
    tls: row.tls,
    // In the demo the relay's certificate is its own.
    verify: !ctx.config.allowLoopback,
    timeoutMs: 10_000,
    ...(row.user_name ? { login: { user: row.user_name, password: unseal(row.password, ctx.config.secret) } } : {}),
  };
  return MailLine.open(target(usable[0]!), manner);
}

/** A line to the newsletter's relay, or null where there is none in use. Rejects with `LineDown`. */
export async function relayLine(ctx: Context, newsletterId: string): Promise<MailLine | null> {
  const row = await ctx.db
    .selectFrom('relays')
    .selectAll()
    .where('newsletter_id', '=', newsletterId)
    .where('switched_on', '=', true)
    .executeTakeFirst();
  return row ? openRelay(ctx, row) : null;
}

/** How many more letters a newsletter's relay takes now; null where there is no relay. Counted from what was handed over and what is in hand. */
export async function relayRoom(ctx: Context, newsletterId: string): Promise<{ left: number; again: Date } | null> {
  const row = await ctx.db
    .selectFrom('relays')
    .select(['per_hour', 'per_day'])
    .where('newsletter_id', '=', newsletterId)
    .where('switched_on', '=', true)
    .executeTakeFirst();
  if (!row) return null;
  const now = ctx.clock.now();
  const { rows } = await sql<{ hour: number; day: number }>`
    select count(*) filter (where state = 'claimed' or delivered_at > ${new Date(now.getTime() - 3_600_000)})::int as hour, count(*)::int as day
    from deliveries where newsletter_id = ${newsletterId} and route = ${relayRoute(newsletterId)}
      and (state = 'claimed' or delivered_at > ${new Date(now.getTime() - 86_400_000)}) and sent_on >= ${new Date(now.getTime() - 5 * 86_400_000).toISOString().slice(0, 10)}::date`.execute(
    ctx.db,
  );
  const used = rows[0] ?? { hour: 0, day: 0 };
  const left = Math.max(0, Math.min(row.per_hour - used.hour, row.per_day - used.day));
  return { left, again: new Date(now.getTime() + 5 * 60_000) };
}

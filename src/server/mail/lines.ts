import { sql } from 'kysely';
import { isAllowedHost } from '@/core/sending/sts';
import type { Context } from '../context';
import type { RouteHost } from '../db/schema';
import { findHosts, tryOrder } from './lookups';
import { openRelay } from './relay';
import { LineDown, MailLine, type Manner, type Target } from './smtp';

/** A route as somebody needs it who opens lines on it. */
export type OpenRoute = {
  id: number;
  kind: 'hosts' | 'relay';
  newsletterId: string | null;
  domain: string | null;
  /** Only over TLS with a certificate that names the host (RFC 8461 section 4.2). */
  verified: boolean;
  hosts: RouteHost[];
  lookAt: Date;
};

/** So many addresses are tried for one line; a domain with more of them does not keep us longer. */
const MOST_TRIED = 6;
/** For how long a host whose TLS failed is met in the clear. */
const REMEMBER_MS = 3_600_000;
const withoutTls = new Map<string, number>();

/**
 * Opens a line on a route: to the first of its mail hosts that answers, or to its relay. Encryption is used where it is offered; where it fails,
 * the same host is met in the clear at once, and for an hour (RFC 7435); a host that has to be verified is not. Rejects with the last `LineDown`.
 */
export async function openLine(ctx: Context, route: OpenRoute): Promise<MailLine> {
  if (route.kind === 'relay') return openRelay(ctx, route.newsletterId!);
  const hosts = await freshHosts(ctx, route);
  const targets: Target[] = tryOrder(hosts).flatMap(({ host, addresses }) =>
    addresses.map((address) => ({ host, address, port: ctx.config.mxPort })),
  );
  let last: unknown = new LineDown({ host: route.domain ?? 'The mail host', address: '', port: 0 }, 'connect', 'has no address');
  for (const target of targets.slice(0, MOST_TRIED)) {
    const name = `${target.address}:${target.port}`;
    const manner = (tls: Manner['tls']): Manner => ({
      heloName: `out.${ctx.config.mailDomain}`,
      tls,
      verify: route.verified,
      trustedCa: ctx.config.trustedCa,
      patience: ctx.config.patience,
    });
    const clear = (withoutTls.get(name) ?? 0) > Date.now();
    try {
      return await MailLine.open(target, manner(route.verified ? 'required' : clear ? 'none' : 'offered'));
    } catch (error) {
      last = error;
      if (!(error instanceof LineDown) || error.step !== 'tls' || route.verified) continue;
    }
    try {
      const line = await MailLine.open(target, manner('none'));
      withoutTls.set(name, Date.now() + REMEMBER_MS);
      return line;
    } catch (error) {
      last = error;
    }
  }
  throw last;
}

/** A route's hosts, looked up again where that was long ago; what does not answer now leaves those that were known. */
async function freshHosts(ctx: Context, route: OpenRoute): Promise<RouteHost[]> {
  const now = ctx.clock.now();
  if (!route.domain || route.lookAt > now) return route.hosts;
  const found = await findHosts(ctx, route.domain);
  if (found.kind !== 'hosts') return route.hosts;
  if (route.verified) {
    const { policy } =
      (await ctx.db.selectFrom('mail_domains').select('policy').where('name', '=', route.domain).executeTakeFirst()) ?? {};
    found.hosts = found.hosts.filter(({ host }) => isAllowedHost(host, policy?.mx ?? []));
    if (found.hosts.length === 0) return route.hosts;
  }
  route.hosts = found.hosts;
  route.lookAt = new Date(now.getTime() + 3_600_000);
  await sql`update routes set hosts = ${JSON.stringify(found.hosts)}::jsonb, look_at = ${route.lookAt} where id = ${route.id}`.execute(
    ctx.db,
  );
  return found.hosts;
}

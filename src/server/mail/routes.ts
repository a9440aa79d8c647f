import type { Context } from '../context';
import { LookupFailed } from '../dns/resolver';
import { LineDown, MailLine, type Target } from './smtp';

/** Where a domain's mail goes: every address of every mail host, best first; [] when the domain takes no mail (RFC 7505). */
async function targets(ctx: Context, domain: string): Promise<Target[]> {
  const hosts = await ctx.resolver.mailHosts(domain);
  const found = await Promise.all(
    hosts.map(async (host) => {
      const addresses = await ctx.resolver.addresses(host);
      return addresses.map((address) => ({ host, address, port: ctx.config.mxPort }));
    }),
  );
  return found.flat();
}

/** Thrown when a domain has no way in at all: no mail host, a null MX, or no such domain. */
export class NoRoute extends Error {}

/** Opens a line to the first mail host of a domain that answers. Throws `NoRoute` or the last `LineDown`. */
export async function openLine(ctx: Context, domain: string): Promise<MailLine> {
  let all: Target[];
  try {
    all = await targets(ctx, domain);
  } catch (error) {
    if (error instanceof LookupFailed && error.code === 'ENOTFOUND')
      throw new NoRoute(`550 5.1.2 There is no domain called ${domain}`);
    throw new LineDown(
      { host: domain, address: '', port: ctx.config.mxPort },
      'connect',
      `has no name server that answers (${(error as Error).message})`,
    );
  }
  if (all.length === 0) throw new NoRoute(`550 5.1.10 ${domain} takes no mail`);
  let last: unknown;
  for (const target of all) {
    try {
      return await MailLine.open(target, { heloName: `out.${ctx.config.mailDomain}`, tls: 'offered', verify: false });
    } catch (error) {
      last = error;
    }
  }
  throw last;
}

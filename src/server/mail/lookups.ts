import { sql } from 'kysely';
import { getDomain } from 'tldts';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import type { RouteHost } from '../db/schema';
import { LookupFailed } from '../dns/resolver';
import { allowedAddress } from '../fetch/guarded';

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
/** How long a domain's route is believed; a domain that does not exist is asked for again sooner, later and later, at least once a day. */
const GOOD_FOR_MS = 6 * HOUR;
const LONGEST_MS = { unanswered: HOUR, missing: 4 * HOUR, gone: 24 * HOUR };
/** For so long a domain that does not exist may be somebody's mistake that is being mended. */
export const GONE_AFTER_MS = 48 * HOUR;
const AT_ONCE = 40;
const MOST_HOSTS = 8;
const MOST_ADDRESSES = 4;

export type Found =
  | { kind: 'hosts'; hosts: RouteHost[] }
  /** It takes no mail and says so: a null MX (RFC 7505), or hosts that are not on the public internet. */
  | { kind: 'no mail'; said: string }
  | { kind: 'gone'; said: string }
  | { kind: 'unanswered'; said: string };

/**
 * Where a domain's mail goes (RFC 5321 section 5.1): its mail hosts with ranks and addresses, as they are now. A host whose address is not
 * answered for makes the whole "unanswered", since it may be the one that matters; hosts without an address are passed over.
 */
export async function findHosts(ctx: Pick<Context, 'resolver' | 'config'>, domain: string): Promise<Found> {
  try {
    const names = (await ctx.resolver.mailHosts(domain)).slice(0, MOST_HOSTS);
    if (names.length === 0) return { kind: 'no mail', said: `556 5.1.10 ${domain} takes no mail` };
    let unanswered = '';
    let kept = 0;
    const hosts: RouteHost[] = [];
    await Promise.all(
      names.map(async ({ host, rank }, n) => {
        try {
          const all = await ctx.resolver.addresses(host);
          const addresses = all.filter((address) => allowedAddress(address, ctx.config.allowLoopback)).slice(0, MOST_ADDRESSES);
          kept += all.length - addresses.length > 0 && addresses.length === 0 ? 1 : 0;
          if (addresses.length) hosts[n] = { host, rank, addresses: addresses.sort() };
        } catch (error) {
          if (error instanceof LookupFailed && error.code === 'EUNANSWERED') unanswered = `No name server answers for ${host}`;
        }
      }),
    );
    const found = hosts.filter(Boolean);
    if (found.length) return { kind: 'hosts', hosts: found };
    if (unanswered) return { kind: 'unanswered', said: unanswered };
    if (kept) return { kind: 'no mail', said: `556 5.1.10 The mail hosts of ${domain} are not on the public internet` };
    return { kind: 'gone', said: `550 5.4.4 The mail hosts of ${domain} have no address` };
  } catch (error) {
    if (error instanceof LookupFailed && error.code === 'ENOTFOUND')
      return { kind: 'gone', said: `550 5.1.2 There is no domain called ${domain}` };
    return { kind: 'unanswered', said: `No name server answers for ${domain}` };
  }
}

/** The names a route is known by: the list of its hosts, and the addresses of the best of them, under which hosts of many names are the same. */
function namesOf(hosts: RouteHost[]): string[] {
  const best = Math.min(...hosts.map(({ rank }) => rank));
  const addresses = new Set(hosts.filter(({ rank }) => rank === best).flatMap((host) => host.addresses));
  return [
    `mx ${hosts
      .map(({ host, rank }) => `${rank} ${host}`)
      .sort()
      .join(' ')}`,
    `at ${[...addresses].sort().join(' ')}`,
  ];
}

export type Looked = {
  id: number;
  name: string;
  routeId: number | null;
  before: number | null;
  state: Found['kind'] | 'fine';
  said: string | null;
  gone: boolean;
  back: boolean;
};

/**
 * Looks domains up that mail waits for and whose route is not known any more, those with most mail first; then domains that are new, so that their
 * first letter finds them known, and those that were gone and may be back. Returns what came of each, for whoever has mail for them. Several workers may do it at once.
 */
export async function lookUpDomains(ctx: Context, most = 500): Promise<Looked[]> {
  const now = ctx.clock.now();
  const due = await ctx.db
    .selectFrom('mail_domains')
    .select(['id', 'name', 'route_id', 'state', 'failing_since', 'tries'])
    .where(
      sql<boolean>`id in (
        select id from mail_domains where wanted > 0 and look_at <= ${now}
        union all (select id from mail_domains where state in ('gone', 'new') and look_at <= ${now} order by look_at limit 200)
        union all select m.domain_id from mails m join mail_domains d on d.id = m.domain_id
          where m.state = 'queued' and m.route_id is null and m.due_at <= ${now} and (d.look_at <= ${now} or d.state = 'fine'))`,
    )
    .orderBy('wanted', 'desc')
    .limit(most)
    .execute();
  if (due.length === 0) return [];
  const found: { row: (typeof due)[number]; answer: Found }[] = [];
  const queue = [...due];
  await Promise.all(
    Array.from({ length: Math.min(AT_ONCE, due.length) }, async () => {
      for (let row = queue.shift(); row; row = queue.shift()) found.push({ row, answer: await findHosts(ctx, row.name) });
    }),
  );
  return ctx.db.transaction().execute(async (trx) => {
    const routes = await routesOf(
      trx,
      now,
      found.flatMap(({ row, answer }) => (answer.kind === 'hosts' ? [{ domain: row.name, hosts: answer.hosts }] : [])),
    );
    const looked = found.map(({ row, answer }): Looked & { look_at: Date; failing_since: Date | null; tries: number } => {
      const fine = answer.kind === 'hosts';
      const failingSince = fine ? null : (row.failing_since ?? now);
      const tries = fine ? 0 : row.tries + 1;
      const old = failingSince !== null && now.getTime() - failingSince.getTime() >= GONE_AFTER_MS;
      const longest = answer.kind === 'unanswered' ? LONGEST_MS.unanswered : old ? LONGEST_MS.gone : LONGEST_MS.missing;
      const wait = fine || answer.kind === 'no mail' ? GOOD_FOR_MS : Math.min(longest, MINUTE * 2 ** Math.min(tries - 1, 12));
      return {
        id: row.id,
        name: row.name,
        before: row.route_id,
        routeId: fine ? routes.get(row.name)! : answer.kind === 'unanswered' ? row.route_id : null,
        state: fine ? 'fine' : answer.kind,
        said: fine ? null : answer.said,
        gone: answer.kind === 'no mail' || (answer.kind === 'gone' && old),
        back: fine && row.state !== 'fine' && row.state !== 'new',
        look_at: new Date(now.getTime() + wait),
        failing_since: failingSince,
        tries,
      };
    });
    looked.sort((a, b) => a.id - b.id);
    await sql`
      update mail_domains d set route_id = n.route_id, state = n.state, said = n.said, look_at = n.look_at, failing_since = n.failing_since, tries = n.tries,
        wanted = case when n.state = 'fine' then 0 else d.wanted end
      from unnest(${looked.map((one) => one.id)}::int[], ${looked.map((one) => one.routeId)}::int[], ${looked.map((one) => one.state)}::text[],
                  ${looked.map((one) => one.said)}::text[], ${looked.map((one) => one.look_at)}::timestamptz[], ${looked.map((one) => one.failing_since)}::timestamptz[],
                  ${looked.map((one) => one.tries)}::int[]) as n(id, route_id, state, said, look_at, failing_since, tries)
      where d.id = n.id`.execute(trx);
    return looked.map(({ look_at: _, failing_since: __, tries: ___, ...one }) => one);
  });
}

/** The route of each of these, found by its names or made; its hosts are kept as they are now. */
async function routesOf(db: Db, now: Date, all: { domain: string; hosts: RouteHost[] }[]): Promise<Map<string, number>> {
  if (all.length === 0) return new Map();
  // One at a time over all workers, so that two do not make the same route twice.
  await sql`select pg_advisory_xact_lock(hashtext('routes'))`.execute(db);
  const wanted = all.map((one) => ({ ...one, names: namesOf(one.hosts) }));
  const known = new Map(
    (
      await db
        .selectFrom('route_names')
        .selectAll()
        .where(sql<boolean>`name = any(${[...new Set(wanted.flatMap(({ names }) => names))]}::text[])`)
        .execute()
    ).map((row) => [row.name, row.route_id]),
  );
  const routes = new Map<string, number>();
  const seen = new Set<number>();
  const lookAt = new Date(now.getTime() + GOOD_FOR_MS);
  for (const { domain, hosts, names } of wanted) {
    let id = names.map((name) => known.get(name)).find((found) => found !== undefined);
    const looked = { hosts: JSON.stringify(hosts), domain, look_at: lookAt };
    if (id === undefined) {
      const best = [...hosts].sort((a, b) => a.rank - b.rank)[0]!;
      const name = getDomain(best.host) ?? best.host;
      ({ id } = await db
        .insertInto('routes')
        .values({ kind: 'hosts', name, ...looked })
        .returning('id')
        .executeTakeFirstOrThrow());
    } else if (!seen.has(id)) await db.updateTable('routes').set(looked).where('id', '=', id).execute();
    seen.add(id);
    for (const name of names) {
      if (known.has(name)) continue;
      known.set(name, id);
      await db
        .insertInto('route_names')
        .values({ name, route_id: id })
        .onConflict((c) => c.doNothing())
        .execute();
    }
    routes.set(domain, id);
  }
  return routes;
}

/** The hosts of a route in the order in which they are tried: by rank, those of one rank at random (RFC 5321 section 5.1, a MUST). */
export function tryOrder(hosts: RouteHost[], random: () => number = Math.random): RouteHost[] {
  return hosts
    .map((host) => ({ host, place: random() }))
    .sort((a, b) => a.host.rank - b.host.rank || a.place - b.place)
    .map(({ host }) => host);
}

import { sql } from 'kysely';
import { getDomain } from 'tldts';
import { isAllowedHost } from '@/core/sending/sts';
import type { Context } from '../context';
import { type Db, isAway, isTransient } from '../db/connection';
import type { KeptPolicy, RouteHost } from '../db/schema';
import { LookupFailed } from '../dns/resolver';
import { allowedAddress } from '../fetch/guarded';
import { policyOf } from './policies';

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
/** How long a domain's route is believed; a domain that does not exist is asked for again sooner, later and later, at least once a day. */
const GOOD_FOR_MS = 6 * HOUR;
const LONGEST_MS = { unanswered: HOUR, missing: 4 * HOUR, gone: 24 * HOUR };
/** For so long a domain that does not exist may be somebody's mistake that is being mended. */
export const GONE_AFTER_MS = 48 * HOUR;
const AT_ONCE = 200;
const LEAST_TRIES = 5;
const LOOK_AGAIN_MS = 200;
const GATHER_MS = 25;
const MOST_HOSTS = 8;
const HOST = /^(?=.{1,253}$)[a-z0-9_](?:[a-z0-9._-]*[a-z0-9])?$/i;
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
    const said = await ctx.resolver.mailHosts(domain);
    // A zone can name anything: what is no host name is nobody's host.
    const names = said.filter(({ host }) => HOST.test(host)).slice(0, MOST_HOSTS);
    if (said.length > 0 && names.length === 0)
      return { kind: 'gone', said: `550 5.4.4 The mail hosts of ${domain} have no names that could be looked up` };
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
function namesOf(hosts: RouteHost[], verified: boolean): string[] {
  const best = Math.min(...hosts.map(({ rank }) => rank));
  const addresses = new Set(hosts.filter(({ rank }) => rank === best).flatMap((host) => host.addresses));
  const names = [
    `mx ${hosts
      .map(({ host, rank }) => `${rank} ${host}`)
      .sort()
      .join(' ')}`,
    `at ${[...addresses].sort().join(' ')}`,
  ];
  return verified ? names.map((name) => `verified ${name}`) : names;
}

export type Looked = {
  id: number;
  name: string;
  routeId: number | null;
  before: number | null;
  state: Found['kind'] | 'fine';
  said: string | null;
  gone: boolean;
  /** Nothing answered for two days: what waits will not go any more, and nobody's mailbox is to blame. */
  stale: boolean;
  back: boolean;
};

type Due = {
  id: number;
  name: string;
  route_id: number | null;
  state: string;
  failing_since: Date | null;
  tries: number;
  policy: KeptPolicy | null;
};
type Answered = { row: Due; answer: Found; policy: KeptPolicy | null };

/**
 * Looks up domains that mail waits for and whose route is not known any more: those of single mails, those of letters, the ones with most mail first,
 * then domains that are new, so that their first letter finds them known, and those that were gone and may be back. Each is written soon after its
 * answer came, so that a name server that keeps us waiting keeps nobody else's mail. Several workers may do it at once.
 */
export class Lookups {
  readonly #underWay = new Map<number, 'mails' | 'letters'>();
  readonly #answered: Answered[] = [];
  #came: () => void = () => {};

  constructor(
    private readonly ctx: Context,
    /** Told what came of each, in the order of ids. */
    private readonly tell: (looked: Looked[]) => Promise<void>,
  ) {}

  /** Looks up until nothing is due. `found` is called each time that routes were. */
  async run(found: () => void): Promise<void> {
    const letters: Due[] = [];
    let known = false;
    for (;;) {
      for (const row of await this.#ofMails()) this.#ask(row, 'mails');
      if (letters.length === 0 && !known) letters.push(...(await this.#ofLetters()));
      known = letters.length === 0;
      while (letters.length && this.#count('letters') < AT_ONCE) this.#ask(letters.shift()!, 'letters');
      if (this.#underWay.size === 0) return;
      await this.#some();
      const routed = await this.#write(this.#answered.splice(0));
      if (routed > 0) found();
      // What was asked for by letters is looked for again once everything that was known to be due is through.
      if (this.#count('letters') === 0) known = false;
    }
  }

  #count(of: 'mails' | 'letters'): number {
    let n = 0;
    for (const one of this.#underWay.values()) if (one === of) n += 1;
    return n;
  }

  #ask(row: Due, of: 'mails' | 'letters'): void {
    if (this.#underWay.has(row.id)) return;
    this.#underWay.set(row.id, of);
    void lookUp(this.ctx, row).then((answered) => {
      this.#answered.push(answered);
      this.#came();
    });
  }

  /** Waits for answers: for all that are under way, but no longer than a moment after the first, nor so long that new mail would wait for it. */
  async #some(): Promise<void> {
    const until = (ms: number, done: () => boolean) =>
      new Promise<void>((resolve) => {
        const end = () => {
          clearTimeout(timer);
          this.#came = () => {};
          resolve();
        };
        const timer = setTimeout(end, ms);
        this.#came = () => done() && end();
        if (done()) end();
      });
    await until(LOOK_AGAIN_MS, () => this.#answered.length > 0);
    if (this.#answered.length) await until(GATHER_MS, () => this.#answered.length === this.#underWay.size);
  }

  async #ofMails(): Promise<Due[]> {
    const now = this.ctx.clock.now();
    const { rows } = await sql<Due>`
      select d.id, d.name, d.route_id, d.state, d.failing_since, d.tries, d.policy from mail_domains d
      where d.id in (select m.domain_id from mails m where m.state = 'queued' and m.route_id is null and m.due_at <= ${now})
        and (d.look_at <= ${now} or d.state = 'fine') and d.id <> all(${[...this.#underWay.keys()]}::int[]) limit ${AT_ONCE - this.#count('mails')}`.execute(
      this.ctx.db,
    );
    return rows;
  }

  async #ofLetters(): Promise<Due[]> {
    const now = this.ctx.clock.now();
    const { rows } = await sql<Due>`
      select id, name, route_id, state, failing_since, tries, policy from mail_domains where id in (
        select id from mail_domains where wanted > 0 and look_at <= ${now}
        union all (select id from mail_domains where state in ('gone', 'new') and look_at <= ${now} order by look_at limit 200))
      and id <> all(${[...this.#underWay.keys()]}::int[]) order by wanted desc limit 500`.execute(this.ctx.db);
    return rows;
  }

  /** Writes what came; returns how many domains have a route. What cannot be written is due still. */
  async #write(answered: Answered[]): Promise<number> {
    if (answered.length === 0) return 0;
    try {
      return await this.#keep(answered);
    } finally {
      for (const { row } of answered) this.#underWay.delete(row.id);
    }
  }

  /** Keeps answers together; where that fails for one of them, the others are kept all the same and that one is asked for again in an hour. */
  async #keep(answered: Answered[]): Promise<number> {
    try {
      const looked = await keepAnswers(this.ctx, answered);
      await this.tell(looked);
      return looked.filter((one) => one.routeId !== null).length;
    } catch (error) {
      if (isAway(error) || isTransient(error)) throw error;
      if (answered.length > 1) {
        const half = Math.ceil(answered.length / 2);
        return (await this.#keep(answered.slice(0, half))) + (await this.#keep(answered.slice(half)));
      }
      const { row } = answered[0]!;
      this.ctx.log.error({ err: error, domain: row.name }, 'what was found of a domain could not be kept');
      await this.ctx.db
        .updateTable('mail_domains')
        .set({
          state: 'unanswered',
          said: 'Something on our side failed with this domain',
          look_at: new Date(this.ctx.clock.now().getTime() + HOUR),
        })
        .where('id', '=', row.id)
        .execute();
      return 0;
    }
  }
}

/** A domain's mail hosts, of which only those count that its own policy allows, where it has one to be kept (RFC 8461 section 4.1). Never rejects. */
async function lookUp(ctx: Context, row: Due): Promise<Answered> {
  const [answer, policy] = await Promise.all([
    findHosts(ctx, row.name),
    policyOf(ctx, row.name, row.policy).catch(() => row.policy),
  ]);
  if (answer.kind !== 'hosts' || policy?.mode !== 'enforce') return { row, answer, policy };
  const hosts = answer.hosts.filter(({ host }) => isAllowedHost(host, policy.mx));
  if (hosts.length) return { row, answer: { kind: 'hosts', hosts }, policy };
  return { row, answer: { kind: 'unanswered', said: `The policy of ${row.name} allows none of its mail hosts` }, policy };
}

function keepAnswers(ctx: Context, answered: Answered[]): Promise<Looked[]> {
  const now = ctx.clock.now();
  return ctx.db.transaction().execute(async (trx) => {
    const routes = await routesOf(
      trx,
      now,
      answered.flatMap(({ row, answer, policy }) =>
        answer.kind === 'hosts' ? [{ domain: row.name, hosts: answer.hosts, verified: policy?.mode === 'enforce' }] : [],
      ),
    );
    const looked = answered.map(({ row, answer, policy }) => {
      const fine = answer.kind === 'hosts';
      const failingSince = fine ? null : (row.failing_since ?? now);
      const tries = fine ? 0 : row.tries + 1;
      // A clock that jumped is no two days of looking.
      const old = failingSince !== null && now.getTime() - failingSince.getTime() >= GONE_AFTER_MS && tries >= LEAST_TRIES;
      const longest = answer.kind === 'unanswered' ? LONGEST_MS.unanswered : old ? LONGEST_MS.gone : LONGEST_MS.missing;
      const wait = fine || answer.kind === 'no mail' ? GOOD_FOR_MS : Math.min(longest, MINUTE * 2 ** Math.min(tries - 1, 12));
      return {
        id: row.id,
        name: row.name,
        before: row.route_id,
        routeId: fine ? routes.get(row.name)! : answer.kind === 'unanswered' ? row.route_id : null,
        state: fine ? ('fine' as const) : answer.kind,
        said: fine ? null : answer.said,
        gone: answer.kind === 'no mail' || (answer.kind === 'gone' && old),
        stale: answer.kind === 'unanswered' && old,
        back: fine && row.state !== 'fine' && row.state !== 'new',
        lookAt: new Date(now.getTime() + wait),
        failingSince,
        tries,
        policy,
      };
    });
    looked.sort((a, b) => a.id - b.id);
    const column = <T>(of: (one: (typeof looked)[number]) => T) => looked.map(of);
    await sql`
      update mail_domains d set route_id = n.route_id, state = n.state, said = n.said, look_at = n.look_at, failing_since = n.failing_since, tries = n.tries,
        policy = n.policy::jsonb, wanted = case when n.state = 'fine' then 0 else d.wanted end
      from unnest(${column((one) => one.id)}::int[], ${column((one) => one.routeId)}::int[], ${column((one) => one.state)}::text[],
                  ${column((one) => one.said)}::text[], ${column((one) => one.lookAt)}::timestamptz[], ${column((one) => one.failingSince)}::timestamptz[],
                  ${column((one) => one.tries)}::int[], ${column((one) => one.policy && JSON.stringify(one.policy))}::text[])
        as n(id, route_id, state, said, look_at, failing_since, tries, policy)
      where d.id = n.id`.execute(trx);
    return looked.map(({ lookAt: _, failingSince: __, tries: ___, policy: ____, ...one }) => one);
  });
}

/** The route of each of these, found by its names or made; its hosts are kept as they are now. */
async function routesOf(
  db: Db,
  now: Date,
  all: { domain: string; hosts: RouteHost[]; verified: boolean }[],
): Promise<Map<string, number>> {
  if (all.length === 0) return new Map();
  // One at a time over all workers, so that two do not make the same route twice.
  await sql`select pg_advisory_xact_lock(hashtext('routes'))`.execute(db);
  const wanted = all.map((one) => ({ ...one, names: namesOf(one.hosts, one.verified) }));
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
  for (const { domain, hosts, verified, names } of wanted) {
    let id = names.map((name) => known.get(name)).find((found) => found !== undefined);
    const looked = { hosts: JSON.stringify(hosts), domain, look_at: lookAt };
    if (id === undefined) {
      const best = [...hosts].sort((a, b) => a.rank - b.rank)[0]!;
      const name = getDomain(best.host) ?? best.host;
      ({ id } = await db
        .insertInto('routes')
        .values({ kind: 'hosts', name, verified, ...looked })
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

import { randomBytes } from 'node:crypto';
import type { Selectable } from 'kysely';
import type { RampPlan } from '@/core/delivery/ramp';
import { Fault } from '@/core/faults';
import { parseDomain } from '@/core/readers/address';
import type { DnsAnswer, Lookup } from '@/core/senders/dns';
import { type Examination, examineDomain } from '@/core/senders/examine';
import { domainState, type Judgement, judge } from '@/core/senders/judge';
import { type DomainIdentity, type Installation, type WantedRecord, wantedRecords } from '@/core/senders/records';
import { readZone, type ZoneFault, zoneLookup } from '@/core/senders/zone-reader';
import type { Context, Newsletter } from '../context';
import type { CheckVerdict, DomainFacts, Schema, StoredJudgement } from '../db/schema';
import { newId } from '../ids';
import { tellBroken, tellStands } from './alarm';
import { makeKey, servedName } from './keys';

export type DomainState = 'unknown' | 'incomplete' | 'authenticated';
export type DomainView = {
  id: string;
  name: string;
  state: DomainState;
  checkedAt: Date | null;
  nextCheckAt: Date;
  steadySince: Date | null;
  zone: string | null;
  nameServers: string[];
  facts: DomainFacts;
  ramp: RampPlan | null;
  keysByAlias: boolean;
  keys: { selector: string; role: 'active' | 'next' | 'second' | 'retired'; algorithm: 'rsa' | 'ed25519'; createdAt: Date }[];
  records: (WantedRecord & { judgement: Judgement | null })[];
};

/** The whole check has to be over by then, whatever the name servers do. */
const DEADLINE_MS = 4_500;
const DAY = 86_400_000;

const installation = (ctx: Pick<Context, 'config'>): Installation => ({
  spfHost: `spf.${ctx.config.mailDomain}`,
  returnPathTarget: `in.${ctx.config.mailDomain}`,
  reportsDomain: `in.${ctx.config.mailDomain}`,
  linksTarget: `links.${ctx.config.mailDomain}`,
  sendingAddresses: ctx.config.sendingAddresses,
});

/** Adds a domain: makes its DKIM key and has its records looked up at once. Accepts an address or a web address by mistake. */
export async function addDomain(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const name = parseDomain(
    String(raw ?? '')
      .replace(/["'\s]/g, '')
      .replace(/^https?:\/\//i, '')
      .replace(/[/?#].*$/, '')
      .replace(/^.*@/, '')
      .replace(/^www\./i, ''),
  );
  if (!name?.includes('.'))
    throw new Fault('invalid', 'This is not a domain name. One looks like lanternfish.example.', { name: 'Not a domain name.' });
  const id = newId();
  await ctx.db.transaction().execute(async (trx) => {
    const added = await trx
      .insertInto('domains')
      .values({
        id,
        newsletter_id: newsletter.id,
        name,
        reports_token: `d-${randomBytes(5).toString('hex')}`,
        next_check_at: ctx.clock.now(),
        created_at: ctx.clock.now(),
      })
      .onConflict((c) => c.columns(['newsletter_id', 'name']).doNothing())
      .returning('id')
      .executeTakeFirst();
    if (!added) throw new Fault('conflict', `${name} is in your list already.`, { name: 'This domain is in the list already.' });
    await makeKey(ctx, trx, id, 'active', 'rsa');
  });
  return { id };
}

/** Takes a domain out of the list. Refused, with what would stop, while a confirmed sender uses it. */
export async function removeDomain(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const domain = await load(ctx, id, newsletter.id);
  const users = await ctx.db
    .selectFrom('senders')
    .select('address')
    .where('newsletter_id', '=', newsletter.id)
    .where('domain', '=', domain.name)
    .execute();
  if (users.length)
    throw new Fault('conflict', `${users.map((user) => user.address).join(', ')} could no longer send. Remove the sender first.`);
  await ctx.db.deleteFrom('domains').where('id', '=', domain.id).execute();
}

/** A newsletter's domains, oldest first. */
export async function domainsOf(ctx: Context, newsletter: Newsletter): Promise<DomainView[]> {
  const rows = await ctx.db
    .selectFrom('domains')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .execute();
  return Promise.all(rows.map((row) => view(ctx, row)));
}

/** One domain with its records and what was last found. */
export async function domainOf(ctx: Context, newsletter: Newsletter, id: string): Promise<DomainView> {
  return view(ctx, await load(ctx, id, newsletter.id));
}

export type CheckEntry = { at: Date; state: string; verdicts: CheckVerdict[]; changed: boolean; tookMs: number };

/** The latest check of a domain and those before it that found something else than the check before them, newest first. */
export async function checksOf(ctx: Context, newsletter: Newsletter, id: string, most = 12): Promise<CheckEntry[]> {
  const domain = await load(ctx, id, newsletter.id);
  const rows = await ctx.db
    .selectFrom('domain_checks')
    .selectAll()
    .where('domain_id', '=', domain.id)
    .where((eb) => eb.or([eb('changed', '=', true), eb('at', '=', domain.checked_at)]))
    .orderBy('at', 'desc')
    .orderBy('id', 'desc')
    .limit(most)
    .execute();
  return rows.map((row) => ({ at: row.at, state: row.state, verdicts: row.verdicts, changed: row.changed, tookMs: row.took_ms }));
}

/**
 * Checks a domain and keeps what was found, with its place in the history. Called by the tick (any newsletter's) and by the writer. What
 * counts is what the domain's own name servers say; what the resolver still remembers is said beside it. An answer that did not come
 * leaves what was known before. Re-checks come quickly at first and then further apart; a good record that broke is told at once.
 */
export async function checkDomain(ctx: Context, id: string, newsletterId?: string): Promise<DomainView> {
  const row = await load(ctx, id, newsletterId);
  const began = performance.now();
  const authority = await within(ctx.resolver.authority(row.name), DEADLINE_MS / 3, null);
  const look = deadlined(authority?.look ?? ctx.resolver.look, began + DEADLINE_MS);
  const identity = await identityOf(ctx, { ...row, zone: authority?.zone ?? row.zone });
  const now = ctx.clock.now();
  const steadyDays = row.steady_since ? (now.getTime() - row.steady_since.getTime()) / DAY : 0;
  const found = await examineDomain(identity, installation(ctx), look, steadyDays);
  const judgements = found.records.map((record): StoredJudgement => {
    const known = row.judgements.find((old) => old.purpose === record.purpose);
    // No answer at all is a matter of the name server, not of the record: what was right stays right until something else is seen.
    if (record.judgement.verdict === 'unanswered' && (known?.verdict === 'right' || known?.verdict === 'look'))
      return { ...known, sentence: record.judgement.sentence };
    return { purpose: record.purpose, ...record.judgement };
  });
  const state = domainState(found.records.map((record, n) => ({ needed: record.needed, verdict: judgements[n]?.verdict })));
  const facts: DomainFacts = {
    envelope: { result: found.envelope.result, reason: found.envelope.reason },
    spfLookups: found.spfLookups,
    nextStep: found.nextStep,
    remembered: authority ? await remembered(found, deadlined(ctx.resolver.look, began + DEADLINE_MS)) : {},
    disagreed: authority?.disagreed() ?? [],
  };
  const summary = (all: { purpose: string; verdict: string; paste?: string; found?: string[] }[]) =>
    JSON.stringify(all.map((j) => [j.purpose, j.verdict, j.found]).sort());
  const changed = summary(judgements) !== summary(row.judgements);
  const checks = changed ? 0 : row.checks_since_change + 1;
  const updated = await ctx.db.transaction().execute(async (trx) => {
    const after = await trx
      .updateTable('domains')
      .set({
        judgements: JSON.stringify(judgements),
        facts: JSON.stringify(facts),
        state,
        zone: authority?.zone ?? row.zone,
        name_servers: authority?.servers ?? row.name_servers,
        steady_since: state === 'authenticated' ? (row.steady_since ?? now) : null,
        checked_at: now,
        checks_since_change: checks,
        next_check_at: new Date(now.getTime() + Math.min(360, 2 ** Math.min(checks, 9)) * 60_000),
      })
      .where('id', '=', id)
      .returningAll()
      .executeTakeFirstOrThrow();
    const verdicts = judgements.map(({ purpose, verdict, label }) => ({ purpose, verdict, label }));
    await trx
      .insertInto('domain_checks')
      .values({
        domain_id: id,
        at: now,
        state,
        verdicts: JSON.stringify(verdicts),
        changed,
        took_ms: Math.round(performance.now() - began),
      })
      .execute();
    if (row.state === 'authenticated' && state === 'incomplete') await tellBroken(ctx, trx, after, found.records);
    if (row.state !== 'authenticated' && state === 'authenticated') await tellStands(ctx, trx, after);
    return after;
  });
  if (updated.state !== row.state)
    ctx.log.info({ domain: row.name, from: row.state, to: updated.state }, 'a domain changed its state');
  return view(ctx, updated);
}

/** How old the last check may be when a letter is about to leave. */
const FRESH_MS = 10 * 60_000;

/** Checks a sender's domain anew if the last check is not fresh: so that a record that broke stops the letter, not the letter the record. */
export async function freshenFor(ctx: Context, newsletterId: string, domainName: string): Promise<void> {
  const domain = await ctx.db
    .selectFrom('domains')
    .select(['id', 'checked_at'])
    .where('newsletter_id', '=', newsletterId)
    .where('name', '=', domainName)
    .executeTakeFirst();
  if (domain && (!domain.checked_at || ctx.clock.now().getTime() - domain.checked_at.getTime() > FRESH_MS))
    await checkDomain(ctx, domain.id, newsletterId);
}

/** Asks the resolver too: purposes whose published record it does not see yet, and for how many seconds it may remember the old answer. */
async function remembered(found: Examination, look: Lookup): Promise<Record<string, number>> {
  const entries = await Promise.all(
    found.records
      .filter((record) => record.value && record.judgement.verdict === 'right')
      .map(async (record) => {
        const answer = await look(record.name, record.type);
        if (answer.kind === 'unanswered' || judge(record, answer).verdict === 'right') return null;
        return [record.purpose, answer.ttl] as const;
      }),
  );
  return Object.fromEntries(entries.filter((entry) => entry !== null));
}

/** A look-up that says "timeout" at once after the deadline, so that a slow zone ends a check instead of holding it. */
function deadlined(look: Lookup, until: number): Lookup {
  const late: DnsAnswer = { kind: 'unanswered', fault: 'timeout' };
  return (name, type) => {
    const left = until - performance.now();
    return left <= 0 ? Promise.resolve(late) : within(look(name, type), left, late);
  };
}

async function within<T, U>(work: Promise<T>, ms: number, otherwise: U): Promise<T | U> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<U>((resolve) => {
    timer = setTimeout(() => resolve(otherwise), ms);
  });
  try {
    return await Promise.race([work, late]);
  } finally {
    clearTimeout(timer);
  }
}

export type ZonePreview = {
  records: (WantedRecord & { judgement: Judgement })[];
  read: number;
  faults: ZoneFault[];
  state: DomainState;
};

/** What a zone file would do if it were published: the same check, over its records instead of DNS. Keeps nothing. */
export async function previewZone(ctx: Context, newsletter: Newsletter, id: string, text: string): Promise<ZonePreview> {
  if (text.trim() === '') throw new Fault('invalid', 'Paste the zone file first.', { text: 'Empty.' });
  if (text.length > 1_000_000)
    throw new Fault('invalid', 'This is longer than a zone file of a megabyte.', { text: 'Too long.' });
  const row = await load(ctx, id, newsletter.id);
  const identity = await identityOf(ctx, row);
  const zone = readZone(text, row.zone ?? row.name);
  if (zone.records.length === 0)
    throw new Fault(
      'invalid',
      zone.faults[0]
        ? `Line ${zone.faults[0].line}: ${zone.faults[0].sentence} No record could be read.`
        : 'No record could be read.',
      { text: 'Not a zone file.' },
    );
  const { records } = await examineDomain(
    identity,
    installation(ctx),
    zoneLookup(zone, deadlined(ctx.resolver.look, performance.now() + DEADLINE_MS)),
  );
  return {
    records,
    read: zone.records.length,
    faults: zone.faults.slice(0, 10),
    state: domainState(records.map((record) => ({ needed: record.needed, verdict: record.judgement.verdict }))),
  };
}

/** Puts a ramp-up plan in place, changes it, or takes it away (null). */
export async function setRamp(ctx: Context, newsletter: Newsletter, id: string, plan: RampPlan | null): Promise<void> {
  const domain = await load(ctx, id, newsletter.id);
  await ctx.db
    .updateTable('domains')
    // Counted at once: what is planned keeps to another plan's ceilings, too.
    .set({ ramp: plan && JSON.stringify(plan), ramp_counted_at: null })
    .where('id', '=', domain.id)
    .execute();
}

type Row = Selectable<Schema['domains']>;

async function load(ctx: Context, id: string, newsletterId?: string): Promise<Row> {
  const row = await ctx.db
    .selectFrom('domains')
    .selectAll()
    .where('id', '=', id)
    .$if(newsletterId !== undefined, (query) => query.where('newsletter_id', '=', newsletterId!))
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This domain is gone.');
  return row;
}

async function keysOf(ctx: Context, domainId: string) {
  return ctx.db
    .selectFrom('domain_keys')
    .select(['selector', 'role', 'algorithm', 'public_key', 'created_at'])
    .where('domain_id', '=', domainId)
    .orderBy('created_at')
    .orderBy('selector')
    .execute();
}

async function identityOf(
  ctx: Context,
  row: Pick<Row, 'id' | 'name' | 'zone' | 'reports_token' | 'keys_by_alias'>,
): Promise<DomainIdentity> {
  const keys = await keysOf(ctx, row.id);
  const key = (role: string) => {
    const found = keys.find((entry) => entry.role === role);
    if (!found) return undefined;
    const alias = row.keys_by_alias ? servedName(ctx, found.selector, row.reports_token) : undefined;
    return { selector: found.selector, publicKey: found.public_key, algorithm: found.algorithm, alias };
  };
  const active = key('active');
  if (!active) throw new Error(`${row.name} has no active key.`);
  return {
    domain: row.name,
    zone: row.zone ?? undefined,
    active,
    next: key('next'),
    second: key('second'),
    reportsToken: row.reports_token,
  };
}

async function view(ctx: Context, row: Row): Promise<DomainView> {
  const identity = await identityOf(ctx, row);
  const keys = await keysOf(ctx, row.id);
  return {
    id: row.id,
    name: row.name,
    state: row.state,
    checkedAt: row.checked_at,
    nextCheckAt: row.next_check_at,
    steadySince: row.steady_since,
    zone: row.zone,
    nameServers: row.name_servers,
    facts: row.facts,
    ramp: row.ramp,
    keysByAlias: row.keys_by_alias,
    keys: keys.map((key) => ({ selector: key.selector, role: key.role, algorithm: key.algorithm, createdAt: key.created_at })),
    records: wantedRecords(identity, installation(ctx)).map((record) => ({
      ...record,
      judgement: row.judgements.find((j) => j.purpose === record.purpose) ?? null,
    })),
  };
}

/** The zone of the installation's own mail domain, as its owner has to publish it (master file). */
export function installationZone(ctx: Pick<Context, 'config'>, publicKey: string): string {
  const { mailDomain, sendingAddresses } = ctx.config;
  const key = (`v=DKIM1; k=rsa; p=${publicKey}`.match(/.{1,255}/g) ?? []).map((part) => `"${part}"`).join(' ');
  const spf = sendingAddresses.map((address) => `${address.includes(':') ? 'ip6' : 'ip4'}:${address}`).join(' ');
  const hosts = (host: string) =>
    sendingAddresses.map((address) => `${host} IN ${address.includes(':') ? 'AAAA' : 'A'} ${address}`);
  return [
    `$ORIGIN ${mailDomain}.`,
    '$TTL 3600',
    '@ IN MX 10 in',
    `@ IN TXT "v=spf1 include:spf.${mailDomain} -all"`,
    '_dmarc IN TXT "v=DMARC1; p=reject"',
    `ink1._domainkey IN TXT ${key}`,
    `spf IN TXT "v=spf1 ${spf} -all"`,
    ...hosts('in'),
    'in IN MX 10 in',
    `in IN TXT "v=spf1 include:spf.${mailDomain} -all"`,
    // Reports about other people's domains are welcome here (RFC 7489 section 7.1).
    '*._report._dmarc.in IN TXT "v=DMARC1"',
    ...hosts('out'),
    ...hosts('links'),
    // Keys that writers' aliases lead to are served by ourselves.
    'keys IN NS names',
    ...hosts('names'),
    '',
  ].join('\n');
}

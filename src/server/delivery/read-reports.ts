import ipaddr from 'ipaddr.js';
import { sql } from 'kysely';
import { DmarcReader, type DmarcReport, sourcesOf } from '@/core/delivery/dmarc-report';
import type { ReportRead } from '@/core/delivery/reported';
import { readTlsReport, type TlsReport } from '@/core/delivery/tls-report';
import { asFault, Fault } from '@/core/faults';
import { returnPathDomain } from '@/core/senders/records';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction, isAway } from '../db/connection';
import { insertRows } from '../db/rows';
import { signedBy } from './signed-by';
import { takeApart } from './take-apart';
import { unpacked } from './unpack';

/** A report that is uploaded is no larger than one that is mailed. */
const MOST_BYTES = 12_000_000;
const MOST_JSON = 10_000_000;
const MOST_FILES = 10;
/** A report is of days that have come, and not of a time that nobody looks back to. */
const AHEAD_MS = 2 * 86_400_000;
const OLDEST_MS = 400 * 86_400_000;
/** So many addresses of a report, the busiest, are asked what they are called; again after so long. */
const NAMED = 20;
const NAMED_FOR_MS = 30 * 86_400_000;
/** A signature whose key nobody answers for is looked at again so much later, for so long. */
const AGAIN_MS = 15 * 60_000;
const AGAIN_FOR_MS = 2 * 86_400_000;

type Report = { kind: 'dmarc'; report: DmarcReport } | { kind: 'tls'; report: TlsReport };

/** Reads a report's bytes, packed or not. Throws a fault for what is none. */
export async function readReport(bytes: Buffer): Promise<Report> {
  const decoder = new TextDecoder('utf-8');
  const dmarc = new DmarcReader();
  const json: string[] = [];
  let is: 'xml' | 'json' | null = null;
  for await (const piece of unpacked(bytes)) {
    const text = decoder.decode(piece, { stream: true });
    is ??= /^\s*[{[]/.test(text) ? 'json' : text.trim() ? 'xml' : null;
    if (is === 'json') {
      json.push(text);
      if (json.reduce((sum, one) => sum + one.length, 0) > MOST_JSON)
        throw new Fault('invalid', 'This report about encryption is longer than any is.');
    } else if (is === 'xml') dmarc.write(text);
  }
  if (is === 'json') return { kind: 'tls', report: readTlsReport(json.join('')) };
  return { kind: 'dmarc', report: dmarc.end() };
}

/** Reports that came by mail and are not read yet: the next ones a worker reads. */
export const reportsDue = (ctx: Pick<Context, 'db' | 'clock'>): Promise<{ id: string }[]> =>
  ctx.db
    .selectFrom('reports')
    .select('id')
    .where('handled_at', 'is', null)
    .where('kind', 'in', ['dmarc', 'tls'])
    .where((eb) => eb.or([eb('due_at', 'is', null), eb('due_at', '<=', ctx.clock.now())]))
    .orderBy('id')
    .limit(20)
    .execute();

/**
 * Reads a report that came by mail. It counts by the word of whoever signed it; one that nobody's signature vouches for is kept until somebody says that it counts.
 * What cannot be read is kept with its reason; nothing is read twice, and one that comes twice counts once.
 */
export async function workReport(ctx: Context, id: string): Promise<void> {
  const now = ctx.clock.now();
  const row = await ctx.db
    .selectFrom('reports')
    .selectAll()
    .where('id', '=', id)
    .where('handled_at', 'is', null)
    .where((eb) => eb.or([eb('due_at', 'is', null), eb('due_at', '<=', now)]))
    .executeTakeFirst();
  if (!row) return;
  const end = (of: { fault: string | null; unsigned?: boolean }) =>
    ctx.db
      .updateTable('reports')
      .set({ handled_at: now, ...of })
      .where('id', '=', id)
      .execute();
  const signer = await signedBy(ctx, row.bytes);
  if (signer === 'unanswered') {
    if (now.getTime() - row.received_at.getTime() > AGAIN_FOR_MS)
      await end({ fault: 'Nobody answered for the key of its signature for two days.', unsigned: true });
    else
      await ctx.db
        .updateTable('reports')
        .set({ due_at: new Date(now.getTime() + AGAIN_MS) })
        .where('id', '=', id)
        .execute();
  } else if ('nobody' in signer) await end({ fault: signer.nobody, unsigned: true });
  else await end({ fault: await faultOf(ctx, row, signer.by) });
}

type Mailed = { id: string; bytes: Buffer; domain_id: string | null };

/** Reads what is in the mail of a report, and keeps it; why it could not be, or null. */
async function faultOf(ctx: Context, row: Mailed, signer: string): Promise<string | null> {
  try {
    const { files } = await takeApart(row.bytes, '');
    const packed = files
      .slice(0, MOST_FILES)
      .filter(({ type, name }) => /zip|xml|json|octet-stream|tlsrpt/.test(`${type} ${name}`));
    if (packed.length === 0) throw new Fault('invalid', 'There is no report in this mail.');
    for (const { bytes } of packed)
      await keep(ctx, await readReport(bytes), signer, (db, name) => ownersOf(db, name, row.domain_id));
    return null;
  } catch (error) {
    if (isAway(error)) throw error;
    if (!(error instanceof Fault)) ctx.log.error({ err: error, report: row.id }, 'a report could not be read');
    return error instanceof Fault ? asFault(error).sentence : 'Something on our side failed with this report.';
  }
}

/** Lets a report count that came by mail and that nobody's signature vouches for, on the word of whoever says so. Throws a fault where it cannot be read, or did count. */
export async function letReportCount(ctx: Context, newsletter: Pick<Newsletter, 'id'>, id: string): Promise<void> {
  const row = await ctx.db
    .selectFrom('reports')
    .innerJoin('domains', 'domains.id', 'reports.domain_id')
    .select(['reports.id', 'reports.bytes', 'reports.domain_id'])
    .where('reports.id', '=', id)
    .where('domains.newsletter_id', '=', newsletter.id)
    .where('unsigned', '=', true)
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This report counts already, or is gone.');
  const fault = await faultOf(ctx, row, '');
  await ctx.db.updateTable('reports').set({ fault, unsigned: false }).where('id', '=', id).execute();
  if (fault) throw new Fault('invalid', fault);
}

/** Takes in a report that somebody uploads for a domain of theirs; says what it was. Throws a fault for what is none, or is about another domain. */
export async function uploadReport(
  ctx: Context,
  newsletter: Pick<Newsletter, 'id'>,
  domainId: string,
  stream: AsyncIterable<Uint8Array>,
): Promise<ReportRead> {
  const domain = await ctx.db
    .selectFrom('domains')
    .select(['id', 'name'])
    .where('id', '=', domainId)
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirst();
  if (!domain) throw new Fault('not-found', 'This domain is gone.');
  const pieces: Uint8Array[] = [];
  let size = 0;
  for await (const piece of stream) {
    size += piece.length;
    if (size > MOST_BYTES) throw new Fault('invalid', 'A report has at most 12 MB. Is this one?');
    pieces.push(piece);
  }
  const read = await readReport(Buffer.concat(pieces));
  return keep(ctx, read, '', async (_db, name) => {
    if (name !== domain.name && !name.endsWith(`.${domain.name}`))
      throw new Fault('invalid', `This report is about ${name || 'no domain'}, not about ${domain.name}.`);
    return [domain];
  });
}

/** The domains here that a report about this name speaks of: that of its own address, or else whoever has the name proven. */
async function ownersOf(db: Db, name: string, domainId: string | null): Promise<{ id: string; name: string }[]> {
  const rows = await db
    .selectFrom('domains')
    .select(['id', 'name'])
    .where((eb) => eb.or([eb('name', '=', name), sql<boolean>`${name} like '%.' || name`]))
    .$if(domainId !== null, (query) => query.where('id', '=', domainId!))
    .$if(domainId === null, (query) => query.where('state', '=', 'authenticated'))
    // In one order, since each is locked in turn.
    .orderBy('id')
    .execute();
  if (rows.length === 0) throw new Fault('invalid', `It is about ${name || 'no domain'}, which nobody here has added.`);
  return rows;
}

async function keep(
  ctx: Context,
  read: Report,
  /** Empty for what somebody brings, or vouches for. */
  signer: string,
  owners: (db: Db, name: string) => Promise<{ id: string; name: string }[]>,
): Promise<ReportRead> {
  const now = ctx.clock.now().getTime();
  const { from, to } = read.report;
  if (to.getTime() > now + AHEAD_MS || from.getTime() < now - OLDEST_MS)
    throw new Fault('invalid', 'This report is of days that lie ahead, or more than a year back. It was not read.');
  const kept = await inTransaction(ctx.db, async (trx): Promise<ReportRead> => {
    if (read.kind === 'tls') return keepTls(ctx, trx, read.report, signer, owners);
    const { report } = read;
    let again = true;
    for (const domain of await owners(trx, report.policy.domain))
      if (await keepDmarc(ctx, trx, report, signer, domain)) again = false;
    return { kind: 'dmarc', reporter: report.reporter, domain: report.policy.domain, mails: mailsOf(report), again };
  });
  if (read.kind === 'dmarc' && !kept.again)
    await nameHosts(
      ctx,
      read.report.rows.flatMap(({ ip }) => (ip ? [ip] : [])),
    );
  return kept;
}

const mailsOf = ({ rows }: DmarcReport) =>
  Math.min(
    2_000_000_000,
    rows.reduce((sum, { mails }) => sum + mails, 0),
  );

async function keepDmarc(
  ctx: Context,
  trx: Db,
  report: DmarcReport,
  signer: string,
  domain: { id: string; name: string },
): Promise<boolean> {
  const keys = await trx.selectFrom('domain_keys').select('selector').where('domain_id', '=', domain.id).execute();
  const own = {
    domain: domain.name,
    selectors: keys.map(({ selector }) => selector),
    returnPath: returnPathDomain(domain.name),
    addresses: new Set<string>(),
  };
  const is = { domain_id: domain.id, reporter: report.reporter, report_id: report.id, from_at: report.from, to_at: report.to };
  const mails = mailsOf(report);
  if (await keptBefore(trx, 'dmarc_reports', { ...is, mails }, signer)) return false;
  const row = await trx
    .insertInto('dmarc_reports')
    .values({
      ...is,
      signed_by: signer,
      policy: JSON.stringify(report.policy),
      mails,
      aligned: report.rows.reduce((sum, one) => sum + (one.dkim || one.spf ? one.mails : 0), 0),
      received_at: ctx.clock.now(),
    })
    .onConflict((c) => c.doNothing())
    .returning('id')
    .executeTakeFirst();
  if (!row) return false;
  const sources = sourcesOf(report, own).map((source, n) => ({ report: row.id, n, ...source }));
  await insertRows(
    'dmarc_sources',
    ['report', 'n', 'ip', 'kind', 'who', 'mails', 'aligned', 'quarantined', 'rejected', 'detail'],
    sources,
  ).execute(trx);
  return true;
}

/** Was the same report kept that somebody brought and another signed? Of one name and other figures it is somebody else's, who took the name. */
async function keptBefore(
  trx: Db,
  table: 'dmarc_reports' | 'tls_reports',
  is: Record<string, string | number | Date>,
  signer: string,
): Promise<boolean> {
  // One at a time for a domain: brought and mailed in the same moment, it would count twice.
  await sql`select from domains where id = ${is.domain_id} for no key update`.execute(trx);
  const alike = sql.join(
    Object.entries(is).map(([column, value]) => sql`${sql.ref(column)} = ${value}`),
    sql` and `,
  );
  const { rows } =
    await sql`select from ${sql.table(table)} where ${alike} and (signed_by = '') <> ${signer === ''} limit 1`.execute(trx);
  return rows.length > 0;
}

async function keepTls(
  ctx: Context,
  trx: Db,
  report: TlsReport,
  signer: string,
  owners: (db: Db, name: string) => Promise<{ id: string; name: string }[]>,
): Promise<ReportRead> {
  let again = true;
  for (const one of report.domains)
    for (const domain of await owners(trx, one.domain)) {
      // One report may be about several hosts of a domain.
      const name = `${report.id} ${one.domain} ${one.policy}`.slice(0, 500);
      const is = { domain_id: domain.id, reporter: report.reporter, report_id: name, from_at: report.from, to_at: report.to };
      const counts = { good: one.good, failed: one.failed };
      if (await keptBefore(trx, 'tls_reports', { ...is, ...counts }, signer)) continue;
      const { numInsertedOrUpdatedRows } = await trx
        .insertInto('tls_reports')
        .values({
          ...is,
          ...counts,
          signed_by: signer,
          failures: JSON.stringify(one.failures),
          received_at: ctx.clock.now(),
        })
        .onConflict((c) => c.doNothing())
        .executeTakeFirst();
      if (numInsertedOrUpdatedRows) again = false;
    }
  return {
    kind: 'tls',
    reporter: report.reporter,
    domain: report.domains[0]?.domain ?? '',
    mails: report.domains.reduce((sum, { good, failed }) => sum + good + failed, 0),
    again,
  };
}

const reverseName = (ip: string): string => {
  const address = ipaddr.parse(ip);
  if (address.kind() === 'ipv4') return `${address.toString().split('.').reverse().join('.')}.in-addr.arpa`;
  return `${[
    ...address
      .toNormalizedString()
      .split(':')
      .map((part) => part.padStart(4, '0'))
      .join(''),
  ]
    .reverse()
    .join('.')}.ip6.arpa`;
};

/** Asks what the busiest addresses of a report are called, those that nobody has asked for lately. What is not answered is asked again in a month. */
async function nameHosts(ctx: Context, ips: string[]): Promise<void> {
  const wanted = [...new Set(ips)].slice(0, NAMED);
  if (wanted.length === 0) return;
  const now = ctx.clock.now();
  const known = await sql<{ ip: string }>`
    select host(ip) as ip from source_hosts where ip = any(${wanted}::inet[]) and looked_at > ${new Date(now.getTime() - NAMED_FOR_MS)}`.execute(
    ctx.db,
  );
  const asked = new Set(known.rows.map(({ ip }) => ip));
  const found = await Promise.all(
    wanted
      .filter((ip) => !asked.has(ip))
      .map(async (ip) => {
        const answer = await ctx.resolver.look(reverseName(ip), 'PTR').catch(() => null);
        const name = answer?.kind === 'found' ? (answer.values[0] ?? null) : null;
        return { ip, name: name && /^[a-z0-9._-]{1,253}$/i.test(name) ? name.toLowerCase().replace(/\.$/, '') : null };
      }),
  );
  if (found.length === 0) return;
  await sql`
    insert into source_hosts (ip, name, looked_at) select t.ip, t.name, ${now}::timestamptz
    from unnest(${found.map(({ ip }) => ip)}::inet[], ${found.map(({ name }) => name)}::text[]) as t(ip, name) order by t.ip
    on conflict (ip) do update set name = coalesce(excluded.name, source_hosts.name), looked_at = excluded.looked_at`.execute(
    ctx.db,
  );
}

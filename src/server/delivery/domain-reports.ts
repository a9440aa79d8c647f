import { sql } from 'kysely';
import { type KindTotals, nextPolicy, SOURCE_KINDS, type SourceKind } from '@/core/delivery/dmarc-report';
import { type DomainReports, type KindSum, REPORTED_DAYS, type SourceView } from '@/core/delivery/reported';
import type { TlsFailure } from '@/core/delivery/tls-report';
import type { Context } from '../context';

const DAY_MS = 86_400_000;
const SHOWN = 25;

/** What others reported of a domain's mail in the last thirty days: whose it was, what became of it, and what a stricter policy would have stopped. */
export async function domainReports(ctx: Context, domainId: string): Promise<DomainReports> {
  const since = new Date(ctx.clock.now().getTime() - REPORTED_DAYS * DAY_MS);
  const of = sql`dmarc_sources s join dmarc_reports r on r.id = s.report where r.domain_id = ${domainId}::uuid and r.to_at > ${since}`;
  const [kinds, days, sources, reporters, policy, unread, tls] = await Promise.all([
    sql<KindSum>`
      select s.kind, sum(s.mails)::float8 as mails, sum(s.aligned)::float8 as aligned, sum(s.quarantined)::float8 as quarantined, sum(s.rejected)::float8 as rejected
      from ${of} group by 1`.execute(ctx.db),
    // A report is of the day in whose middle its hours lie.
    sql<DomainReports['days'][number]>`
      select to_char(r.from_at + (r.to_at - r.from_at) / 2, 'YYYY-MM-DD') as day, sum(s.aligned)::float8 as believed,
        coalesce(sum(s.mails - s.aligned) filter (where s.kind <> 'stranger'), 0)::float8 as doubted, coalesce(sum(s.mails - s.aligned) filter (where s.kind = 'stranger'), 0)::float8 as strangers
      from ${of} group by 1 order by 1`.execute(ctx.db),
    sql<SourceView & { all: number }>`
      with alike as (
        select s.ip, s.kind, s.who, sum(s.mails)::float8 as mails, sum(s.aligned)::float8 as aligned, sum(s.quarantined + s.rejected)::float8 as stopped,
          (array_agg(s.detail order by s.mails desc))[1] as detail
        from ${of} group by 1, 2, 3)
      select host(a.ip) as ip, h.name as host, a.kind, a.who, a.mails, a.aligned, a.stopped, a.detail, count(*) over ()::int as all from alike a
      left join source_hosts h on h.ip = a.ip order by (a.kind = 'ours, broken') desc, a.mails desc, a.ip limit ${SHOWN}`.execute(
      ctx.db,
    ),
    sql<DomainReports['reporters'][number]>`
      select coalesce(nullif(signed_by, ''), reporter) as name, count(*)::int as reports, sum(mails)::float8 as mails, max(to_at) as last
      from dmarc_reports r where r.domain_id = ${domainId}::uuid and r.to_at > ${since} group by 1 order by mails desc limit 20`.execute(
      ctx.db,
    ),
    ctx.db
      .selectFrom('dmarc_reports')
      .select('policy')
      .where('domain_id', '=', domainId)
      .orderBy('to_at', 'desc')
      .orderBy('id', 'desc')
      .limit(1)
      .executeTakeFirst(),
    ctx.db
      .selectFrom('reports')
      .select(['id', 'received_at as at', 'fault', 'unsigned'])
      .where('domain_id', '=', domainId)
      .where('fault', 'is not', null)
      .where('received_at', '>', since)
      .orderBy('received_at', 'desc')
      .limit(5)
      .execute(),
    ctx.db
      .selectFrom('tls_reports')
      .select(['good', 'failed', 'failures'])
      .where('domain_id', '=', domainId)
      .where('to_at', '>', since)
      .execute(),
  ]);
  const totals = Object.fromEntries(
    (Object.keys(SOURCE_KINDS) as SourceKind[]).map((kind) => {
      const row = kinds.rows.find((one) => one.kind === kind);
      return [kind, { mails: row?.mails ?? 0, aligned: row?.aligned ?? 0 }];
    }),
  ) as KindTotals;
  const failures = new Map<string, TlsFailure>();
  for (const failure of tls.flatMap((row) => row.failures)) {
    const key = `${failure.type} ${failure.host}`;
    failures.set(key, { ...failure, count: (failures.get(key)?.count ?? 0) + failure.count });
  }
  return {
    policy: policy?.policy ?? null,
    kinds: (Object.keys(SOURCE_KINDS) as SourceKind[]).flatMap((kind) => kinds.rows.filter((row) => row.kind === kind)),
    days: days.rows,
    sources: sources.rows.map(({ all: _all, ...source }) => source),
    more: Math.max(0, (sources.rows[0]?.all ?? 0) - SHOWN),
    reporters: reporters.rows,
    step: policy ? nextPolicy(policy.policy, totals) : null,
    unread: unread.map(({ fault, ...one }) => ({ ...one, fault: fault! })),
    tls: {
      good: tls.reduce((sum, { good }) => sum + good, 0),
      failed: tls.reduce((sum, { failed }) => sum + failed, 0),
      failures: [...failures.values()].sort((a, b) => b.count - a.count).slice(0, 10),
      reports: tls.length,
    },
  };
}

import { sql } from 'kysely';
import { type BulkRule, bulkRules } from '@/core/delivery/bulk-rules';
import { REPORTED_DAYS } from '@/core/delivery/reported';
import type { Copies } from '@/core/delivery/standing';
import { freeMailWarning } from '@/core/senders/free-mail';
import { holds } from '@/core/senders/judge';
import type { RecordPurpose } from '@/core/senders/records';
import type { Context, Newsletter } from '../context';
import type { DomainView } from '../senders/domains';
import { lastTestLetter } from '../sending/test-letter';

/** What large providers ask of letters from a domain of addresses, each with its proof. `domain` is that domain as it was added here, if it was. */
export async function rulesFor(
  ctx: Context,
  newsletter: Newsletter,
  name: string,
  domain: DomainView | undefined,
  relay: boolean,
  complaints: Pick<Copies, 'complained' | 'delivered'>,
): Promise<BulkRule[]> {
  const since = new Date(ctx.clock.now().getTime() - REPORTED_DAYS * 86_400_000);
  const [test, reported] = domain
    ? await Promise.all([
        lastTestLetter(ctx, newsletter, domain.id),
        sql<{ mails: number; aligned: number }>`
          select coalesce(sum(s.mails), 0)::float8 as mails, coalesce(sum(s.aligned), 0)::float8 as aligned from dmarc_sources s join dmarc_reports r on r.id = s.report
          where r.domain_id = ${domain.id}::uuid and r.to_at > ${since} and s.kind in ('ours', 'ours, broken')`.execute(ctx.db),
      ])
    : [null, null];
  const judgement = (purpose: RecordPurpose) => domain?.records.find((record) => record.purpose === purpose)?.judgement;
  const dmarc = judgement('dmarc');
  return bulkRules({
    domain: name,
    proven: domain?.state === 'authenticated',
    policy: dmarc && holds(dmarc.verdict) ? (/\bp\s*=\s*(\w+)/.exec(dmarc.found[0] ?? '')?.[1] ?? null) : null,
    verdicts: test?.verdicts ?? null,
    records: { spf: holds(judgement('spf')?.verdict), dkim: holds(judgement('dkim')?.verdict) },
    reported: reported?.rows[0] ?? { mails: 0, aligned: 0 },
    relay,
    complaints,
    freeMail: freeMailWarning(name) !== null && domain?.state !== 'authenticated',
  });
}

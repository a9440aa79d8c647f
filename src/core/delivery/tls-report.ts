import { Fault } from '../faults';
import { whole } from '../writing/slots';

/** Why a connection was not encrypted as it should have been, how often, and at which of our hosts. */
export type TlsFailure = { type: string; host: string; count: number };
export type TlsReport = {
  reporter: string;
  id: string;
  from: Date;
  to: Date;
  domains: { domain: string; policy: string; good: number; failed: number; failures: TlsFailure[] }[];
};

/** What a failure means, in plain words (RFC 8460, section 4.3). */
export const TLS_FAILURES: Record<string, string> = {
  'starttls-not-supported': 'our host offered no encryption',
  'certificate-host-mismatch': 'the certificate is for another name',
  'certificate-expired': 'the certificate has run out',
  'certificate-not-trusted': 'nobody vouches for the certificate',
  'validation-failure': 'the connection could not be proven',
  'tlsa-invalid': 'a record about the certificate is wrong',
  'dnssec-invalid': 'the signature of the domain’s records is wrong',
  'dane-required': 'the other side wants a record that is not there',
  'sts-policy-fetch-error': 'the policy could not be fetched',
  'sts-policy-invalid': 'the policy could not be read',
  'sts-webpki-invalid': 'the policy’s own certificate is wrong',
};

const MOST_POLICIES = 100;
const MOST_FAILURES = 50;
const record = (value: unknown): Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : {};
const list = (value: unknown): unknown[] => (Array.isArray(value) ? value : []);
const words = (value: unknown, most: number) =>
  typeof value === 'string'
    ? whole(value)
        .replace(/[\u0000-\u001f\u007f-\u009f\u200b-\u200f\u2028-\u202f\u2060-\u206f\ufeff]+/g, ' ')
        .trim()
        .slice(0, most)
    : '';
const count = (value: unknown) => Math.min(2_000_000_000, Math.max(0, Math.trunc(Number(value) || 0)));

/** Reads a report about encryption (RFC 8460). Throws a fault where it is none; what is not known in it is passed over. */
export function readTlsReport(json: string): TlsReport {
  let all: Record<string, unknown>;
  try {
    all = record(JSON.parse(json));
  } catch {
    throw new Fault('invalid', 'This is no report about encryption: it is not written as JSON.');
  }
  const range = record(all['date-range']);
  const [from, to] = ['start-datetime', 'end-datetime'].map((name) => new Date(words(range[name], 40)));
  const policies = list(all.policies).slice(0, MOST_POLICIES).map(record);
  if (Number.isNaN(from!.getTime()) || Number.isNaN(to!.getTime()) || to! < from! || policies.length === 0)
    throw new Fault('invalid', 'This report about encryption is not whole: its days or its domains are missing.');
  return {
    reporter: words(all['organization-name'], 100) || 'nobody named',
    id: words(all['report-id'], 200),
    from: from!,
    to: to!,
    domains: policies.map((one) => {
      const policy = record(one.policy);
      const summary = record(one.summary);
      return {
        domain: words(policy['policy-domain'], 253).toLowerCase().replace(/\.$/, ''),
        policy: words(policy['policy-type'], 40),
        good: count(summary['total-successful-session-count']),
        failed: count(summary['total-failure-session-count']),
        failures: list(one['failure-details'])
          .slice(0, MOST_FAILURES)
          .map(record)
          .map((failure) => ({
            type: words(failure['result-type'], 60).toLowerCase(),
            host: words(failure['receiving-mx-hostname'], 253).toLowerCase(),
            count: count(failure['failed-session-count']),
          })),
      };
    }),
  };
}

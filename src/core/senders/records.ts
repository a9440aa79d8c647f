/** The DNS records that prove a writer's domain, and what they are for. Pure data; `judge.ts` holds them against answers. */
export type RecordPurpose = 'dkim' | 'spf' | 'return-path' | 'dmarc';
export type WantedRecord = {
  purpose: RecordPurpose;
  title: string;
  explains: string;
  type: 'TXT' | 'CNAME';
  /** The host as most DNS hosts want it typed: relative to the domain, `@` for the domain itself. */
  host: string;
  /** The same host absolute, without a trailing dot. */
  name: string;
  value: string;
};

/** The names at the installation that a writer's records point to. */
export type Installation = { spfHost: string; returnPathTarget: string; reportsDomain: string };
export type DomainIdentity = { domain: string; selector: string; publicKey: string; reportsToken: string };

export const RETURN_PATH_HOST = 'bounce';

/** The envelope domain of letters from a domain: aligned with it in relaxed mode (RFC 7489 3.1.2). */
export const returnPathDomain = (domain: string) => `${RETURN_PATH_HOST}.${domain}`;

/**
 * The four records a domain needs, in the order a writer publishes them.
 * DKIM key record: RFC 6376 3.6.1. SPF: RFC 7208. DMARC: RFC 7489 6.3, starting at p=none so that nothing is refused by surprise.
 */
export function wantedRecords(identity: DomainIdentity, installation: Installation): WantedRecord[] {
  const { domain } = identity;
  const at = (host: string) => (host === '@' ? domain : `${host}.${domain}`);
  const record = (
    purpose: RecordPurpose,
    title: string,
    explains: string,
    type: 'TXT' | 'CNAME',
    host: string,
    value: string,
  ) => ({
    purpose,
    title,
    explains,
    type,
    host,
    name: at(host),
    value,
  });
  return [
    record(
      'dkim',
      'Signature',
      'DKIM, 2048-bit key',
      'TXT',
      `${identity.selector}._domainkey`,
      `v=DKIM1; k=rsa; p=${identity.publicKey}`,
    ),
    record('spf', 'Who may send', 'SPF', 'TXT', '@', `v=spf1 include:${installation.spfHost} ~all`),
    record('return-path', 'Bounces', 'return path', 'CNAME', RETURN_PATH_HOST, installation.returnPathTarget),
    record(
      'dmarc',
      'Policy',
      'DMARC',
      'TXT',
      '_dmarc',
      `v=DMARC1; p=none; rua=mailto:${identity.reportsToken}@${installation.reportsDomain}`,
    ),
  ];
}

import { Resolver } from 'node:dns/promises';
import { authenticate } from 'mailauth';
import { portOf } from '../shell/world';
import type { Verdicts } from './store';

const dns = new Resolver({ timeout: 2_000, tries: 2 });
dns.setServers([`127.0.0.1:${portOf('BACKLOT_DNS_PORT')}`]);
/** Every look-up of this world goes to the Backlot's own name server. */
export const resolver = dns;

/** Does the sender's address have a name that leads back to it (iprev, RFC 8601 section 2.7.3)? */
async function reverseName(ip: string): Promise<{ result: string; name: string }> {
  try {
    // Asked as a plain PTR question: a reverse look-up by address would read this machine's own hosts file first.
    const [name = ''] = await dns.resolvePtr(`${ip.split('.').reverse().join('.')}.in-addr.arpa`);
    const back = name ? await dns.resolve4(name) : [];
    return { result: back.includes(ip) ? 'pass' : 'fail', name };
  } catch {
    return { result: 'none', name: '' };
  }
}

/** Checks a letter as a mailbox provider does: SPF of the envelope, DKIM of the letter, DMARC of both against the From address. */
export async function verify(
  source: Buffer,
  from: { ip: string; helo: string; mailFrom: string; host: string; encrypted: boolean; at: Date },
): Promise<{ verdicts: Verdicts; trace: string }> {
  const result = await authenticate(source, {
    ip: from.ip,
    helo: from.helo,
    mta: from.host,
    sender: from.mailFrom,
    resolver: (name: string, rrtype: string) => dns.resolve(name, rrtype) as Promise<string[]>,
    disableArc: true,
    disableBimi: true,
  });
  const spf = result.spf ? { result: result.spf.status.result, detail: result.spf.domain ?? '' } : { result: 'none', detail: '' };
  const signatures = (result.dkim?.results ?? []) as {
    status: { result: string; comment?: string };
    signingDomain?: string;
    selector?: string;
  }[];
  const best = signatures.find((s) => s.status.result === 'pass') ?? signatures[0];
  const dkim = best
    ? {
        result: best.status.result,
        detail: `${best.selector ?? ''}._domainkey.${best.signingDomain ?? ''} ${best.status.comment ?? ''}`.trim(),
      }
    : { result: 'none', detail: 'no signature' };
  const dmarc = result.dmarc
    ? { result: result.dmarc.status.result, detail: `${result.dmarc.domain ?? ''} p=${result.dmarc.policy ?? 'none'}` }
    : { result: 'none', detail: '' };
  const reverse = await reverseName(from.ip);
  const own = `Received: from ${from.helo} (${reverse.name || 'unknown'} [${from.ip}])\r\n by ${from.host} with ${from.encrypted ? 'ESMTPS' : 'ESMTP'}; ${from.at.toUTCString().replace('GMT', '+0000')}\r\n`;
  // The results as the library writes them, with ours for the reverse name behind (RFC 8601 section 2.2).
  const results =
    /^Authentication-Results:[^\n]*(?:\n[ \t][^\n]*)*/im.exec(result.headers)?.[0] ?? `Authentication-Results: ${from.host}`;
  return {
    verdicts: { spf, dkim, dmarc },
    trace: `${results.trimEnd()};\r\n iprev=${reverse.result} policy.iprev=${from.ip}\r\n${own}`,
  };
}

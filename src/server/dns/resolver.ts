import { Resolver as NodeResolver } from 'node:dns/promises';
import type { DnsAnswer } from '@/core/senders/judge';

/** The look-ups we need. `txt` and `cname` give an answer for the domain check; `mailHosts` is for sending. */
export interface Resolver {
  txt(name: string): Promise<DnsAnswer>;
  cname(name: string): Promise<DnsAnswer>;
  /** Host names that take mail for a domain, best first (RFC 5321 section 5); [] means it takes none (RFC 7505). */
  mailHosts(domain: string): Promise<string[]>;
  addresses(host: string): Promise<string[]>;
}

const NONE = new Set(['ENOTFOUND', 'ENODATA']);
const codeOf = (error: unknown) => (error as { code?: string }).code ?? 'unknown';

const REASONS: Record<string, string> = {
  ETIMEOUT: 'time-out',
  ESERVFAIL: 'it reported a failure',
  EREFUSED: 'it refused',
  ECONNREFUSED: 'it could not be reached',
};

/** A resolver over real DNS (UDP, and TCP when an answer is truncated), at the given servers or the machine's own. */
export function dnsResolver(servers: string[], timeoutMs = 2_000): Resolver {
  const dns = new NodeResolver({ timeout: timeoutMs, tries: 2 });
  if (servers.length) dns.setServers(servers);
  const answer = async (look: () => Promise<string[]>): Promise<DnsAnswer> => {
    try {
      const values = await look();
      return values.length ? { kind: 'found', values } : { kind: 'none' };
    } catch (error) {
      const code = codeOf(error);
      return NONE.has(code) ? { kind: 'none' } : { kind: 'unanswered', reason: REASONS[code] ?? code };
    }
  };
  return {
    txt: (name) => answer(async () => (await dns.resolveTxt(name)).map((strings) => strings.join(''))),
    cname: (name) => answer(() => dns.resolveCname(name)),
    async mailHosts(domain) {
      try {
        const records = await dns.resolveMx(domain);
        if (records.length === 1 && records[0]?.exchange === '') return [];
        return records.sort((a, b) => a.priority - b.priority).map((record) => record.exchange);
      } catch (error) {
        // No MX record: the domain itself is the host (RFC 5321 5.1). Any other failure is the caller's to retry.
        if (codeOf(error) !== 'ENODATA') throw error;
        return [domain];
      }
    },
    addresses: (host) =>
      dns.resolve4(host).catch(async (error) => (codeOf(error) === 'ENODATA' ? dns.resolve6(host) : Promise.reject(error))),
  };
}

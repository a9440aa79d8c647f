import { getServers } from 'node:dns';
import type { DnsAnswer, Lookup } from '@/core/senders/dns';
import { allowedAddress } from '../fetch/guarded';
import { askServer, type Server } from './client';

/** The name servers that a domain's own zone names, and what each of them says. */
export type Authority = {
  /** The zone the domain lies in: the domain itself or one above it; null where no name server is known. */
  zone: string | null;
  /** Host names of the servers that were asked. */
  servers: string[];
  /** Asks every one of them; their common answer, or the majority's. Names outside the zone go to the resolver. */
  look: Lookup;
  /** Names on which the servers did not agree. */
  disagreed(): string[];
};

export interface Resolver {
  /** Through the recursive resolver, as any mailbox provider would ask; answers may be remembered ones. */
  look: Lookup;
  /** Straight from the source. */
  authority(domain: string): Promise<Authority>;
  /** Host names that take mail for a domain with their ranks, best first (RFC 5321 section 5); [] means it takes none (RFC 7505). */
  mailHosts(domain: string): Promise<{ host: string; rank: number }[]>;
  /** A host's addresses; [] when it has none. Throws `LookupFailed` when that could not be found out. */
  addresses(host: string): Promise<string[]>;
}

/** Thrown by `mailHosts` and `addresses`; `code` says whether the name does not exist or the answer did not come. */
export class LookupFailed extends Error {
  constructor(
    readonly code: 'ENOTFOUND' | 'EUNANSWERED',
    message: string,
  ) {
    super(message);
  }
}

const TIMEOUT_MS = 1_200;
const MOST_SERVERS = 6;

function serverOf(text: string): Server {
  const match = /^\[?([^\]]+?)\]?(?::(\d+))?$/.exec(text);
  const bare = text.includes('.') || text.startsWith('[');
  return bare && match ? { address: match[1]!, port: Number(match[2] ?? 53) } : { address: text, port: 53 };
}

/** A resolver over real DNS at the given servers or the machine's own. `authorityPort` is 53 except in the demo. */
export function dnsResolver(
  configured: string[],
  authorityPort = 53,
  timeoutMs = TIMEOUT_MS,
  allowLoopback = authorityPort !== 53,
): Resolver {
  const servers = (configured.length ? configured : getServers()).map(serverOf);
  const look: Lookup = async (name, type) => {
    let answer: DnsAnswer = { kind: 'unanswered', fault: 'timeout' };
    for (const server of servers.slice(0, 3)) {
      answer = await askServer(server, { name, type, recursive: true }, timeoutMs);
      if (answer.kind !== 'unanswered' || answer.fault === 'bogus' || answer.fault === 'loop') break;
    }
    return answer;
  };
  const addresses = async (host: string): Promise<string[]> => {
    const [four, six] = await Promise.all([look(host, 'A'), look(host, 'AAAA')]);
    const found = [...(four.kind === 'found' ? four.values : []), ...(six.kind === 'found' ? six.values : [])];
    if (found.length === 0 && (four.kind === 'unanswered' || six.kind === 'unanswered'))
      throw new LookupFailed('EUNANSWERED', `No name server answers for ${host}`);
    return found;
  };

  /** Walks up from a domain to the zone that has name servers (RFC 1034 section 4.2). */
  const zoneOf = async (domain: string): Promise<{ zone: string; hosts: string[] } | null> => {
    const labels = domain.split('.');
    for (let n = 0; n < Math.min(labels.length - 1, 6); n += 1) {
      const name = labels.slice(n).join('.');
      const answer = await look(name, 'NS');
      if (answer.kind === 'found' && answer.values.length && answer.aliases.length === 0)
        return { zone: name, hosts: answer.values };
      if (answer.kind === 'unanswered') return null;
    }
    return null;
  };

  return {
    look,
    addresses,
    async authority(domain) {
      const found = await zoneOf(domain);
      if (!found) return { zone: null, servers: [], look, disagreed: () => [] };
      const resolved = await Promise.all(
        found.hosts.slice(0, MOST_SERVERS).map(async (host) => {
          const all = await addresses(host).catch(() => []);
          // A zone may name any address as its server: we ask only where we would connect to anyway.
          return { host, address: all.find((address) => allowedAddress(address, allowLoopback)) };
        }),
      );
      const known = resolved.filter((server): server is { host: string; address: string } => server.address !== undefined);
      const split = new Set<string>();
      const inZone = (name: string) => name === found.zone || name.endsWith(`.${found.zone}`);
      const lookHere: Lookup = async (name, type) => {
        if (!inZone(name) || known.length === 0) return look(name, type);
        const answers = await Promise.all(
          known.map(({ address }) => askServer({ address, port: authorityPort }, { name, type, recursive: false }, timeoutMs)),
        );
        const { answer, agreed } = common(answers);
        if (!agreed) split.add(name);
        const last = answer.kind === 'found' && answer.values.length === 0 ? answer.aliases.at(-1) : undefined;
        if (answer.kind !== 'found' || last === undefined) return answer;
        const led = await (inZone(last) ? lookHere(last, type) : look(last, type));
        return led.kind === 'found' ? { ...led, aliases: [...answer.aliases, ...led.aliases] } : led;
      };
      return { zone: found.zone, servers: known.map(({ host }) => host), look: lookHere, disagreed: () => [...split] };
    },
    async mailHosts(domain) {
      const answer = await look(domain, 'MX');
      if (answer.kind === 'unanswered') throw new LookupFailed('EUNANSWERED', answer.fault);
      if (answer.kind === 'none') {
        if (!answer.exists) throw new LookupFailed('ENOTFOUND', `There is no domain called ${domain}`);
        // No MX record: the domain itself is the host (RFC 5321 5.1).
        return [{ host: domain, rank: 0 }];
      }
      const hosts = answer.values.map((value) => ({ rank: Number(value.split(' ')[0]), host: value.split(' ')[1] ?? '.' }));
      if (hosts.length === 1 && hosts[0]?.host === '.') return [];
      return hosts.sort((a, b) => a.rank - b.rank);
    },
  };
}

/** What most of several servers say; an answer beats none at all, and a fault is only said when all have one. */
function common(answers: DnsAnswer[]): { answer: DnsAnswer; agreed: boolean } {
  const text = (answer: DnsAnswer) =>
    answer.kind === 'found' ? [...answer.values, ...answer.aliases].sort().join('\n') : answer.kind;
  const useful = answers.filter((answer) => answer.kind !== 'unanswered');
  if (useful.length === 0) return { answer: answers[0] ?? { kind: 'unanswered', fault: 'timeout' }, agreed: true };
  const votes = new Map<string, DnsAnswer[]>();
  for (const answer of useful) votes.set(text(answer), [...(votes.get(text(answer)) ?? []), answer]);
  const [most] = [...votes.values()].sort((a, b) => b.length - a.length);
  return { answer: most![0]!, agreed: votes.size === 1 };
}

import * as dns from 'dns-packet';
import { AUTHORITATIVE_ANSWER, type Answer as DnsRecord, type Packet, TRUNCATED_RESPONSE } from 'dns-packet';
import type { ZoneRecord } from './master-file';

export type Zones = Map<string, ZoneRecord[]>;

const NXDOMAIN = 3;
const SERVFAIL = 2;
const MOST_LINKS = 8;

/** The zone that a name lies in: the longest one it ends with. */
function zoneOf(zones: Zones, name: string): string | null {
  const labels = name.split('.');
  for (let i = 0; i < labels.length; i += 1) {
    const candidate = labels.slice(i).join('.');
    if (zones.has(candidate)) return candidate;
  }
  return null;
}

function toWire(record: ZoneRecord): DnsRecord {
  const { name, ttl } = record;
  if (record.type === 'TXT')
    return { name, ttl, type: 'TXT', data: (record.strings ?? [record.value]).map((text) => Buffer.from(text)) };
  if (record.type === 'MX')
    return { name, ttl, type: 'MX', data: { preference: record.priority ?? 0, exchange: record.value || '.' } };
  return { name, ttl, type: record.type, data: record.value } as DnsRecord;
}

/**
 * Answers one query from the zones (RFC 1034 section 4.3.2): CNAMEs are followed as far as this server owns them, a wildcard stands in for
 * names that do not exist, NXDOMAIN and "no such type" are told apart, a name outside all zones is refused.
 */
export function answer(zones: Zones, query: Packet & { id?: number; flags?: number }): Packet {
  const question = query.questions?.[0];
  const recursion = (query.flags ?? 0) & 0x100;
  const base: Packet = {
    type: 'response',
    id: query.id,
    flags: AUTHORITATIVE_ANSWER | recursion,
    questions: query.questions ?? [],
    answers: [],
  };
  if (!question) return { ...base, flags: (base.flags ?? 0) | SERVFAIL };
  let name = question.name.toLowerCase();
  const answers: DnsRecord[] = [];
  for (let links = 0; links <= MOST_LINKS; links += 1) {
    const zone = zoneOf(zones, name);
    if (!zone) return answers.length ? { ...base, answers } : { ...base, flags: ((base.flags ?? 0) & ~AUTHORITATIVE_ANSWER) | 5 };
    const all = zones.get(zone) ?? [];
    let here = all.filter((record) => record.name === name);
    if (here.length === 0) {
      const exists = all.some((record) => record.name.endsWith(`.${name}`));
      here = exists ? [] : wildcard(all, name, zone);
      if (here.length === 0 && !exists && name !== zone) {
        return { ...base, flags: (base.flags ?? 0) | (answers.length ? 0 : NXDOMAIN), answers, authorities: [soa(zone)] };
      }
    }
    const fits = here.filter((record) => record.type === question.type);
    // Every zone here is served by the host's own name servers, whether or not its records say so.
    if (question.type === 'NS' && name === zone && fits.length === 0)
      return { ...base, answers: [...answers, ...servedBy(zone)] };
    if (fits.length) return { ...base, answers: [...answers, ...fits.map(toWire)] };
    const alias = here.find((record) => record.type === 'CNAME');
    if (!alias) return { ...base, answers, authorities: [soa(zone)] };
    answers.push(toWire(alias));
    name = alias.value;
  }
  return { ...base, flags: (base.flags ?? 0) | SERVFAIL };
}

/** What a wildcard says of a name that does not exist: the one below the closest name that does (RFC 4592 section 3.3.1). */
function wildcard(all: ZoneRecord[], name: string, zone: string): ZoneRecord[] {
  for (let above = name; above !== zone && above.includes('.'); ) {
    above = above.slice(above.indexOf('.') + 1);
    const stars = all.filter((record) => record.name === `*.${above}`);
    if (stars.length) return stars.map((record) => ({ ...record, name }));
    if (all.some((record) => record.name === above || record.name.endsWith(`.${above}`))) return [];
  }
  return [];
}

const servedBy = (zone: string): DnsRecord[] =>
  [1, 2].map((n) => ({ name: zone, ttl: 3600, type: 'NS', data: `ns${n}.dnshost.example` }));

function soa(zone: string): DnsRecord {
  const data = { mname: `ns.${zone}`, rname: `host.${zone}`, serial: 1, refresh: 3600, retry: 600, expire: 86_400, minimum: 60 };
  return { name: zone, ttl: 60, type: 'SOA', data };
}

/** Encodes for UDP: an answer over the asker's size goes out empty with TC set, so that they come again over TCP (RFC 1035 4.2.1). */
export function encodeUdp(response: Packet, query: Packet): Buffer {
  const edns = query.additionals?.find((extra) => extra.type === 'OPT') as { udpPayloadSize?: number } | undefined;
  const size = Math.max(512, edns?.udpPayloadSize ?? 512);
  const full = dns.encode(response);
  return full.length <= size
    ? full
    : dns.encode({ ...response, flags: (response.flags ?? 0) | TRUNCATED_RESPONSE, answers: [], authorities: [] });
}

import ipaddr from 'ipaddr.js';
import { type DnsAnswer, isAskable, type Lookup, type RecordType } from '../dns';
import { expandMacros, type MacroContext } from './macros';
import { isSpf, type Mechanism, parseSpf, type Qualifier } from './parse';

export type SpfResult = 'pass' | 'fail' | 'softfail' | 'neutral' | 'none' | 'permerror' | 'temperror';
export type SpfEvaluation = {
  result: SpfResult;
  /** Why, in a sentence. */
  reason: string;
  /** The section of RFC 7208 that says so. */
  section: string;
  lookups: number;
  voids: number;
  /** The part of the domain's own record that was being read when it ended; '' where that was the record as a whole. */
  term: string;
  /** Parts of the domain's own record under which look-ups led to nothing. */
  voidTerms: string[];
  /** The domains whose records were open when it ended, the outermost first. */
  path: string[];
};
export type SpfSubject = { ip: string; sender: string; helo: string; domain: string };

const MOST_LOOKUPS = 10;
const MOST_VOIDS = 2;
const MOST_NAMES = 10;

/** Ends an evaluation from wherever it is. */
class Stop extends Error {
  constructor(
    readonly result: 'permerror' | 'temperror',
    readonly reason: string,
    readonly section: string,
  ) {
    super(reason);
  }
}
const permanent = (reason: string, section: string) => new Stop('permerror', reason, section);

const RESULT: Record<Qualifier, SpfResult> = { '+': 'pass', '-': 'fail', '~': 'softfail', '?': 'neutral' };

/**
 * check_host() (RFC 7208 section 4): is this address allowed to send for this domain? Includes, redirect, macros, at most 10 look-ups
 * (section 4.6.4) and 2 void ones. Asks through `lookup` alone and never throws.
 */
export async function evaluateSpf(subject: SpfSubject, lookup: Lookup): Promise<SpfEvaluation> {
  const run = new Evaluation(subject, lookup);
  const counted = () => ({
    lookups: run.lookups,
    voids: run.voids,
    term: run.term,
    voidTerms: [...run.voidTerms],
    path: run.path,
  });
  try {
    return { ...(await run.host(subject.domain)), ...counted() };
  } catch (error) {
    const { result, reason, section } = error instanceof Stop ? error : permanent('The record could not be evaluated.', '4');
    return { result, reason, section, ...counted() };
  }
}

class Evaluation {
  lookups = 0;
  voids = 0;
  term = '';
  readonly voidTerms = new Set<string>();
  readonly path: string[] = [];
  #ip: ReturnType<typeof ipaddr.process>;
  constructor(
    private readonly subject: SpfSubject,
    private readonly lookup: Lookup,
  ) {
    this.#ip = ipaddr.process(subject.ip);
  }

  async host(domain: string): Promise<{ result: SpfResult; reason: string; section: string }> {
    if (!isAskable(domain) || !domain.includes('.'))
      return { result: 'none', reason: `${domain} is no domain name.`, section: '4.3' };
    const answer = await this.lookup(domain, 'TXT');
    if (answer.kind === 'unanswered') throw new Stop('temperror', `The record of ${domain} could not be read just now.`, '4.4');
    const records = answer.kind === 'found' ? answer.values.filter(isSpf) : [];
    if (records.length === 0) return { result: 'none', reason: `${domain} has no SPF record.`, section: '4.5' };
    if (records.length > 1) throw permanent(`${domain} has ${records.length} SPF records; one is allowed.`, '4.5');
    const syntax = parseSpf(records[0]!);
    if (!syntax.ok) throw permanent(`“${syntax.term}” in the record of ${domain} cannot be read. ${syntax.reason}`, '4.6');
    const of: MacroContext = { ...this.subject, domain };
    this.path.push(domain.toLowerCase());
    const depth = this.path.length;
    for (const mechanism of syntax.record.mechanisms) {
      if (depth === 1) this.term = mechanism.text;
      if (await this.#matches(mechanism, of))
        return { result: RESULT[mechanism.qualifier], reason: `“${mechanism.text}” of ${domain} decides.`, section: '4.6.2' };
      // What was open under a part that did not decide is closed again.
      this.path.length = depth;
    }
    if (syntax.record.redirect) {
      if (depth === 1) this.term = `redirect=${syntax.record.redirect}`;
      this.#count();
      const target = await this.#expand(syntax.record.redirect, of);
      const led = await this.host(target);
      if (led.result === 'none') throw permanent(`redirect= leads to ${target}, which has no SPF record.`, '6.1');
      return led;
    }
    return { result: 'neutral', reason: `No part of the record of ${domain} speaks of this address.`, section: '4.7' };
  }

  #count(): void {
    this.lookups += 1;
    if (this.lookups > MOST_LOOKUPS)
      throw permanent('More than 10 look-ups are needed, so receivers stop and the record counts for nothing.', '4.6.4');
  }

  /** Asks, counts empty answers, and makes a failure a temperror. */
  async #ask(name: string, type: RecordType): Promise<DnsAnswer> {
    if (!isAskable(name)) return this.#empty({ kind: 'none', exists: false, ttl: 0 });
    const answer = await this.lookup(name, type);
    if (answer.kind === 'unanswered') throw new Stop('temperror', `${name} could not be looked up just now.`, '2.6.6');
    return answer.kind === 'none' ? this.#empty(answer) : answer;
  }

  #empty(answer: DnsAnswer): DnsAnswer {
    this.voids += 1;
    this.voidTerms.add(this.term);
    if (this.voids > MOST_VOIDS) throw permanent('More than 2 look-ups lead to nothing.', '4.6.4');
    return answer;
  }

  /** The addresses of a host of the kind we compare with. A host that has only the other kind is no void look-up. */
  async #addresses(name: string, countsVoid = true): Promise<string[]> {
    const [own, other]: RecordType[] = this.#ip.kind() === 'ipv4' ? ['A', 'AAAA'] : ['AAAA', 'A'];
    if (!isAskable(name)) {
      if (countsVoid) this.#empty({ kind: 'none', exists: false, ttl: 0 });
      return [];
    }
    const answer = await this.lookup(name, own!);
    if (answer.kind === 'unanswered') throw new Stop('temperror', `${name} could not be looked up just now.`, '2.6.6');
    if (answer.kind === 'found') return answer.values;
    const second = await this.lookup(name, other!);
    if (second.kind === 'none' && countsVoid) this.#empty(second);
    return [];
  }

  async #matches(mechanism: Mechanism, of: MacroContext): Promise<boolean> {
    const { kind } = mechanism;
    if (kind === 'all') return true;
    if (kind === 'ip4' || kind === 'ip6') return this.#inside(mechanism.address, mechanism);
    this.#count();
    const target = mechanism.domain ? await this.#expand(mechanism.domain, of) : of.domain;
    if (kind === 'include') return this.#includes(target);
    if (kind === 'exists') return isAskable(target) ? (await this.#ask(target, 'A')).kind === 'found' : false;
    if (kind === 'a') return (await this.#addresses(target)).some((address) => this.#inside(address, mechanism));
    if (kind === 'ptr')
      return (await this.#validated()).some((name) => name === target.toLowerCase() || name.endsWith(`.${target.toLowerCase()}`));
    const answer = await this.#ask(target, 'MX');
    const hosts = answer.kind === 'found' ? answer.values.map((value) => value.split(' ')[1] ?? '').filter(Boolean) : [];
    if (hosts.length > MOST_NAMES) throw permanent(`${target} has more than 10 mail hosts.`, '4.6.4');
    // The limit on void look-ups is on terms, of which the hosts of an MX record are none.
    for (const host of hosts)
      if ((await this.#addresses(host, false)).some((address) => this.#inside(address, mechanism))) return true;
    return false;
  }

  async #includes(target: string): Promise<boolean> {
    const { result } = await this.host(target);
    if (result === 'none') throw permanent(`include:${target} leads nowhere: there is no SPF record.`, '5.2');
    return result === 'pass';
  }

  #inside(address: string, { cidr4, cidr6 }: { cidr4: number; cidr6: number }): boolean {
    try {
      const network = ipaddr.process(address);
      if (network.kind() !== this.#ip.kind()) return false;
      return this.#ip.kind() === 'ipv4'
        ? (this.#ip as ipaddr.IPv4).match(network as ipaddr.IPv4, cidr4)
        : (this.#ip as ipaddr.IPv6).match(network as ipaddr.IPv6, cidr6);
    } catch {
      return false;
    }
  }

  async #expand(spec: string, of: MacroContext): Promise<string> {
    const validated = /%\{p/i.test(spec) ? (await this.#validated())[0] : undefined;
    return expandMacros(spec, { ...of, validated });
  }

  /** Names of the sending address that point back to it (section 5.5). Failures mean "no names". */
  async #validated(): Promise<string[]> {
    const answer = await this.lookup(reverseName(this.subject.ip), 'PTR');
    if (answer.kind !== 'found') return [];
    const names: string[] = [];
    for (const name of answer.values.slice(0, MOST_NAMES)) {
      const back = await this.lookup(name, this.#ip.kind() === 'ipv4' ? 'A' : 'AAAA');
      if (back.kind === 'found' && back.values.some((address) => this.#inside(address, { cidr4: 32, cidr6: 128 })))
        names.push(name.toLowerCase());
    }
    return names;
  }
}

/** The name under which an address's PTR record stands (RFC 1035 section 3.5, RFC 3596 section 2.5). */
export function reverseName(ip: string): string {
  const address = ipaddr.process(ip);
  if (address.kind() === 'ipv4') return `${address.toByteArray().reverse().join('.')}.in-addr.arpa`;
  return `${[...Buffer.from(address.toByteArray()).toString('hex')].reverse().join('.')}.ip6.arpa`;
}

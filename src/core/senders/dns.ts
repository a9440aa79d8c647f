/** What of DNS the domain check looks at. Names are lower case and absolute, without a trailing dot. */
export type RecordType = 'TXT' | 'CNAME' | 'MX' | 'A' | 'AAAA' | 'NS' | 'PTR';

/**
 * Why a question got no answer. `bogus`: the answer's DNSSEC signature is wrong (RFC 4035 section 5); `lame`: the name server that the
 * parent zone names does not know the zone (RFC 1912 section 2.8); `loop`: aliases that lead back to themselves; `cap`: our own limit.
 */
export type DnsFault = 'timeout' | 'servfail' | 'refused' | 'bogus' | 'lame' | 'malformed' | 'loop' | 'cap';

/**
 * What was said about one name and type. TXT values are one joined string per record (RFC 7208 section 3.3), MX values "10 host", host
 * names without trailing dot. `aliases` are the CNAMEs passed on the way. TTLs in seconds. `none` with `exists` is "no such type".
 */
export type DnsAnswer =
  | { kind: 'found'; values: string[]; ttl: number; aliases: string[] }
  | { kind: 'none'; exists: boolean; ttl: number }
  | { kind: 'unanswered'; fault: DnsFault };

export type Lookup = (name: string, type: RecordType) => Promise<DnsAnswer>;

const SAID: Record<DnsFault, string> = {
  timeout: 'The name server did not answer in time.',
  servfail: 'The name server reported a failure of its own (SERVFAIL).',
  refused: 'The name server refused to answer.',
  bogus:
    'The answer is signed with DNSSEC and the signature is wrong, so careful resolvers throw it away. Your DNS host has to sign the zone anew, or switch DNSSEC off at the registrar.',
  lame: 'The name server that your registrar names does not know this domain. Compare the name servers at the registrar with those of your DNS host.',
  malformed: 'The name server sent something that is not DNS.',
  loop: 'An alias (CNAME) there leads back to itself.',
  cap: 'The look-ups led on and on, so we stopped. Something there points in circles.',
};
/** A fault in a sentence for a person. */
export const sayFault = (fault: DnsFault): string => SAID[fault];

/**
 * A look-up that remembers what it asked, asks at most `most` different questions and then says `cap`: no zone, however hostile, can
 * turn one check into a storm.
 */
export function capped(lookup: Lookup, most: number): Lookup & { asked(): number } {
  const known = new Map<string, Promise<DnsAnswer>>();
  const ask = (name: string, type: RecordType): Promise<DnsAnswer> => {
    const key = `${type} ${name.toLowerCase().replace(/\.$/, '')}`;
    const before = known.get(key);
    if (before) return before;
    if (known.size >= most) return Promise.resolve({ kind: 'unanswered', fault: 'cap' });
    const answer = lookup(name.toLowerCase().replace(/\.$/, ''), type);
    known.set(key, answer);
    return answer;
  };
  return Object.assign(ask, { asked: () => known.size });
}

/** May this be asked at all (RFC 1035 section 2.3.4)? Macros in SPF can build names that may not. */
export const isAskable = (name: string) =>
  name.length > 0 && name.length <= 253 && name.split('.').every((label) => label.length > 0 && label.length <= 63);

export type Chain = { names: string[]; end: 'target' | 'loop' | 'too-long' | 'unanswered' };
const LONGEST_CHAIN = 8;

/** Follows aliases from a name (RFC 1034 section 3.6.2): each name passed, and how it ended. */
export async function aliasChain(name: string, lookup: Lookup): Promise<Chain> {
  const names = [name];
  for (let at = name; names.length <= LONGEST_CHAIN; ) {
    const answer = await lookup(at, 'CNAME');
    if (answer.kind === 'unanswered') return { names, end: answer.fault === 'loop' ? 'loop' : 'unanswered' };
    const next = answer.kind === 'found' ? answer.values[0]?.toLowerCase().replace(/\.$/, '') : undefined;
    if (!next) return { names, end: 'target' };
    if (names.includes(next)) return { names: [...names, next], end: 'loop' };
    names.push(next);
    at = next;
  }
  return { names, end: 'too-long' };
}

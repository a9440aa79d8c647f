import ipaddr from 'ipaddr.js';

export type Qualifier = '+' | '-' | '~' | '?';
export type Mechanism = {
  kind: 'all' | 'include' | 'a' | 'mx' | 'ptr' | 'ip4' | 'ip6' | 'exists';
  qualifier: Qualifier;
  /** The domain-spec, macros not yet expanded; '' where the term has none. */
  domain: string;
  /** ip4 and ip6: the network. */
  address: string;
  cidr4: number;
  cidr6: number;
  /** As it was written. */
  text: string;
};
export type SpfRecord = { mechanisms: Mechanism[]; redirect: string | null; exp: string | null };
export type SpfSyntax = { ok: true; record: SpfRecord } | { ok: false; term: string; reason: string };

/** Is this TXT value an SPF record at all? Exactly `v=spf1`, then a space or the end (RFC 7208 section 4.5). */
export const isSpf = (value: string) => /^v=spf1( |$)/i.test(value);

const DOMAIN_END = /(\.[a-z0-9-]*[a-z][a-z0-9-]*|\.[a-z0-9]+-[a-z0-9-]*|%\{[a-z]\d*r?[.\-+,/_=]*\})\.?$/i;
const MACRO_STRING = /^(%\{[slodiphcrtv]\d*r?[.\-+,/_=]*\}|%%|%_|%-|[\x21-\x24\x26-\x7e])*$/i;
const isDomainSpec = (text: string) =>
  MACRO_STRING.test(text) && DOMAIN_END.test(text.includes('.') || text.includes('%') ? text : `.${text}`);

const bad = (term: string, reason: string) => ({ ok: false as const, term, reason });

/** Parses a record (RFC 7208 sections 5, 6 and 12). A syntax error anywhere makes the whole record a permerror (section 4.6). */
export function parseSpf(text: string): SpfSyntax {
  if (!isSpf(text)) return bad(text.slice(0, 20), 'It does not begin with v=spf1.');
  const record: SpfRecord = { mechanisms: [], redirect: null, exp: null };
  for (const term of text.slice(6).split(' ').filter(Boolean)) {
    const modifier = /^([a-z][a-z0-9\-_.]*)=(.*)$/i.exec(term);
    if (modifier) {
      const name = modifier[1]!.toLowerCase();
      const value = modifier[2]!;
      if (name === 'redirect' || name === 'exp') {
        if (record[name] !== null) return bad(term, `${name}= stands there twice.`);
        if (!isDomainSpec(value)) return bad(term, `${name}= needs a domain.`);
        record[name] = value;
      } else if (!MACRO_STRING.test(value)) return bad(term, 'It has characters that may not stand there.');
      continue;
    }
    const parsed = mechanism(term);
    if ('reason' in parsed) return bad(term, parsed.reason);
    record.mechanisms.push(parsed);
  }
  return { ok: true, record };
}

function mechanism(term: string): Mechanism | { reason: string } {
  const match =
    /^([+\-~?]?)([a-z0-9]+)(:[^/]*|:.*%.*)?((?:\/\d+)?(?:\/\/\d+)?)$/i.exec(term) ??
    /^([+\-~?]?)(ip6)(:[0-9a-f:.]+)(\/\d+)?$/i.exec(term);
  if (!match) return { reason: 'It is no mechanism that SPF knows.' };
  const kind = match[2]!.toLowerCase() as Mechanism['kind'];
  const argument = match[3] === undefined ? null : match[3].slice(1);
  const cidr = match[4] ?? '';
  const base: Mechanism = {
    kind,
    qualifier: (match[1] || '+') as Qualifier,
    domain: '',
    address: '',
    cidr4: 32,
    cidr6: 128,
    text: term,
  };
  switch (kind) {
    case 'all':
      return argument === null && !cidr ? base : { reason: '“all” takes nothing after it.' };
    case 'include':
    case 'exists':
      if (cidr || !argument || !isDomainSpec(argument)) return { reason: `“${kind}” needs a domain after the colon.` };
      return { ...base, domain: argument };
    case 'ptr':
      if (cidr || (argument !== null && !isDomainSpec(argument))) return { reason: '“ptr” takes a domain or nothing.' };
      return { ...base, domain: argument ?? '' };
    case 'a':
    case 'mx': {
      if (argument !== null && !isDomainSpec(argument)) return { reason: `“${kind}” needs a domain after the colon.` };
      const [, four, six] = /^(?:\/(\d+))?(?:\/\/(\d+))?$/.exec(cidr) ?? [];
      if ((four && Number(four) > 32) || (six && Number(six) > 128))
        return { reason: 'The number after the slash is too large.' };
      return { ...base, domain: argument ?? '', cidr4: four ? Number(four) : 32, cidr6: six ? Number(six) : 128 };
    }
    case 'ip4': {
      if (!argument || !ipaddr.IPv4.isValidFourPartDecimal(argument) || cidr.startsWith('//'))
        return { reason: '“ip4” needs an IPv4 address.' };
      const bits = cidr ? Number(cidr.slice(1)) : 32;
      return bits <= 32 && !/^\/0\d/.test(cidr)
        ? { ...base, address: argument, cidr4: bits }
        : { reason: 'The number after the slash is too large.' };
    }
    case 'ip6': {
      if (!argument || !ipaddr.IPv6.isValid(argument) || cidr.startsWith('//')) return { reason: '“ip6” needs an IPv6 address.' };
      const bits = cidr ? Number(cidr.slice(1)) : 128;
      return bits <= 128 ? { ...base, address: argument, cidr6: bits } : { reason: 'The number after the slash is too large.' };
    }
    default:
      return { reason: 'It is no mechanism that SPF knows.' };
  }
}

import type { DnsAnswer, Lookup, RecordType } from './dns';

export type ZoneRecord = { name: string; type: string; value: string; ttl: number };
export type ZoneFault = { line: number; sentence: string };
export type Zone = { origin: string; records: ZoneRecord[]; faults: ZoneFault[] };

type Token = { text: string; quoted: boolean };
const HOST_TYPES = new Set(['CNAME', 'NS', 'PTR', 'DNAME']);
const CLASSES = /^(in|ch|hs|cs)$/i;
const TTL = /^(\d+)([smhdw]?)$/i;
const UNIT: Record<string, number> = { '': 1, s: 1, m: 60, h: 3600, d: 86_400, w: 604_800 };
const MOST_LINES = 20_000;

const absolute = (name: string, origin: string) => {
  const lower = name.toLowerCase();
  if (lower === '@') return origin;
  return lower.endsWith('.') ? lower.slice(0, -1) : `${lower}.${origin}`;
};
const seconds = (text: string) => {
  const match = TTL.exec(text);
  return match ? Number(match[1]) * UNIT[match[2]!.toLowerCase()]! : null;
};

/** The tokens of a line: quoted strings whole, escapes undone, comments dropped, parentheses apart (RFC 1035 section 5.1). */
function tokens(line: string): Token[] {
  const out: Token[] = [];
  const pattern = /"((?:[^"\\]|\\.)*)"?|;.*|[()]|((?:[^\s;()"\\]|\\.)+)/g;
  for (let m = pattern.exec(line); m; m = pattern.exec(line)) {
    const undo = (text: string) =>
      text.replace(/\\(\d{3})/g, (_, code: string) => String.fromCharCode(Number(code) & 255)).replace(/\\(.)/g, '$1');
    if (m[1] !== undefined) out.push({ text: undo(m[1]), quoted: true });
    else if (m[0] === '(' || m[0] === ')') out.push({ text: m[0], quoted: false });
    else if (m[2] !== undefined) out.push({ text: undo(m[2]), quoted: false });
  }
  return out;
}

/**
 * Reads a zone's master file as a DNS host exports it (RFC 1035 section 5): $ORIGIN, $TTL, inherited owners, parentheses, any record type.
 * A line that cannot be read becomes a fault with its number, and the rest is read all the same. Never throws.
 */
export function readZone(text: string, domain: string): Zone {
  const zone: Zone = { origin: domain, records: [], faults: [] };
  let origin = domain;
  let ttl = 3600;
  let owner = domain;
  let held: { tokens: Token[]; line: number; indented: boolean } | null = null;
  let depth = 0;
  for (const [index, raw] of text.replace(/\r\n?/g, '\n').split('\n').slice(0, MOST_LINES).entries()) {
    const found = tokens(raw);
    const indented = /^[ \t]/.test(raw);
    held ??= { tokens: [], line: index + 1, indented };
    for (const token of found) {
      if (!token.quoted && token.text === '(') depth += 1;
      else if (!token.quoted && token.text === ')') depth = Math.max(0, depth - 1);
      else held.tokens.push(token);
    }
    if (depth > 0) continue;
    const { tokens: words, line, indented: inherits } = held;
    held = null;
    if (words.length === 0) continue;
    const fault = (sentence: string) => zone.faults.push({ line, sentence });
    const head = words[0]!.text.toLowerCase();
    if (head === '$origin') origin = absolute(words[1]?.text ?? '@', origin);
    else if (head === '$ttl') ttl = seconds(words[1]?.text ?? '') ?? ttl;
    else if (head.startsWith('$')) fault(`${words[0]!.text} is passed over.`);
    else {
      if (!inherits) owner = absolute(words.shift()!.text, origin);
      let own = ttl;
      while (words[0] && !words[0].quoted && (CLASSES.test(words[0].text) || seconds(words[0].text) !== null))
        own = seconds(words.shift()!.text) ?? own;
      const type = words.shift()?.text.toUpperCase() ?? '';
      const value = recordValue(type, words, origin);
      if (value === null)
        fault(type ? `The value of this ${type} record cannot be read.` : 'There is no record type on this line.');
      else if (type !== 'SOA') zone.records.push({ name: owner, type, value, ttl: own });
    }
  }
  if (depth > 0) zone.faults.push({ line: held?.line ?? 1, sentence: 'A parenthesis is opened here and never closed.' });
  return zone;
}

function recordValue(type: string, words: Token[], origin: string): string | null {
  if (!/^[A-Z][A-Z0-9]*$/.test(type) || words.length === 0) return null;
  const first = words[0]!.text;
  if (type === 'TXT' || type === 'SPF')
    return words.some((word) => word.quoted) ? words.map((word) => word.text).join('') : words.map((word) => word.text).join(' ');
  if (type === 'MX')
    return /^\d+$/.test(first) && words[1] ? `${first} ${words[1].text === '.' ? '.' : absolute(words[1].text, origin)}` : null;
  if (HOST_TYPES.has(type)) return absolute(first, origin);
  return words.map((word) => word.text).join(' ');
}

/**
 * A look-up that answers from a zone's records as a name server would: aliases followed inside the zone, wildcards (RFC 4592), "no such
 * type" apart from "no such name". Names outside the zone go to `outside`.
 */
export function zoneLookup(zone: Zone, outside: Lookup): Lookup {
  const inside = (name: string) => name === zone.origin || name.endsWith(`.${zone.origin}`);
  const at = (name: string) => {
    const own = zone.records.filter((record) => record.name === name);
    if (own.length || zone.records.some((record) => record.name.endsWith(`.${name}`))) return own;
    for (let rest = name; rest !== zone.origin && rest.includes('.'); ) {
      rest = rest.slice(rest.indexOf('.') + 1);
      const star = zone.records.filter((record) => record.name === `*.${rest}`);
      if (star.length) return star;
      if (zone.records.some((record) => record.name === rest)) return [];
    }
    return [];
  };
  return async (name, type): Promise<DnsAnswer> => {
    const aliases: string[] = [];
    for (let here = name; ; ) {
      if (!inside(here)) {
        const led = await outside(here, type);
        return led.kind === 'found' ? { ...led, aliases: [...aliases, ...led.aliases] } : led;
      }
      const all = at(here);
      const fits = all.filter((record) => record.type === (type satisfies RecordType));
      if (fits.length)
        return {
          kind: 'found',
          values: fits.map((record) => record.value),
          ttl: Math.min(...fits.map((record) => record.ttl)),
          aliases,
        };
      const alias = all.find((record) => record.type === 'CNAME');
      if (!alias) return { kind: 'none', exists: all.length > 0 || here === zone.origin, ttl: 60 };
      if (aliases.includes(alias.value) || aliases.length > 8) return { kind: 'unanswered', fault: 'loop' };
      aliases.push(alias.value);
      here = alias.value;
    }
  };
}

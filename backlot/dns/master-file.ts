/** One record of a zone. Names are absolute, lower case, without the trailing dot. */
export type ZoneRecord = {
  name: string;
  ttl: number;
  type: 'A' | 'AAAA' | 'CNAME' | 'MX' | 'TXT' | 'NS';
  value: string;
  strings?: string[];
  priority?: number;
};
export type ZoneFault = { line: number; text: string };

const TYPES = new Set(['A', 'AAAA', 'CNAME', 'MX', 'TXT', 'NS', 'PTR']);

type Token = { text: string; quoted: boolean };
type Line = { number: number; blankOwner: boolean; tokens: Token[] };

/** Cuts a master file into logical lines (RFC 1035 section 5.1): comments dropped, quotes kept whole, parentheses joined. */
function logicalLines(text: string): Line[] {
  const lines: Line[] = [];
  let depth = 0;
  let current: Line | null = null;
  for (const [index, raw] of text.replace(/\r\n?/g, '\n').split('\n').entries()) {
    if (depth === 0) current = { number: index + 1, blankOwner: /^[ \t]/.test(raw), tokens: [] };
    const pattern = /"((?:[^"\\]|\\.)*)"|;.*|([()])|([^\s;()"]+)/g;
    for (let m = pattern.exec(raw); m && current; m = pattern.exec(raw)) {
      if (m[1] !== undefined) current.tokens.push({ text: m[1].replace(/\\(.)/g, '$1'), quoted: true });
      else if (m[2] === '(') depth += 1;
      else if (m[2] === ')') depth = Math.max(0, depth - 1);
      else if (m[3] !== undefined) current.tokens.push({ text: m[3], quoted: false });
    }
    if (depth === 0 && current && current.tokens.length) lines.push(current);
  }
  return lines;
}

const absolute = (name: string, origin: string) => {
  const lower = name.toLowerCase();
  if (lower === '@') return origin;
  return lower.endsWith('.') ? lower.slice(0, -1) : `${lower}.${origin}`;
};

/** Reads a master file for `domain`. Lines that cannot be read come back as faults and change nothing else. SOA lines are passed over. */
export function readMasterFile(text: string, domain: string): { records: ZoneRecord[]; faults: ZoneFault[] } {
  const records: ZoneRecord[] = [];
  const faults: ZoneFault[] = [];
  let origin = domain;
  let ttl = 3600;
  let owner = domain;
  for (const { number, blankOwner, tokens } of logicalLines(text)) {
    const words = [...tokens];
    const head = words[0]?.text ?? '';
    if (/^\$origin$/i.test(head)) {
      origin = absolute(words[1]?.text ?? '@', origin);
      continue;
    }
    if (/^\$ttl$/i.test(head)) {
      ttl = Number(words[1]?.text) || ttl;
      continue;
    }
    if (!blankOwner) owner = absolute(words.shift()?.text ?? '@', origin);
    let own = ttl;
    while (words[0] && !words[0].quoted && (/^(in|ch|hs)$/i.test(words[0].text) || /^\d+$/.test(words[0].text))) {
      const word = words.shift()!.text;
      if (/^\d+$/.test(word)) own = Number(word);
    }
    const type = words.shift()?.text.toUpperCase() ?? '';
    if (type === 'SOA') continue;
    if (!TYPES.has(type)) {
      faults.push({ line: number, text: `“${type || 'nothing'}” is no record type this host knows` });
      continue;
    }
    const record = makeRecord(owner, type as ZoneRecord['type'], words, own, origin);
    if (record) records.push(record);
    else faults.push({ line: number, text: `the value of this ${type} record cannot be read` });
  }
  return { records, faults };
}

/** One record from its typed value; null if the value does not fit the type. */
export function makeRecord(
  name: string,
  type: ZoneRecord['type'],
  words: Token[],
  ttl: number,
  origin: string,
): ZoneRecord | null {
  if (words.length === 0) return null;
  const first = words[0]?.text ?? '';
  if (type === 'TXT') {
    // Unquoted words are joined by spaces, as people paste them; quoted strings stay apart (a key over 255 letters needs several).
    const strings = words.some((w) => w.quoted) ? words.map((w) => w.text) : [words.map((w) => w.text).join(' ')];
    const cut = strings.flatMap((text) => text.match(/[\s\S]{1,255}/g) ?? ['']);
    return { name, ttl, type, value: strings.join(''), strings: cut };
  }
  if (type === 'MX') {
    const exchange = words[1]?.text;
    if (!/^\d+$/.test(first) || !exchange) return null;
    return { name, ttl, type, priority: Number(first), value: exchange === '.' ? '' : absolute(exchange, origin) };
  }
  if (type === 'A') return /^\d+\.\d+\.\d+\.\d+$/.test(first) ? { name, ttl, type, value: first } : null;
  if (type === 'AAAA') return first.includes(':') ? { name, ttl, type, value: first } : null;
  return { name, ttl, type, value: absolute(first, origin) };
}

/** Cuts a value typed into a form field into the tokens of a master file. */
export function valueTokens(text: string, type: ZoneRecord['type']): Token[] {
  const trimmed = text.trim();
  if (type === 'TXT' && !trimmed.startsWith('"')) return [{ text: trimmed, quoted: true }];
  return logicalLines(trimmed.replace(/\n/g, ' '))[0]?.tokens ?? [];
}

/** A zone as a master file. */
export function writeMasterFile(domain: string, records: ZoneRecord[]): string {
  const quote = (text: string) => `"${text.replace(/(["\\])/g, '\\$1')}"`;
  const value = (r: ZoneRecord) => {
    if (r.type === 'TXT') return (r.strings ?? [r.value]).map(quote).join(' ');
    if (r.type === 'MX') return `${r.priority} ${r.value}.`;
    return r.type === 'A' || r.type === 'AAAA' ? r.value : `${r.value}.`;
  };
  return [`$ORIGIN ${domain}.`, ...records.map((r) => `${r.name}. ${r.ttl} IN ${r.type} ${value(r)}`), ''].join('\n');
}

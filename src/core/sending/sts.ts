/** What a domain demands of whoever brings it mail (MTA-STS, RFC 8461). `mx` are patterns of the mail hosts it may be brought to. */
export type StsPolicy = { mode: 'enforce' | 'testing' | 'none'; mx: string[]; maxAgeSeconds: number };

const MOST_AGE_SECONDS = 31_557_600;
const MOST_PATTERNS = 100;
const PATTERN = /^(?:\*\.)?[a-z0-9_](?:[a-z0-9._-]{0,250}[a-z0-9])?$/;
const FIELD = /^[a-z0-9][a-z0-9_.-]{0,31}$/i;

/** The id in the TXT values at `_mta-sts.<domain>`; null unless just one of them is such a record (section 3.1). */
export function stsId(values: string[]): string | null {
  const records = values.filter((value) => /^v=STSv1[ \t]*;/.test(value));
  if (records.length !== 1) return null;
  return /;[ \t]*id[ \t]*=[ \t]*([a-z0-9]{1,32})[ \t]*(?:;|$)/i.exec(records[0]!)?.[1] ?? null;
}

/** Reads a policy file (section 3.2): "key: value" lines, of keys that stand twice the first, unknown ones passed over. Null where it is not one. */
export function readStsPolicy(text: string): StsPolicy | null {
  const single = new Map<string, string>();
  const mx: string[] = [];
  for (const line of text.split(/\r?\n/)) {
    if (!line.trim()) continue;
    const at = line.indexOf(':');
    const key = line.slice(0, Math.max(0, at)).trim();
    const value = line.slice(at + 1).trim();
    if (!FIELD.test(key)) return null;
    // What is no pattern of host names allows no host, and is not kept.
    if (key === 'mx') mx.push(...[value.toLowerCase().replace(/\.$/, '')].filter((pattern) => PATTERN.test(pattern)));
    else if (!single.has(key)) single.set(key, value);
  }
  const mode = single.get('mode');
  const age = single.get('max_age') ?? '';
  if (single.get('version') !== 'STSv1' || !/^\d{1,10}$/.test(age)) return null;
  if (mode !== 'enforce' && mode !== 'testing' && mode !== 'none') return null;
  if (mode !== 'none' && mx.length === 0) return null;
  return { mode, mx: mx.slice(0, MOST_PATTERNS), maxAgeSeconds: Math.min(MOST_AGE_SECONDS, Number(age)) };
}

/** May mail be brought to this host? `*.` stands for exactly one label (section 4.1). */
export function isAllowedHost(host: string, patterns: string[]): boolean {
  const name = host.toLowerCase().replace(/\.$/, '');
  return patterns.some((pattern) =>
    pattern.startsWith('*.') ? name.indexOf('.') > 0 && name.slice(name.indexOf('.')) === pattern.slice(1) : name === pattern,
  );
}

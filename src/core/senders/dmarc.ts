import { getDomain } from 'tldts';
import type { Lookup } from './dns';
import { parseTags } from './tags';

export type Policy = 'none' | 'quarantine' | 'reject';
export type DmarcRecord = {
  policy: Policy;
  subdomains: Policy;
  dkim: 'r' | 's';
  spf: 'r' | 's';
  percent: number;
  reports: string[];
  failures: string[];
};
export type DmarcReading = { ok: true; record: DmarcRecord; unknown: string[] } | { ok: false; reason: string };

/** Is this TXT value a DMARC record (RFC 7489 section 6.4: the version comes first and is written exactly so)? */
export const isDmarc = (value: string) => /^v\s*=\s*DMARC1\s*(;|$)/.test(value);

const KNOWN = new Set(['v', 'p', 'sp', 'adkim', 'aspf', 'pct', 'rua', 'ruf', 'fo', 'rf', 'ri']);
const isPolicy = (text: string | undefined): text is Policy => text === 'none' || text === 'quarantine' || text === 'reject';
const uris = (text: string | undefined) =>
  (text ?? '')
    .split(',')
    .map((uri) => uri.trim())
    .filter(Boolean);

/**
 * Reads a DMARC record (RFC 7489 section 6.3). A faulty p= with a report address counts as p=none (section 6.6.3), but is said to be a
 * fault, since its owner meant something else.
 */
export function readDmarc(text: string): DmarcReading {
  const tags = parseTags(text);
  if (!tags || !isDmarc(text)) return { ok: false, reason: 'It is not a list of tags that begins with v=DMARC1.' };
  const policy = tags.get('p')?.toLowerCase();
  if (!isPolicy(policy))
    return {
      ok: false,
      reason: policy === undefined ? 'It has no policy (p=).' : `“p=${policy}” is none of none, quarantine, reject.`,
    };
  const sub = tags.get('sp')?.toLowerCase();
  if (sub !== undefined && !isPolicy(sub)) return { ok: false, reason: `“sp=${sub}” is none of none, quarantine, reject.` };
  const mode = (name: string) => (tags.get(name)?.toLowerCase() === 's' ? 's' : 'r');
  const percent = tags.has('pct') ? Number(tags.get('pct')) : 100;
  if (!Number.isInteger(percent) || percent < 0 || percent > 100)
    return { ok: false, reason: 'pct= has to be a whole number from 0 to 100.' };
  const reports = uris(tags.get('rua'));
  const odd = reports.find((uri) => !/^mailto:[^\s@!]+@[^\s@!]+(!\d+[kmgt]?)?$/i.test(uri) && !/^https:/i.test(uri));
  if (odd) return { ok: false, reason: `“${odd}” in rua= is no address; it has to begin with mailto:.` };
  return {
    ok: true,
    unknown: [...tags.keys()].filter((name) => !KNOWN.has(name)),
    record: {
      policy,
      subdomains: sub ?? policy,
      dkim: mode('adkim'),
      spf: mode('aspf'),
      percent,
      reports,
      failures: uris(tags.get('ruf')),
    },
  };
}

/** The domain that answers for a name: one label below the public suffix (RFC 7489 section 3.2). The name itself where none is known. */
export const organisationalDomain = (name: string): string => getDomain(name, { allowPrivateDomains: true }) ?? name;

/** Do two domains belong together (RFC 7489 section 3.1)? Strict: the same. Relaxed: the same organisational domain. */
export function aligned(from: string, other: string, mode: 'r' | 's'): boolean {
  const [a, b] = [from.toLowerCase(), other.toLowerCase()];
  return mode === 's' ? a === b : organisationalDomain(a) === organisationalDomain(b);
}

export type DmarcFound = { at: string; values: string[]; inherited: boolean } | { unanswered: true } | null;

/** Finds the policy for a domain (RFC 7489 section 6.6.3): at the domain itself, else at its organisational domain. */
export async function discoverDmarc(domain: string, lookup: Lookup): Promise<DmarcFound> {
  const org = organisationalDomain(domain);
  for (const owner of org === domain ? [domain] : [domain, org]) {
    const answer = await lookup(`_dmarc.${owner}`, 'TXT');
    if (answer.kind === 'unanswered') return { unanswered: true };
    const values = answer.kind === 'found' ? answer.values.filter(isDmarc) : [];
    if (values.length) return { at: owner, values, inherited: owner !== domain };
  }
  return null;
}

/**
 * Report addresses that will get nothing: a host of another organisation has to agree to receive (RFC 7489 section 7.1) by a record at
 * DOMAIN._report._dmarc.HOST. Hosts that did not answer are not counted as refusing.
 */
export async function unwillingReporters(domain: string, reports: string[], lookup: Lookup): Promise<string[]> {
  const unwilling: string[] = [];
  for (const uri of reports) {
    const host = /^mailto:[^@]+@([^!]+)/i.exec(uri)?.[1]?.toLowerCase();
    if (!host || aligned(domain, host, 'r')) continue;
    const answer = await lookup(`${domain}._report._dmarc.${host}`, 'TXT');
    const agrees = answer.kind === 'found' && answer.values.some(isDmarc);
    if (!agrees && answer.kind !== 'unanswered') unwilling.push(host);
  }
  return unwilling;
}

/** Days without a failed check before the next step is proposed. */
export const STEADY_DAYS = 14;

/** The next, stricter policy once everything has been right for two weeks; null when it is too early or there is none. */
export function nextPolicy(record: DmarcRecord, steadyDays: number): { policy: Policy; percent: number } | null {
  if (steadyDays < STEADY_DAYS) return null;
  if (record.policy === 'none') return { policy: 'quarantine', percent: 100 };
  if (record.percent < 100) return { policy: record.policy, percent: 100 };
  return record.policy === 'quarantine' ? { policy: 'reject', percent: 100 } : null;
}

/** A record with another policy, everything else left as its owner wrote it. */
export function withPolicy(text: string, step: { policy: Policy; percent: number }): string {
  const changed = text.replace(/(;\s*p\s*=\s*)[a-z]+/i, `$1${step.policy}`);
  return step.percent === 100 ? changed.replace(/;\s*pct\s*=\s*\d+/i, '') : changed;
}

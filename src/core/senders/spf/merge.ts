import type { Lookup } from '../dns';
import { isSpf, parseSpf } from './parse';

const ALL = /^([+?~-]?)all$/i;
const STRICTNESS = ['+', '?', '~', '-'];
const termsOf = (record: string) => record.trim().split(/\s+/).slice(1);
/** Two terms that mean the same: the plus sign and letter case do not count. */
const sameTerm = (term: string) => term.toLowerCase().replace(/^\+/, '');

/**
 * Several SPF records (or one) and what has to be in it, as one record with the least change (RFC 7208 section 4.5 allows one only): terms
 * keep their order and spelling and stand once, the new ones come before the end, the strictest `all` that stood anywhere closes it;
 * `+all`, which lets the whole world send, becomes `~all`. A redirect is kept only where no `all` stands, since else it is never read.
 */
export function mergeSpf(records: string[], wanted: string[]): string {
  const terms: string[] = [];
  let redirect = '';
  let strictest = -1;
  for (const term of [...records.flatMap(termsOf), ...wanted]) {
    const all = ALL.exec(term);
    if (all) strictest = Math.max(strictest, STRICTNESS.indexOf(all[1] || '+'));
    else if (/^redirect=/i.test(term)) redirect ||= term;
    else if (!terms.some((known) => sameTerm(known) === sameTerm(term))) terms.push(term);
  }
  const end = strictest >= 0 ? `${strictest === 0 ? '~' : STRICTNESS[strictest]}all` : redirect || '~all';
  return ['v=spf1', ...terms, end].join(' ');
}

const MOST_STEPS = 40;

/**
 * How many look-ups a record costs a receiver at the most, everything counted that counts (RFC 7208 section 4.6.4). Follows includes and
 * redirects; stops at 40, which is far beyond the allowed 10 anyway. Names built from macros count as one and are not followed.
 */
export async function countLookups(record: string, lookup: Lookup): Promise<number> {
  let count = 0;
  const seen = new Set<string>();
  const walk = async (text: string): Promise<void> => {
    const syntax = parseSpf(text);
    if (!syntax.ok) return;
    const follow: string[] = [];
    for (const mechanism of syntax.record.mechanisms) {
      if (['all', 'ip4', 'ip6'].includes(mechanism.kind)) continue;
      count += 1;
      if (mechanism.kind === 'include') follow.push(mechanism.domain);
    }
    const hasAll = syntax.record.mechanisms.some((mechanism) => mechanism.kind === 'all');
    if (syntax.record.redirect && !hasAll) {
      count += 1;
      follow.push(syntax.record.redirect);
    }
    for (const target of follow) {
      const name = target.toLowerCase();
      if (target.includes('%') || seen.has(name) || count > MOST_STEPS) continue;
      seen.add(name);
      const answer = await lookup(name, 'TXT');
      const next = answer.kind === 'found' ? answer.values.find(isSpf) : undefined;
      if (next) await walk(next);
    }
  };
  await walk(record);
  return Math.min(count, MOST_STEPS + 1);
}

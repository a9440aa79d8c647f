import type { WantedRecord } from './records';
import { parseTags } from './tags';

/**
 * What a name server said about one name and type. TXT values come as one joined string per record (RFC 7208 3.3),
 * CNAME values without trailing dot. `none` is NXDOMAIN or no data; `unanswered` is a time-out, SERVFAIL or refusal.
 */
export type DnsAnswer = { kind: 'found'; values: string[] } | { kind: 'none' } | { kind: 'unanswered'; reason: string };

export type Verdict = 'right' | 'missing' | 'differs' | 'several' | 'unanswered';
export type Judgement = {
  verdict: Verdict;
  /** Two or three words for the table. */
  label: string;
  /** What is wrong and what to do, in one or two sentences; '' when it is right and there is nothing to add. */
  sentence: string;
  /** The values found that matter here. */
  found: string[];
  /** The exact text that should stand there: equal to what was found when it is right. */
  paste: string;
};

/** Holds one wanted record against what DNS said. Never throws, whatever the answer holds. */
export function judge(wanted: WantedRecord, answer: DnsAnswer): Judgement {
  if (answer.kind === 'unanswered') {
    return {
      verdict: 'unanswered',
      label: 'No answer',
      sentence: `The name server did not answer (${answer.reason}). This says nothing about your record; we ask again by ourselves.`,
      found: [],
      paste: wanted.value,
    };
  }
  const values = answer.kind === 'found' ? answer.values : [];
  if (wanted.purpose === 'dkim') return judgeDkim(wanted, values);
  if (wanted.purpose === 'spf') return judgeSpf(wanted, values);
  if (wanted.purpose === 'dmarc') return judgeDmarc(wanted, values);
  return judgeReturnPath(wanted, values);
}

const right = (value: string, sentence = ''): Judgement => ({
  verdict: 'right',
  label: 'Right',
  sentence,
  found: [value],
  paste: value,
});
const missing = (wanted: WantedRecord): Judgement => ({
  verdict: 'missing',
  label: 'Not there yet',
  sentence: `No ${wanted.type} record stands at ${wanted.name}. Add it at your DNS host.`,
  found: [],
  paste: wanted.value,
});
const differs = (wanted: WantedRecord, found: string, label: string, sentence: string, paste = wanted.value): Judgement => ({
  verdict: 'differs',
  label,
  sentence,
  found: [found],
  paste,
});

/** A DKIM key is right when its p= is ours, white space aside (RFC 6376 3.6.1). */
function judgeDkim(wanted: WantedRecord, values: string[]): Judgement {
  const key = parseTags(wanted.value)?.get('p') ?? '';
  const keys = values.filter((value) => /(^|;)\s*p\s*=/i.test(value));
  if (keys.length === 0) {
    const other = values[0];
    return other === undefined
      ? missing(wanted)
      : differs(wanted, other, 'Not a key', 'What stands there is no DKIM key. Replace it.');
  }
  if (keys.length > 1)
    return several(wanted, keys, 'Two keys stand at one name, and receivers may take either. Keep only this one.');
  const found = keys[0] ?? '';
  const tags = parseTags(found);
  const p = tags?.get('p')?.replace(/\s+/g, '');
  if (!tags || p === undefined)
    return differs(wanted, found, 'Cannot be read', 'The record breaks the rules of a DKIM key. Replace it whole.');
  if (p === '') return differs(wanted, found, 'Revoked', 'An empty p= says that this key is revoked. Replace it.');
  if (p !== key) {
    const cut = key.startsWith(p) || p.startsWith(key);
    return differs(
      wanted,
      found,
      cut ? 'Cut short' : 'Another key',
      cut
        ? 'The key is cut short; some DNS hosts want long values in several quoted parts. Paste it again.'
        : 'The key that stands there is not ours. Replace it.',
    );
  }
  const flags = tags.get('t')?.split(':') ?? [];
  if (flags.some((flag) => flag.trim() === 'y'))
    return differs(wanted, found, 'Only testing', 'The flag t=y tells receivers to ignore the signature. Take it out.');
  return right(found);
}

/** Is this TXT value an SPF record at all? (RFC 7208 4.5: exactly `v=spf1`, then a space or the end.) */
export const isSpf = (value: string) => /^v=spf1( |$)/i.test(value);

function judgeSpf(wanted: WantedRecord, values: string[]): Judgement {
  const records = values.filter(isSpf);
  const include = wanted.value.split(' ')[1] ?? '';
  if (records.length === 0) return missing(wanted);
  if (records.length > 1) {
    return several(
      wanted,
      records,
      'Two SPF records make both invalid (RFC 7208 section 4.5). Put this one line in place of both.',
      mergeSpf(records, include),
    );
  }
  const found = records[0] ?? '';
  const terms = found.trim().split(/\s+/).slice(1);
  if (!terms.some((term) => term.toLowerCase().replace(/^\+/, '') === include)) {
    const paste = withInclude(found, include);
    return differs(
      wanted,
      found,
      'Add 1 part',
      'You already have an SPF record. Do not add a second one: replace it with this line.',
      paste,
    );
  }
  if (terms.some((term) => /^\+?all$/i.test(term)))
    return differs(
      wanted,
      found,
      'Lets anyone send',
      '“+all” allows the whole world to send as you. Replace it.',
      found.replace(/\+?all\b/i, '~all'),
    );
  return right(found);
}

/** Puts the include before the first `all` or `redirect`, since terms after `all` are never read (RFC 7208 5.1). */
function withInclude(record: string, include: string): string {
  const terms = record.trim().split(/\s+/);
  const end = terms.findIndex((term) => /^([+?~-]?all|redirect=.*)$/i.test(term));
  const at = end === -1 ? terms.length : end;
  return [...terms.slice(0, at), include, ...terms.slice(at)].join(' ');
}

/** Several SPF records as one: every term once, in order, the strictest `all` last, our include in it. */
export function mergeSpf(records: string[], include: string): string {
  const terms: string[] = [];
  let all = '~all';
  for (const record of records) {
    for (const term of record.trim().split(/\s+/).slice(1)) {
      if (/^[+?~-]?all$/i.test(term)) {
        if (/^-all$/i.test(term)) all = '-all';
      } else if (!terms.includes(term)) terms.push(term);
    }
  }
  if (!terms.includes(include)) terms.push(include);
  return ['v=spf1', ...terms, all].join(' ');
}

function judgeDmarc(wanted: WantedRecord, values: string[]): Judgement {
  const records = values.filter((value) => /^v\s*=\s*DMARC1\s*(;|$)/.test(value));
  if (records.length === 0) return missing(wanted);
  if (records.length > 1)
    return several(wanted, records, 'Two DMARC records are read as none (RFC 7489 section 6.6.3). Keep this one.');
  const found = records[0] ?? '';
  const tags = parseTags(found);
  const policy = tags?.get('p')?.toLowerCase();
  if (!tags || !policy || !['none', 'quarantine', 'reject'].includes(policy)) {
    return differs(
      wanted,
      found,
      'Cannot be read',
      'A DMARC record needs p=none, p=quarantine or p=reject right after its version.',
    );
  }
  const ours = (parseTags(wanted.value)?.get('rua') ?? '').toLowerCase();
  const reports = (tags.get('rua') ?? '').split(',').map((uri) => uri.trim().toLowerCase());
  if (!reports.includes(ours)) {
    const rua = [...reports.filter(Boolean), ours].join(',');
    const paste = tags.has('rua')
      ? found.replace(/rua\s*=\s*[^;]*/i, `rua=${rua}`)
      : `${found.replace(/;?\s*$/, '')}; rua=${rua}`;
    return differs(
      wanted,
      found,
      'Add 1 part',
      'Your policy works. With our address in rua= we can also read the reports for you.',
      paste,
    );
  }
  return right(found);
}

function judgeReturnPath(wanted: WantedRecord, values: string[]): Judgement {
  const found = values[0];
  if (found === undefined) return missing(wanted);
  if (found.replace(/\.$/, '').toLowerCase() === wanted.value) return right(found);
  return differs(
    wanted,
    found,
    'Points elsewhere',
    'Until this is right, letters that cannot be delivered come back to another host, and dead addresses stay on your list.',
  );
}

function several(wanted: WantedRecord, found: string[], sentence: string, paste = wanted.value): Judgement {
  return { verdict: 'several', label: `${found.length} records`, sentence, found, paste };
}

/** The state of a domain as a whole: letters may leave when the signature, the return path and the policy hold. */
export function domainState(
  verdicts: Partial<Record<WantedRecord['purpose'], Verdict>>,
): 'authenticated' | 'incomplete' | 'unknown' {
  const all = [verdicts.dkim, verdicts.spf, verdicts['return-path'], verdicts.dmarc];
  if (all.every((verdict) => verdict === 'right')) return 'authenticated';
  return all.every((verdict) => verdict === undefined || verdict === 'unanswered') ? 'unknown' : 'incomplete';
}

import { readDkimKey } from './dkim-key';
import { type DmarcReading, type DmarcRecord, isDmarc, readDmarc } from './dmarc';
import { type DnsAnswer, sayFault } from './dns';
import type { WantedRecord } from './records';
import { mergeSpf } from './spf/merge';
import { isSpf, parseSpf } from './spf/parse';
import { parseTags } from './tags';

/** `look`: it works, and something is worth a look. `absent`: not there and not needed. */
export type Verdict = 'right' | 'look' | 'missing' | 'absent' | 'differs' | 'several' | 'unanswered';
export type Judgement = {
  verdict: Verdict;
  /** Two or three words for the table. */
  label: string;
  /** What is wrong and what to do, in one or two sentences; '' when it is right and there is nothing to add. */
  sentence: string;
  /** The standard that says so; '' where none is needed. */
  rfc: string;
  /** The values found that matter here. */
  found: string[];
  /** The exact text that should stand there: equal to what was found when it is right. */
  paste: string;
};

const judgement = (
  verdict: Verdict,
  label: string,
  rfc: string,
  sentence: string,
  found: string[],
  paste: string,
): Judgement => ({ verdict, label, sentence, rfc, found, paste });
export const right = (value: string, rfc: string, sentence = ''): Judgement =>
  judgement('right', 'Right', rfc, sentence, [value], value);
export const differs = (
  wanted: WantedRecord,
  found: string,
  label: string,
  rfc: string,
  sentence: string,
  paste = wanted.value,
): Judgement => judgement('differs', label, rfc, sentence, [found], paste);

const several = (wanted: WantedRecord, found: string[], rfc: string, sentence: string, paste = wanted.value): Judgement =>
  judgement('several', `${found.length} records`, rfc, sentence, found, paste);
const missing = (wanted: WantedRecord, rfc: string): Judgement =>
  wanted.needed
    ? judgement(
        'missing',
        'Not there yet',
        rfc,
        `No ${wanted.type} record stands at ${wanted.name}. Add it at your DNS host.`,
        [],
        wanted.value,
      )
    : judgement('absent', 'Not there', rfc, 'Not needed for letters to leave. Add it when you like.', [], wanted.value);

/** Holds one wanted record against what DNS said of its name and type. Never throws, whatever the answer holds. */
export function judge(wanted: WantedRecord, answer: DnsAnswer): Judgement {
  if (answer.kind === 'unanswered') {
    const last =
      answer.fault === 'timeout' || answer.fault === 'servfail'
        ? ' This says nothing about your record; we ask again by ourselves.'
        : '';
    const rfc = answer.fault === 'bogus' ? 'RFC 4035 section 5' : answer.fault === 'loop' ? 'RFC 1034 section 3.6.2' : '';
    return judgement(
      'unanswered',
      answer.fault === 'bogus' ? 'DNSSEC broken' : answer.fault === 'lame' ? 'Wrong name server' : 'No answer',
      rfc,
      `${sayFault(answer.fault)}${last}`,
      [],
      wanted.value,
    );
  }
  const values = answer.kind === 'found' ? answer.values : [];
  if (wanted.type === 'CNAME') return judgeAlias(wanted, values);
  switch (wanted.purpose) {
    case 'dkim':
    case 'dkim-next':
    case 'dkim-ed25519':
      return judgeDkim(wanted, values);
    case 'spf':
      return judgeSpf(wanted, values);
    case 'dmarc':
      return judgeDmarc(wanted, values);
    case 'replies':
      return judgeReplies(values);
    default:
      return judgeLogo(values);
  }
}

const KEY = 'RFC 6376 section 3.6.1';

/** A DKIM key is right when it can be used and its p= is ours. */
function judgeDkim(wanted: WantedRecord, values: string[]): Judgement {
  const ours = parseTags(wanted.value)?.get('p') ?? '';
  const keys = values.filter((value) => /(^|;)\s*p\s*=/i.test(value));
  if (keys.length > 1)
    return several(
      wanted,
      keys,
      'RFC 6376 section 3.6.2.2',
      'Two keys stand at one name, and receivers may take either. Keep only this one.',
    );
  const found = keys[0];
  if (found === undefined) {
    const other = values[0];
    return other === undefined
      ? missing(wanted, KEY)
      : differs(wanted, other, 'Not a key', KEY, wildcardHint(other) ?? 'What stands there is no DKIM key. Replace it.');
  }
  const key = readDkimKey(found);
  if (key.ok && key.revoked)
    return differs(wanted, found, 'Revoked', KEY, 'An empty p= says that this key is revoked. Replace it.');
  const p = (parseTags(found.replace(/"/g, ''))?.get('p') ?? '').replace(/\s+/g, '');
  // A key that lacks its end is said to be cut, which is what its owner has to know, not that it cannot be read.
  if (p && p !== ours && p.length > 40 && (ours.startsWith(p) || p.startsWith(ours))) {
    return differs(
      wanted,
      found,
      'Cut short',
      'RFC 1035 section 3.3',
      'The key is cut: one string holds at most 255 characters, so some DNS hosts want it in several quoted parts. Paste it again, or paste the zone file.',
    );
  }
  if (!key.ok) {
    const quoted = /["\n\r]/.test(found);
    return differs(
      wanted,
      found,
      'Cannot be read',
      KEY,
      `${quoted ? 'Quotation marks or line breaks went into the value. ' : ''}${key.reason} Replace it whole.`,
    );
  }
  const testing = key.testing ? 'The flag t=y says that it is only a test, so receivers ignore the signature.' : '';
  if (key.key !== ours) {
    if (key.algorithm === 'rsa' && key.bits < 1024)
      return differs(
        wanted,
        found,
        'Too short a key',
        'RFC 8301 section 3.2',
        `${[`The key that stands there is only ${key.bits} bits long. Receivers ignore keys under 1024, and it is not ours.`, testing].filter(Boolean).join(' ')} Replace it.`,
      );
    return differs(
      wanted,
      found,
      'Another key',
      KEY,
      `${['The key that stands there is not ours.', testing].filter(Boolean).join(' ')} Replace it.`,
    );
  }
  if (testing)
    return differs(wanted, found, 'Only testing', KEY, `${testing} Take it out.`, found.replace(/;?\s*t\s*=\s*[^;]*/i, ''));
  return right(found, KEY);
}

const SPF = 'RFC 7208 section 4.5';

function judgeSpf(wanted: WantedRecord, values: string[]): Judgement {
  const records = values.filter(isSpf);
  const include = wanted.value.split(' ')[1] ?? '';
  if (records.length > 1)
    return several(
      wanted,
      records,
      SPF,
      'Two SPF records make both invalid. Put this one line in place of all of them.',
      mergeSpf(records, [include]),
    );
  const found = records[0];
  if (found === undefined) {
    const almost = values.find((value) => /^"?\s*v\s*=\s*spf/i.test(value));
    return almost === undefined
      ? missing(wanted, SPF)
      : differs(wanted, almost, 'Cannot be read', SPF, 'An SPF record begins with exactly v=spf1 and a space. Replace it.');
  }
  const syntax = parseSpf(found);
  const merged = mergeSpf([found], [include]);
  if (!syntax.ok) {
    const kept = found
      .split(' ')
      .filter((term) => term !== syntax.term)
      .join(' ');
    return differs(
      wanted,
      found,
      'Cannot be read',
      'RFC 7208 section 4.6',
      `“${syntax.term}” makes the whole record invalid. ${syntax.reason}`,
      mergeSpf([kept], [include]),
    );
  }
  const { mechanisms, redirect } = syntax.record;
  const end = mechanisms.findIndex((mechanism) => mechanism.kind === 'all');
  const ours = mechanisms.findIndex(
    (mechanism) =>
      mechanism.kind === 'include' && `include:${mechanism.domain.toLowerCase()}` === include && mechanism.qualifier === '+',
  );
  if (ours === -1) {
    const negative = mechanisms.find(
      (mechanism) => mechanism.kind === 'include' && `include:${mechanism.domain.toLowerCase()}` === include,
    );
    if (negative)
      return differs(
        wanted,
        found,
        'Says no',
        'RFC 7208 section 4.6.2',
        `“${negative.text}” tells mailboxes not to trust us. Take the sign away.`,
        found.replace(negative.text, include),
      );
    if (redirect && end === -1 && mechanisms.length === 0 && `include:${redirect.toLowerCase()}` === include)
      return right(found, 'RFC 7208 section 6.1', 'It hands on to our record.');
    if (redirect && end === -1)
      return differs(
        wanted,
        found,
        'Add 1 part',
        'RFC 7208 section 6.1',
        'Your record hands on to another one. Ours goes before that.',
        merged,
      );
    return differs(
      wanted,
      found,
      'Add 1 part',
      SPF,
      'You already have an SPF record. Do not add a second one: replace it with this line.',
      merged,
    );
  }
  if (end !== -1 && ours > end)
    return differs(
      wanted,
      found,
      'Never read',
      'RFC 7208 section 5.1',
      'What stands after “all” is never read. Move our part before it.',
      mergeSpf([mechanisms.filter((_, n) => n !== ours).reduce((text, m) => `${text} ${m.text}`, 'v=spf1')], [include]),
    );
  if (mechanisms[end]?.qualifier === '+')
    return differs(
      wanted,
      found,
      'Lets anyone send',
      'RFC 7208 section 5.1',
      '“+all” allows the whole world to send as you. Replace it.',
      mergeSpf([found], []),
    );
  return right(found, SPF);
}

const DMARC = 'RFC 7489 section 6.3';

function judgeDmarc(wanted: WantedRecord, values: string[]): Judgement {
  const records = values.filter(isDmarc);
  if (records.length > 1)
    return several(
      wanted,
      records,
      'RFC 7489 section 6.6.3',
      'Two DMARC records are read as none. Keep this one.',
      withReports(records[0]!, wanted),
    );
  const found = records[0];
  if (found === undefined) {
    const other = values[0];
    if (other === undefined) return missing(wanted, DMARC);
    const almost = /dmarc/i.test(other);
    return differs(
      wanted,
      other,
      almost ? 'Cannot be read' : 'Not a policy',
      DMARC,
      almost
        ? 'A DMARC record begins with exactly v=DMARC1. Replace it.'
        : (wildcardHint(other) ?? 'What stands there is no DMARC record. Replace it.'),
    );
  }
  const reading: DmarcReading = readDmarc(found);
  if (!reading.ok) return differs(wanted, found, 'Cannot be read', DMARC, `${reading.reason} Replace it.`);
  const part = reading.record.percent < 100;
  const sentence = [
    part ? `The policy holds for ${reading.record.percent} in 100 letters only. Take pct= out once you are sure.` : '',
    ...(withReports(found, wanted) === found ? [] : [NO_REPORTS]),
  ]
    .filter(Boolean)
    .join(' ');
  const judged = { ...right(found, DMARC, sentence), paste: withReports(found, wanted) };
  return part ? { ...judged, verdict: 'look', label: 'Right, in part' } : judged;
}

/** A policy is complete without reports (RFC 7489 section 6.3): all that is missing is what we could show. */
const NO_REPORTS = 'It is right as it is. Without our address in rua= we get no reports, so we cannot show you any.';

/** What is said of a domain that the policy of the domain above covers (RFC 7489 section 6.6.3), and a record of its own that is no weaker. */
export function judgeInherited(wanted: WantedRecord, org: string, found: string, record: DmarcRecord): Judgement {
  const own = [
    'v=DMARC1',
    `p=${record.subdomains}`,
    ...(record.dkim === 's' ? ['adkim=s'] : []),
    ...(record.spf === 's' ? ['aspf=s'] : []),
    ...(record.percent < 100 ? [`pct=${record.percent}`] : []),
  ].join('; ');
  return {
    ...right(
      found,
      'RFC 7489 section 6.6.3',
      `The policy of ${org} holds here too (${record.subdomains === record.policy ? 'p' : 'sp'}=${record.subdomains}); you need none of your own. One of your own, as strict, would let us read the reports for this domain.`,
    ),
    label: 'From the domain above',
    paste: withReports(own, wanted),
  };
}

/** A record with our report address in it; the same text when it is there already. */
function withReports(found: string, wanted: WantedRecord): string {
  const tags = parseTags(found);
  const ours = parseTags(wanted.value)?.get('rua') ?? '';
  const reports = (tags?.get('rua') ?? '')
    .split(',')
    .map((uri) => uri.trim())
    .filter(Boolean);
  if (reports.some((uri) => uri.toLowerCase().replace(/!.*$/, '') === ours.toLowerCase())) return found;
  const rua = [...reports, ours].join(',');
  return tags?.has('rua') ? found.replace(/rua\s*=\s*[^;]*/i, `rua=${rua}`) : `${found.replace(/;?\s*$/, '')}; rua=${rua}`;
}

function judgeAlias(wanted: WantedRecord, values: string[]): Judgement {
  const rfc = 'RFC 1034 section 3.6.2';
  const clean = values.map((value) => value.replace(/\.$/, '').toLowerCase());
  if (clean.length > 1) return several(wanted, clean, rfc, 'One name can have one alias only. Keep this one.');
  const found = clean[0];
  if (found === undefined) return missing(wanted, rfc);
  if (found === wanted.value) return right(found, rfc);
  const doubled = found === `${wanted.value}.${wanted.name.split('.').slice(1).join('.')}`;
  if (doubled)
    return differs(
      wanted,
      found,
      'Name doubled',
      'RFC 1035 section 5.1',
      'Your DNS host put your own domain behind the value. Type a dot at its end.',
      `${wanted.value}.`,
    );
  const sentence = wanted.behind
    ? 'The key behind that name is not ours. Replace the alias.'
    : wanted.purpose === 'return-path'
      ? 'Until this is right, letters that cannot be delivered come back to another host, and dead addresses stay on your list.'
      : 'Until this is right, links in your letters show our name.';
  return differs(wanted, found, 'Points elsewhere', rfc, sentence);
}

function judgeReplies(values: string[]): Judgement {
  if (values.length === 0)
    return judgement(
      'look',
      'Nobody takes them',
      'RFC 5321 section 5.1',
      'No mail host is named for this domain, so replies to your letters may be lost. Use a reply address elsewhere, or set up a mailbox here.',
      [],
      '',
    );
  // A single "0 ." is the null MX: this domain says that it takes no mail.
  if (values.some((value) => /^\d+ \.?$/.test(value)))
    return judgement(
      'look',
      'Takes no mail',
      'RFC 7505',
      'This domain says that it takes no mail at all (null MX). Some mailboxes refuse letters from such a domain; replies are lost.',
      values,
      '',
    );
  return judgement(
    'right',
    'Somebody takes them',
    'RFC 5321 section 5.1',
    '',
    values.map((value) => value.replace(/^\d+ /, '')),
    values.join(', '),
  );
}

function judgeLogo(values: string[]): Judgement {
  const found = values.find((value) => /^v\s*=\s*BIMI1/i.test(value));
  if (!found) return judgement('absent', 'Not there', '', 'Only worth it once your policy is p=quarantine or p=reject.', [], '');
  const address = parseTags(found)?.get('l') ?? '';
  if (!/^https:\/\/\S+\.svg$/i.test(address))
    return judgement('look', 'Cannot be used', '', 'The logo has to be an SVG file at an https address (l=).', [found], found);
  return judgement('right', 'Ready', '', '', [found], found);
}

/** A wildcard answers for every name, also for those that nobody made (RFC 4592). Seen by a value of another kind standing there. */
function wildcardHint(value: string): string | null {
  return isSpf(value)
    ? 'An SPF record stands there, probably by a wildcard (“*”) in your zone, which answers for every name. A record of its own at this name takes its place.'
    : null;
}

/** Does a record with this verdict do what it is for? */
export const holds = (verdict: Verdict | undefined): boolean => verdict === 'right' || verdict === 'look';
/** Is it known to be wrong or missing? A record that nobody has asked for, or that was not answered, is not. */
export const isWrong = (verdict: Verdict | undefined): boolean =>
  verdict !== undefined && verdict !== 'unanswered' && !holds(verdict);

/** The state of a domain as a whole: letters may leave when every needed record holds. */
export function domainState(
  records: { needed: boolean; verdict: Verdict | undefined }[],
): 'authenticated' | 'incomplete' | 'unknown' {
  const needed = records.filter((record) => record.needed).map((record) => record.verdict);
  if (needed.every(holds)) return 'authenticated';
  return needed.every((verdict) => verdict === undefined || verdict === 'unanswered') ? 'unknown' : 'incomplete';
}

import ipaddr from 'ipaddr.js';
import {
  aligned,
  type DmarcRecord,
  discoverDmarc,
  nextPolicy,
  organisationalDomain,
  readDmarc,
  unwillingReporters,
  withPolicy,
} from './dmarc';
import { aliasChain, capped, type Lookup } from './dns';
import { type Judgement, judge, judgeInherited, right } from './judge';
import { type DomainIdentity, type Installation, returnPathDomain, type WantedRecord, wantedRecords } from './records';
import { evaluateSpf, type SpfEvaluation } from './spf/evaluate';
import { countLookups, mergeSpf } from './spf/merge';

export type Examined = WantedRecord & { judgement: Judgement };
export type Examination = {
  records: Examined[];
  /** What a receiver would say to a letter of ours, by the return path's own SPF. */
  envelope: SpfEvaluation;
  spfLookups: { before: number; after: number } | null;
  /** A stricter policy to go to, once everything has held long enough. */
  nextStep: { policy: string; paste: string } | null;
  asked: number;
};

/** Different questions in one check at the most. */
const MOST_QUESTIONS = 80;

/**
 * Checks a whole domain by asking `lookup` alone: each record judged, then what single records cannot show: how many look-ups SPF costs
 * before and after, whether the return path really passes, chains and conflicts of aliases, a policy inherited from the domain above,
 * reporters that will not take reports, and the next step. Never throws, and never asks more than its cap.
 */
export async function examineDomain(
  identity: DomainIdentity,
  installation: Installation,
  ask: Lookup,
  steadyDays = 0,
): Promise<Examination> {
  const lookup = capped(ask, MOST_QUESTIONS);
  const wanted = wantedRecords(identity, installation);
  const records = await Promise.all(
    wanted.map(
      async (record): Promise<Examined> => ({ ...record, judgement: judge(record, await lookup(record.name, record.type)) }),
    ),
  );
  const of = (purpose: WantedRecord['purpose']) => records.find((record) => record.purpose === purpose);
  const set = (record: Examined, change: Partial<Judgement>) =>
    Object.assign(record, { judgement: { ...record.judgement, ...change } });

  await Promise.all(records.filter((record) => record.type === 'CNAME').map((record) => followAlias(record, lookup, set)));
  const spf = of('spf')!;
  const spfLookups = await judgeOwnSpf(spf, identity, installation, lookup, set);
  const returnPath = of('return-path')!;
  const envelope = await evaluateSpf(
    {
      ip: installation.sendingAddresses[0] ?? '192.0.2.1',
      sender: `b@${returnPath.name}`,
      helo: installation.returnPathTarget,
      domain: returnPath.name,
    },
    lookup,
  );
  if (returnPath.judgement.verdict === 'right' && envelope.result !== 'pass' && envelope.result !== 'temperror') {
    set(returnPath, {
      verdict: 'look',
      label: 'Points to us',
      sentence: `It points to us, but SPF there gives “${envelope.result}”: ${envelope.reason}`,
    });
  }
  const nextStep = await policy(identity, of('dmarc')!, lookup, steadyDays, set);
  logo(of('logo')!, of('dmarc')!, set);
  await lookAtReplies(of('replies')!, identity.domain, lookup, set);
  return { records, envelope, spfLookups, nextStep, asked: lookup.asked() };
}

type Set_ = (record: Examined, change: Partial<Judgement>) => void;

async function followAlias(record: Examined, lookup: Lookup, set: Set_): Promise<void> {
  const { verdict } = record.judgement;
  if (verdict === 'unanswered') return;
  if (record.behind) {
    // What counts is the key that a mailbox finds, by whichever way: a key of ours that stands there itself is as good.
    const answer = await lookup(record.name, 'TXT');
    if (answer.kind === 'unanswered') return;
    const behind = judge({ ...record, type: 'TXT', value: record.behind }, answer);
    if (behind.verdict === 'right' && verdict !== 'right')
      return set(record, {
        ...behind,
        sentence: 'The key itself stands there, which works; with the alias instead, changing keys needs nothing from you.',
        paste: record.value,
      });
    if (behind.verdict !== 'right' && verdict === 'right')
      return set(record, {
        verdict: 'differs',
        label: behind.label,
        rfc: behind.rfc,
        sentence:
          behind.verdict === 'missing' || behind.verdict === 'absent'
            ? 'The alias is right, and the key behind it is not found yet. We serve it ourselves; it comes within minutes.'
            : `The alias is right. ${behind.sentence}`,
      });
    if (verdict === 'right') return;
  }
  if (verdict === 'missing' || verdict === 'absent') {
    // Other records at the name: an alias cannot stand beside them (RFC 1034 section 3.6.2).
    const others = await Promise.all(
      (['A', 'MX', 'TXT'] as const).map(async (type) => ({ type, answer: await lookup(record.name, type) })),
    );
    const there = others.filter(({ answer }) => answer.kind === 'found' && answer.aliases.length === 0);
    if (there.length === 0) return;
    const mx = there.find(({ type }) => type === 'MX')?.answer;
    if (
      record.purpose === 'return-path' &&
      mx?.kind === 'found' &&
      mx.values.some((value) => value.split(' ')[1] === record.value)
    ) {
      // Without an alias, but with our mail host: bounces reach us all the same.
      return set(record, {
        ...right(
          mx.values.join(', '),
          'RFC 5321 section 5.1',
          'It reaches us by an MX record instead of an alias, which works as well.',
        ),
        paste: record.value,
      });
    }
    return set(record, {
      verdict: 'differs',
      label: 'Name in use',
      rfc: 'RFC 1034 section 3.6.2',
      found: there.flatMap(({ type, answer }) =>
        answer.kind === 'found' ? answer.values.map((value) => `${type} ${value}`) : [],
      ),
      sentence: `Other records stand at ${record.name}. An alias (CNAME) cannot stand beside them: remove them first, then add it.`,
    });
  }
  const chain = await aliasChain(record.name, lookup);
  if (chain.end === 'loop') {
    return set(record, {
      verdict: 'differs',
      label: 'In a circle',
      rfc: 'RFC 1034 section 3.6.2',
      found: [chain.names.slice(1).join(' → ')],
      sentence: 'The aliases lead back to where they began, so nobody arrives. Let it point straight to this value.',
    });
  }
  if (verdict === 'differs' && chain.names.slice(1).includes(record.value)) {
    set(record, {
      ...right(
        chain.names[1]!,
        'RFC 1034 section 3.6.2',
        `It reaches us by way of ${chain.names.slice(1, -1).join(', ')}. Straight is quicker and cannot break in the middle.`,
      ),
      verdict: 'look',
      label: 'By a detour',
      paste: record.value,
    });
  }
}

const MOST_SPF = 10;
/** An address for documentation (RFC 5737), for which no record speaks: who asks for it reads a record to its end. */
const STRANGER = '192.0.2.1';
const MOST_ADDRESSES = 4;

/**
 * Judges the domain's own SPF record by evaluating it (RFC 7208 section 4) as a receiver would: for each of our sending addresses, and for an
 * address of nobody's, which finds what is broken further on. Says what the record costs in look-ups, before and after the change.
 */
async function judgeOwnSpf(
  spf: Examined,
  identity: DomainIdentity,
  installation: Installation,
  lookup: Lookup,
  set: Set_,
): Promise<{ before: number; after: number } | null> {
  const { verdict, label, paste } = spf.judgement;
  if (verdict === 'unanswered') return null;
  const found = spf.judgement.found.length === 1 ? spf.judgement.found[0]! : null;
  const before = found ? await countLookups(found, lookup) : 0;
  const addresses = installation.sendingAddresses.slice(0, MOST_ADDRESSES).map((address) => address.replace(/\/.*$/, ''));
  const evaluate = async (record: string | null) => {
    const asked = record === null ? lookup : instead(lookup, identity.domain, record);
    const subject = (ip: string) => ({
      ip,
      sender: `b@${identity.domain}`,
      helo: installation.returnPathTarget,
      domain: identity.domain,
    });
    const ours = await Promise.all(addresses.map((ip) => evaluateSpf(subject(ip), asked)));
    return { worst: ours.find((one) => one.result !== 'pass') ?? ours[0], stranger: await evaluateSpf(subject(STRANGER), asked) };
  };
  /** Our own record by itself, where that is what does not pass. */
  const ofOurs = async () => {
    const all = await Promise.all(
      addresses.map((ip) =>
        evaluateSpf(
          { ip, sender: `b@${installation.spfHost}`, helo: installation.returnPathTarget, domain: installation.spfHost },
          lookup,
        ),
      ),
    );
    return all.find((one) => one.result !== 'pass' && one.result !== 'temperror') ?? null;
  };
  const say = (sentence: string, change: Partial<Judgement> = {}) => set(spf, { ...change, sentence: sentence.trim() });

  if (verdict === 'right') {
    const { worst, stranger } = await evaluate(null);
    const own = worst && worst.result !== 'pass' && worst.result !== 'temperror' ? await ofOurs() : null;
    if (own)
      say(
        `The record is right. What it points to, on our side, is not: ${own.reason} Whoever runs this installation has to mend it.`,
        {
          verdict: 'look',
          label: 'Ours is broken',
          rfc: `RFC 7208 section ${own.section}`,
        },
      );
    else if (worst?.result === 'permerror')
      say(await fault(spf.judgement.paste, worst, before, lookup), broken(spf, worst, before));
    else if (worst && ['fail', 'softfail', 'neutral'].includes(worst.result))
      say(`${worst.reason} What decides first counts, and our part is not reached. Put it in front.`, {
        verdict: 'differs',
        label: 'Decided before',
        rfc: 'RFC 7208 section 4.6.2',
        paste: mergeSpf([`v=spf1 include:${installation.spfHost}`, paste], []),
      });
    else if (stranger.result === 'permerror')
      say(
        `${await fault(paste, stranger, before, lookup)} Our letters pass before that is reached; mail from elsewhere does not.`,
        {
          ...broken(spf, stranger, before),
          verdict: 'look',
        },
      );
  } else if (found && label === 'Add 1 part') {
    const { worst } = await evaluate(null);
    const nested = worst?.path.includes(installation.spfHost);
    if (worst?.result === 'pass' && nested)
      say(`Our record is reached by way of “${worst.term}”.`, { verdict: 'right', label: 'Right', paste: found });
    else if (worst?.result === 'pass')
      say(`It passes, though not by our include: ${worst.reason} If our addresses change, it stops passing; this line goes on.`, {
        verdict: 'look',
        label: 'Passes otherwise',
        rfc: 'RFC 7208 section 5',
      });
    else {
      const then = (await evaluate(paste)).worst;
      const cost = await countLookups(paste, lookup);
      if (worst?.result === 'permerror' || then?.result === 'permerror') {
        const why = then?.result === 'permerror' ? then : worst!;
        say(`${spf.judgement.sentence} ${await fault(paste, why, cost, lookup)}`, {
          ...broken(spf, why, cost),
          verdict: 'differs',
        });
      }
    }
  }
  const settled = spf.judgement.verdict === 'right';
  const after = settled ? before : await countLookups(spf.judgement.paste, lookup);
  if (after > MOST_SPF && spf.judgement.label !== TOO_MANY && spf.judgement.verdict !== 'look')
    say(`${spf.judgement.sentence} ${await tooMany(spf.judgement.paste, after, lookup)}`, {
      verdict: 'differs',
      label: TOO_MANY,
      rfc: LIMITS,
    });
  else if (after > 0 && spf.judgement.label !== TOO_MANY)
    say(
      `${spf.judgement.sentence} It costs ${after} of ${MOST_SPF} allowed look-ups${before !== after && found ? `, ${before} before` : ''}.`,
    );
  return { before, after };
}

/** The look-up as it would be with another SPF record at a domain. */
const instead =
  (lookup: Lookup, domain: string, record: string): Lookup =>
  async (name, type) =>
    type === 'TXT' && name.toLowerCase() === domain
      ? { kind: 'found', values: [record], ttl: 60, aliases: [] }
      : lookup(name, type);

const TOO_MANY = 'Too many look-ups';
const LIMITS = 'RFC 7208 section 4.6.4';

/** The parts of the domain's own record that make it a permanent error. */
const atFault = (evaluation: SpfEvaluation): string[] =>
  /lead to nothing/.test(evaluation.reason) ? evaluation.voidTerms.filter(Boolean) : evaluation.term ? [evaluation.term] : [];

/** A record that counts for nothing, and the same without the parts at fault. */
function broken(spf: Examined, evaluation: SpfEvaluation, cost: number): Partial<Judgement> {
  const faulty = atFault(evaluation);
  const many = cost > MOST_SPF && evaluation.section === '4.6.4';
  const kept = spf.judgement.paste.split(' ').filter((term) => !faulty.includes(term));
  return {
    verdict: 'differs',
    label: many ? TOO_MANY : 'Broken',
    rfc: `RFC 7208 section ${evaluation.section}`,
    ...(many ? {} : { paste: mergeSpf([kept.join(' ')], []) }),
  };
}

async function fault(record: string, evaluation: SpfEvaluation, cost: number, lookup: Lookup): Promise<string> {
  if (cost > MOST_SPF && evaluation.section === '4.6.4') return tooMany(record, cost, lookup);
  const faulty = atFault(evaluation).map((term) => `“${term}”`);
  const which = faulty.length ? ` At fault: ${faulty.join(', ')}.` : '';
  return `The record is broken, so receivers count it for nothing. ${evaluation.reason}${which}`;
}

async function tooMany(record: string, cost: number, lookup: Lookup): Promise<string> {
  const heavy = await heaviest(record, lookup);
  return `The record needs ${cost} look-ups and receivers stop at ${MOST_SPF}, so it counts for nothing.${heavy ? ` “${heavy.term}” alone costs ${heavy.cost}: take it out if you no longer send through it.` : ''}`;
}

/** The single include that costs most: the first candidate for removal. */
async function heaviest(record: string, lookup: Lookup): Promise<{ term: string; cost: number } | null> {
  let most: { term: string; cost: number } | null = null;
  for (const term of record
    .split(' ')
    .filter((text) => /^\+?include:/i.test(text))
    .slice(0, 12)) {
    const cost = await countLookups(`v=spf1 ${term}`, lookup);
    if (!most || cost > most.cost) most = { term, cost };
  }
  return most;
}

async function policy(
  identity: DomainIdentity,
  dmarc: Examined,
  lookup: Lookup,
  steadyDays: number,
  set: Set_,
): Promise<Examination['nextStep']> {
  const { verdict } = dmarc.judgement;
  if (verdict === 'unanswered') return null;
  const org = organisationalDomain(identity.domain);
  if (verdict === 'missing' && org !== identity.domain) {
    const above = await discoverDmarc(identity.domain, lookup);
    if (above && 'unanswered' in above)
      set(dmarc, {
        verdict: 'unanswered',
        label: 'No answer',
        sentence: `Nothing stands there, and the name servers of ${org}, whose policy would hold here too, do not answer. We ask again by ourselves.`,
      });
    const inherited = above && 'at' in above && above.values.length === 1 ? readDmarc(above.values[0]!) : null;
    if (inherited?.ok && above && 'at' in above) {
      set(dmarc, judgeInherited(dmarc, org, above.values[0]!, inherited.record));
      strictSpf(identity, dmarc, inherited.record, set);
    }
    return null;
  }
  const found = dmarc.judgement.found[0];
  const reading = found ? readDmarc(found) : null;
  if (!reading?.ok || (verdict !== 'right' && verdict !== 'look')) return null;
  const add = (sentence: string, change: Partial<Judgement> = {}) =>
    set(dmarc, { ...change, sentence: `${dmarc.judgement.sentence} ${sentence}`.trim() });
  const unwilling = await unwillingReporters(identity.domain, reading.record.reports, lookup);
  if (unwilling.length)
    add(
      `${unwilling.join(', ')} has not agreed to take reports for ${identity.domain}, so none are sent there. The policy itself works.`,
      {
        verdict: 'look',
        label: 'Reports refused',
        rfc: 'RFC 7489 section 7.1',
      },
    );
  if (reading.unknown.length)
    add(`Receivers pass over ${reading.unknown.map((name) => `${name}=`).join(', ')}, which they do not know.`, {
      verdict: 'look',
    });
  strictSpf(identity, dmarc, reading.record, set);
  const step = nextPolicy(reading.record, steadyDays);
  return step && { policy: `p=${step.policy}`, paste: withPolicy(found!, step) };
}

/** With strict alignment (RFC 7489 section 3.1) the return path below the domain no longer counts, but the signature does. */
function strictSpf(identity: DomainIdentity, dmarc: Examined, record: DmarcRecord, set: Set_): void {
  if (aligned(identity.domain, returnPathDomain(identity.domain), record.spf)) return;
  set(dmarc, {
    sentence:
      `${dmarc.judgement.sentence} SPF has to match strictly (aspf=s), which our return path below your domain does not; the signature does, and one of them is enough.`.trim(),
  });
}

const MOST_HOSTS = 8;

/** Mail hosts that can be reached by nobody take no mail: an address in place of a name (RFC 5321 section 5.1), or a name without one. */
async function lookAtReplies(replies: Examined, domain: string, lookup: Lookup, set: Set_): Promise<void> {
  const addressed = async (host: string): Promise<boolean> => {
    const answers = await Promise.all([lookup(host, 'A'), lookup(host, 'AAAA')]);
    // What is not answered for may be there.
    return answers.some((answer) => answer.kind !== 'none');
  };
  if (replies.judgement.verdict === 'unanswered') return;
  if (replies.judgement.found.length === 0) {
    if (await addressed(domain))
      set(replies, {
        verdict: 'right',
        label: 'Somebody may take them',
        sentence: 'No mail host is named, so mail goes to the address of the domain itself.',
      });
    return;
  }
  if (replies.judgement.verdict !== 'right') return;
  const judged = await Promise.all(
    replies.judgement.found.slice(0, MOST_HOSTS).map(async (host) => {
      if (ipaddr.isValid(host)) return { host, fault: `${host} is an address, and a mail host has to be a name` };
      return { host, fault: (await addressed(host)) ? null : `${host} has no address` };
    }),
  );
  const faults = judged.flatMap(({ fault }) => fault ?? []);
  if (faults.length === 0) return;
  const none = faults.length === judged.length;
  set(replies, {
    verdict: 'look',
    label: none ? 'Takes no mail' : 'Some take them',
    rfc: 'RFC 5321 section 5.1',
    sentence: `${faults.join('; ')}. ${none ? 'Nobody can deliver there, so replies to your letters are lost. Some mailboxes refuse letters from such a domain.' : 'The other mail hosts take replies.'}`,
  });
}

function logo(record: Examined, dmarc: Examined, set: Set_): void {
  if (record.judgement.verdict !== 'right') return;
  const found = dmarc.judgement.found[0];
  const reading = found ? readDmarc(found) : null;
  const strict = reading?.ok && reading.record.policy !== 'none' && reading.record.percent === 100;
  if (!strict)
    set(record, {
      verdict: 'look',
      label: 'Not shown yet',
      sentence: 'Mailboxes show it once the policy is p=quarantine or p=reject for all letters.',
    });
}

import { aligned, discoverDmarc, nextPolicy, organisationalDomain, readDmarc, unwillingReporters, withPolicy } from './dmarc';
import { aliasChain, capped, type Lookup } from './dns';
import { type Judgement, judge, right } from './judge';
import { type DomainIdentity, type Installation, returnPathDomain, type WantedRecord, wantedRecords } from './records';
import { evaluateSpf, type SpfEvaluation } from './spf/evaluate';
import { countLookups } from './spf/merge';

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
  const spfLookups = await spfCosts(spf, lookup, set);
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
        sentence: `The alias is right, and the key behind it is not found yet. We serve it ourselves; it comes within minutes.`,
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

async function spfCosts(spf: Examined, lookup: Lookup, set: Set_): Promise<{ before: number; after: number } | null> {
  if (spf.judgement.verdict === 'unanswered') return null;
  const found = spf.judgement.found.length === 1 ? spf.judgement.found[0]! : null;
  const before = found ? await countLookups(found, lookup) : 0;
  const after = spf.judgement.verdict === 'right' ? before : await countLookups(spf.judgement.paste, lookup);
  const cost = `It costs ${after} of ${MOST_SPF} allowed look-ups${before !== after && found ? `, ${before} before` : ''}.`;
  if (after > MOST_SPF) {
    const heavy = await heaviest(spf.judgement.paste, lookup);
    set(spf, {
      verdict: 'differs',
      label: 'Too many look-ups',
      rfc: 'RFC 7208 section 4.6.4',
      sentence: `${spf.judgement.verdict === 'right' ? '' : `${spf.judgement.sentence} `}The record needs ${after} look-ups and receivers stop at ${MOST_SPF}, so it counts for nothing.${heavy ? ` “${heavy.term}” alone costs ${heavy.cost}: take it out if you no longer send through it.` : ''}`,
    });
  } else if (after > 0) set(spf, { sentence: `${spf.judgement.sentence} ${cost}`.trim() });
  return { before, after };
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
    if (above && 'at' in above)
      set(dmarc, {
        sentence: `${org} has a policy that holds here too (RFC 7489 section 6.6.3). A record of its own at ${dmarc.name} lets us read the reports for ${identity.domain}.`,
      });
    return null;
  }
  const found = dmarc.judgement.found[0];
  const reading = found ? readDmarc(found) : null;
  if (!reading?.ok || (verdict !== 'right' && verdict !== 'look')) return null;
  const unwilling = await unwillingReporters(identity.domain, reading.record.reports, lookup);
  if (unwilling.length)
    set(dmarc, {
      verdict: 'look',
      label: 'Reports refused',
      rfc: 'RFC 7489 section 7.1',
      sentence: `${unwilling.join(', ')} has not agreed to take reports for ${identity.domain}, so none are sent there. The policy itself works.`,
    });
  else if (reading.unknown.length)
    set(dmarc, {
      verdict: 'look',
      label: 'Right',
      sentence: `Receivers pass over ${reading.unknown.map((name) => `${name}=`).join(', ')}, which they do not know.`,
    });
  // With strict alignment (RFC 7489 section 3.1) the return path below the domain no longer counts, but the signature does.
  else if (!aligned(identity.domain, returnPathDomain(identity.domain), reading.record.spf))
    set(dmarc, {
      sentence:
        `${dmarc.judgement.sentence} SPF has to match strictly (aspf=s), which our return path below your domain does not; the signature does, and one of them is enough.`.trim(),
    });
  const step = nextPolicy(reading.record, steadyDays);
  return step && { policy: `p=${step.policy}`, paste: withPolicy(found!, step) };
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

import { generateKeyPairSync } from 'node:crypto';
import { describe, expect, it } from 'vitest';
import { type DnsFault, type Lookup, sayFault } from './dns';
import { type Examination, examineDomain } from './examine';
import { domainState } from './judge';
import type { DomainIdentity, Installation, RecordPurpose } from './records';
import { readZone, zoneLookup } from './zone-reader';

const rsa = (bits: number) =>
  generateKeyPairSync('rsa', { modulusLength: bits }).publicKey.export({ type: 'spki', format: 'der' }).toString('base64');
const KEY = rsa(2048);
const OTHER = rsa(2048);
const WEAK = rsa(512);
const INSTALLATION: Installation = {
  spfHost: 'spf.inkset.example',
  returnPathTarget: 'in.inkset.example',
  reportsDomain: 'in.inkset.example',
  linksTarget: 'links.inkset.example',
  sendingAddresses: ['198.51.100.5'],
};
const DOMAIN = 'lanternfish.example';

/** The rest of the world: the installation's own zone, an older host with its includes, and mail hosts. */
const WORLD: Record<string, string> = {
  'inkset.example': `spf IN TXT "v=spf1 ip4:198.51.100.5 -all"
in IN A 198.51.100.9
in IN TXT "v=spf1 include:spf.inkset.example -all"
links IN A 198.51.100.8
*._report._dmarc.in IN TXT "v=DMARC1"`,
  'oldhost.example': `_spf IN TXT "v=spf1 ip4:203.0.113.0/24 ~all"
mx IN A 203.0.113.7
out IN A 198.51.100.5
viaus IN MX 10 out.oldhost.example.
198.51.100.5._ok IN A 127.0.0.2
_nest IN TXT "v=spf1 include:spf.inkset.example ~all"
_wrong IN TXT "v=spf1 ip4:999.1.1.1 ~all"
_heavy IN TXT "v=spf1 include:_h1.oldhost.example include:_h2.oldhost.example a mx ~all"
_h1 IN TXT "v=spf1 a:x.oldhost.example a:y.oldhost.example a:z.oldhost.example ~all"
_h2 IN TXT "v=spf1 a:x.oldhost.example a:y.oldhost.example a:z.oldhost.example ~all"
_round IN TXT "v=spf1 include:_round2.oldhost.example ~all"
_round2 IN TXT "v=spf1 include:_round.oldhost.example ~all"`,
  'reports.test': '',
  'postbird.example': 'mx IN A 203.0.113.30',
};
const zones = Object.entries(WORLD).map(([origin, text]) => readZone(text, origin));

function world(text: string, faults: Partial<Record<string, DnsFault>> = {}): Lookup {
  let lookup: Lookup = async () => ({ kind: 'none', exists: false, ttl: 60 });
  for (const zone of zones) lookup = zoneLookup(zone, lookup);
  const own = zoneLookup(readZone(text, DOMAIN), lookup);
  return async (name, type) => {
    const fault = faults[`${type} ${name}`] ?? faults[name] ?? faults['*'];
    return fault ? { kind: 'unanswered', fault } : own(name, type);
  };
}
const IDENTITY: DomainIdentity = {
  domain: DOMAIN,
  active: { selector: 'ink1', publicKey: KEY, algorithm: 'rsa' },
  reportsToken: 'd-7f2',
};
const quoted = (value: string) => (value.match(/.{1,255}/g) ?? []).map((part) => `"${part}"`).join(' ');

const DKIM = `ink1._domainkey IN TXT ${quoted(`v=DKIM1; k=rsa; p=${KEY}`)}`;
const SPF = '@ IN TXT "v=spf1 include:spf.inkset.example ~all"';
const BOUNCE = 'bounce IN CNAME in.inkset.example.';
const POLICY = '_dmarc IN TXT "v=DMARC1; p=none; rua=mailto:d-7f2@in.inkset.example"';
const MX = '@ IN MX 10 mx.postbird.example.';
const GOOD = [DKIM, SPF, BOUNCE, POLICY, MX];
/** The good zone with one kind of line changed. */
const but = (old: string, ...lines: string[]) => [...GOOD.filter((line) => line !== old), ...lines].join('\n');
const run = (text: string, faults: Partial<Record<string, DnsFault>> = {}, identity = IDENTITY, days = 0) =>
  examineDomain(identity, INSTALLATION, world(text, faults), days);
const of = (found: Examination, purpose: RecordPurpose) => found.records.find((record) => record.purpose === purpose)!.judgement;
const txt = (host: string, ...values: string[]) =>
  values.map((value) => `${host} IN TXT ${quoted(value.replace(/"/g, '\\"'))}`).join('\n');
const dkim = (value: string) => but(DKIM, txt('ink1._domainkey', value));
const spf = (...values: string[]) => but(SPF, txt('@', ...values));
const dmarc = (...values: string[]) => but(POLICY, txt('_dmarc', ...values));
const bounce = (...lines: string[]) => but(BOUNCE, ...lines);
const alias = (target: string) => bounce(`bounce IN CNAME ${target}`);
const RUA = 'rua=mailto:d-7f2@in.inkset.example';

type Situation = [name: string, zone: string, label: string, words?: string | RegExp, paste?: string];

describe('a domain whose records are all right', () => {
  it('is authenticated, and a letter of ours passes SPF by its return path', async () => {
    const found = await run(GOOD.join('\n'));
    expect(found.records.filter((r) => r.needed).map((r) => r.judgement.verdict)).toEqual(['right', 'right', 'right', 'right']);
    expect(domainState(found.records.map((r) => ({ needed: r.needed, verdict: r.judgement.verdict })))).toBe('authenticated');
    expect(found.envelope.result).toBe('pass');
    expect(found.spfLookups).toEqual({ before: 1, after: 1 });
  });
  it('with nothing published says so of each record', async () => {
    const found = await run('');
    expect(found.records.filter((r) => r.needed).map((r) => r.judgement.label)).toEqual(Array(4).fill('Not there yet'));
    expect(domainState(found.records.map((r) => ({ needed: r.needed, verdict: r.judgement.verdict })))).toBe('incomplete');
  });
});

describe('the signature (DKIM)', () => {
  it.each<Situation>([
    ['in one piece', dkim(`v=DKIM1; k=rsa; p=${KEY}`), 'Right'],
    ['without its version, which may be left out', dkim(`k=rsa; p=${KEY}`), 'Right'],
    ['without its type, which is RSA then', dkim(`v=DKIM1; p=${KEY}`), 'Right'],
    ['with spaces in the key', dkim(`v=DKIM1; k=rsa; p=${KEY.slice(0, 90)} ${KEY.slice(90, 200)}  ${KEY.slice(200)}`), 'Right'],
    ['with notes and a closing semicolon', dkim(`v=DKIM1; k=rsa; n=hello; p=${KEY};`), 'Right'],
    ['with capital tag names', dkim(`v=DKIM1; K=rsa; P=${KEY}`), 'Right'],
    [
      'by an alias to another name',
      but(DKIM, `ink1._domainkey IN CNAME key.oldplace\nkey.oldplace ${DKIM.replace('ink1._domainkey ', '')}`),
      'Right',
    ],
    ['with flag s', dkim(`v=DKIM1; k=rsa; t=s; p=${KEY}`), 'Right'],
    ['another key', dkim(`v=DKIM1; k=rsa; p=${OTHER}`), 'Another key', 'is not ours'],
    ['another key that is too short', dkim(`v=DKIM1; k=rsa; p=${WEAK}`), 'Too short a key', 'only 512 bits'],
    ['another key that only tests', dkim(`v=DKIM1; k=rsa; t=y; p=${OTHER}`), 'Another key', /not ours.*only a test/],
    ['cut after 255 letters', dkim(`v=DKIM1; k=rsa; p=${KEY}`.slice(0, 255)), 'Cut short', 'several quoted parts'],
    ['revoked', dkim('v=DKIM1; k=rsa; p='), 'Revoked'],
    ['only testing', dkim(`v=DKIM1; k=rsa; t=y; p=${KEY}`), 'Only testing', undefined, `v=DKIM1; k=rsa; p=${KEY}`],
    ['testing beside another flag', dkim(`v=DKIM1; k=rsa; t=s:y; p=${KEY}`), 'Only testing'],
    ['with quotation marks pasted in', dkim(`"v=DKIM1; k=rsa; p=${KEY}"`), 'Cannot be read', 'Quotation marks'],
    ['with a wrong version', dkim(`v=DKIM2; k=rsa; p=${KEY}`), 'Cannot be read'],
    ['with the version not first', dkim(`k=rsa; v=DKIM1; p=${KEY}`), 'Cannot be read', 'has to come first'],
    ['with a type nobody knows', dkim(`v=DKIM1; k=dsa; p=${KEY}`), 'Cannot be read', '“dsa”'],
    ['for SHA-1 only', dkim(`v=DKIM1; h=sha1; k=rsa; p=${KEY}`), 'Cannot be read', 'sha256'],
    ['not for email', dkim(`v=DKIM1; s=tlsrpt; k=rsa; p=${KEY}`), 'Cannot be read', 'does not allow email'],
    ['with a key that is no base64', dkim('v=DKIM1; k=rsa; p=MIIB§§§'), 'Cannot be read'],
    ['with a tag twice', dkim(`v=DKIM1; k=rsa; k=rsa; p=${KEY}`), 'Cannot be read'],
    ['twice', but(DKIM, DKIM, txt('ink1._domainkey', `v=DKIM1; k=rsa; p=${OTHER}`)), '2 records', 'Keep only this one'],
    ['something else', dkim('hello'), 'Not a key'],
    ['an SPF record by a wildcard', but(DKIM, '* IN TXT "v=spf1 -all"'), 'Not a key', 'wildcard'],
  ])('%s', async (_name, zone, label, words, paste) => {
    const found = of(await run(zone), 'dkim');
    expect(found.label).toBe(label);
    if (words) expect(found.sentence).toMatch(words);
    if (paste) expect(found.paste).toBe(paste);
    if (label === 'Right') expect(found.verdict).toBe('right');
  });
});

const SPF_INKSET = 'include:spf.inkset.example';
describe('who may send (SPF)', () => {
  it.each<Situation>([
    ['ours alone', spf(`v=spf1 ${SPF_INKSET} ~all`), 'Right', '1 of 10 allowed'],
    ['ours among others', spf(`v=spf1 include:_spf.oldhost.example ${SPF_INKSET} -all`), 'Right', '2 of 10 allowed'],
    ['in capital letters', spf(`V=SPF1 INCLUDE:spf.INKSET.example ~ALL`), 'Right'],
    ['with a plus sign', spf(`v=spf1 +${SPF_INKSET} ~all`), 'Right'],
    ['without an end', spf(`v=spf1 ${SPF_INKSET}`), 'Right'],
    ['other TXT records beside it', but(SPF, SPF, txt('@', 'site-check=1', 'hello')), 'Right'],
    [
      'another host only',
      spf('v=spf1 include:_spf.oldhost.example ~all'),
      'Add 1 part',
      'Do not add a second',
      `v=spf1 include:_spf.oldhost.example ${SPF_INKSET} ~all`,
    ],
    ['a strict one of another host', spf('v=spf1 a mx -all'), 'Add 1 part', undefined, `v=spf1 a mx ${SPF_INKSET} -all`],
    ['one that lets nobody send', spf('v=spf1 -all'), 'Add 1 part', undefined, `v=spf1 ${SPF_INKSET} -all`],
    [
      'one that hands on',
      spf('v=spf1 redirect=_spf.oldhost.example'),
      'Add 1 part',
      'hands on',
      `v=spf1 ${SPF_INKSET} redirect=_spf.oldhost.example`,
    ],
    ['two', spf('v=spf1 a ~all', `v=spf1 ${SPF_INKSET} -all`), '2 records', 'both invalid', `v=spf1 a ${SPF_INKSET} -all`],
    [
      'three with the same parts',
      spf('v=spf1 a mx ~all', 'v=spf1 +a ?all', 'v=spf1 mx ~all'),
      '3 records',
      undefined,
      `v=spf1 a mx ${SPF_INKSET} ~all`,
    ],
    [
      'two of which one lets everybody send',
      spf('v=spf1 a +all', 'v=spf1 mx'),
      '2 records',
      undefined,
      `v=spf1 a mx ${SPF_INKSET} ~all`,
    ],
    ['everybody', spf(`v=spf1 ${SPF_INKSET} +all`), 'Lets anyone send', undefined, `v=spf1 ${SPF_INKSET} ~all`],
    ['everybody without a sign', spf(`v=spf1 ${SPF_INKSET} all`), 'Lets anyone send'],
    ['ours after the end', spf(`v=spf1 a -all ${SPF_INKSET}`), 'Never read', undefined, `v=spf1 a ${SPF_INKSET} -all`],
    ['ours with a minus', spf(`v=spf1 -${SPF_INKSET} ~all`), 'Says no', undefined, `v=spf1 ${SPF_INKSET} ~all`],
    [
      'a term nobody knows',
      spf(`v=spf1 ${SPF_INKSET} inclde:x.example ~all`),
      'Cannot be read',
      '“inclde:x.example”',
      `v=spf1 ${SPF_INKSET} ~all`,
    ],
    ['a broken address', spf('v=spf1 ip4:300.1.2.3 ~all'), 'Cannot be read', 'IPv4'],
    ['an include without a domain', spf('v=spf1 include: ~all'), 'Cannot be read'],
    ['a comma between the parts', spf('v=spf1 a,mx ~all'), 'Cannot be read'],
    ['an older version', spf('v=spf2.0/pra a ~all'), 'Cannot be read', 'exactly v=spf1'],
    ['a space before the version', spf('v =spf1 a ~all'), 'Cannot be read'],
    [
      'more than ten look-ups',
      spf(`v=spf1 include:_heavy.oldhost.example ${SPF_INKSET} ~all`),
      'Too many look-ups',
      /needs 12 look-ups.*“include:_heavy\.oldhost\.example” alone costs 11/,
    ],
    [
      'more than ten once ours is in',
      spf('v=spf1 a mx a:b.example a:c.example a:d.example a:e.example a:f.example a:g.example a:h.example a:i.example ~all'),
      'Too many look-ups',
      'needs 11',
    ],
    [
      'includes in a circle before ours',
      spf(`v=spf1 include:_round.oldhost.example ${SPF_INKSET} ~all`),
      'Broken',
      /At fault: “include:_round\.oldhost\.example”/,
      `v=spf1 ${SPF_INKSET} ~all`,
    ],
    [
      'includes in a circle after ours: our letters pass',
      spf(`v=spf1 ${SPF_INKSET} include:_round.oldhost.example ~all`),
      'Broken',
      /At fault: “include:_round\.oldhost\.example”.*Our letters pass/,
      `v=spf1 ${SPF_INKSET} ~all`,
    ],
    [
      'an include without a record',
      spf(`v=spf1 include:nothing.oldhost.example ${SPF_INKSET} ~all`),
      'Broken',
      /leads nowhere.*At fault: “include:nothing\.oldhost\.example”/,
      `v=spf1 ${SPF_INKSET} ~all`,
    ],
    [
      'an include of one that is broken itself',
      spf(`v=spf1 include:_wrong.oldhost.example ${SPF_INKSET} ~all`),
      'Broken',
      /“ip4:999\.1\.1\.1” in the record of _wrong\.oldhost\.example.*At fault: “include:_wrong\.oldhost\.example”/,
    ],
    [
      'three look-ups that lead to nothing',
      spf(`v=spf1 a:n1.oldhost.example a:n2.oldhost.example mx:n3.oldhost.example ${SPF_INKSET} ~all`),
      'Broken',
      /More than 2 look-ups lead to nothing.*“a:n1\.oldhost\.example”, “a:n2\.oldhost\.example”, “mx:n3\.oldhost\.example”/,
      `v=spf1 ${SPF_INKSET} ~all`,
    ],
    ['two look-ups that lead to nothing', spf(`v=spf1 a:n1.oldhost.example a:n2.oldhost.example ${SPF_INKSET} ~all`), 'Right'],
    ['straight on to our record', spf('v=spf1 redirect=spf.inkset.example'), 'Right', 'hands on to our record'],
    ['ours within another include', spf('v=spf1 include:_nest.oldhost.example ~all'), 'Right', 'by way of “include:_nest'],
    [
      'our address itself',
      spf('v=spf1 ip4:198.51.100.5 -all'),
      'Passes otherwise',
      'though not by our include',
      `v=spf1 ip4:198.51.100.5 ${SPF_INKSET} -all`,
    ],
    ['our network', spf('v=spf1 ip4:198.51.100.0/24 -all'), 'Passes otherwise'],
    ['by a name of ours', spf('v=spf1 a:out.oldhost.example -all'), 'Passes otherwise'],
    ['by a mail host', spf('v=spf1 mx:viaus.oldhost.example -all'), 'Passes otherwise'],
    ['by a macro', spf('v=spf1 exists:%{i}._ok.oldhost.example -all'), 'Passes otherwise'],
    [
      'one that says no to us before',
      spf(`v=spf1 -ip4:198.51.100.5 ${SPF_INKSET} ~all`),
      'Decided before',
      '“-ip4:198.51.100.5”',
      `v=spf1 ${SPF_INKSET} -ip4:198.51.100.5 ~all`,
    ],
    [
      'more than ten look-ups after ours',
      spf(`v=spf1 ${SPF_INKSET} include:_heavy.oldhost.example ~all`),
      'Too many look-ups',
      /needs 12 look-ups.*Our letters pass/,
    ],
    ['macros', spf(`v=spf1 exists:%{i}._ok.${DOMAIN} ${SPF_INKSET} ~all`), 'Right', '2 of 10'],
  ])('%s', async (_name, zone, label, words, paste) => {
    const found = of(await run(zone), 'spf');
    expect(found.label).toBe(label);
    if (words) expect(found.sentence).toMatch(words);
    if (paste) expect(found.paste).toBe(paste);
  });
});

describe('our own record, which all the others point to', () => {
  it.each([
    ['is not there', {}, 'no SPF record'],
    ['does not name our address', { 'spf.inkset.example': ['v=spf1 ip4:203.0.113.1 -all'] }, '“-all” of spf.inkset.example'],
    ['is broken', { 'spf.inkset.example': ['v=spf1 ip4:1 -all'] }, 'cannot be read'],
  ])(
    '%s: the domain’s is right all the same, and it is said whose fault it is',
    async (_, ours: Record<string, string[]>, words) => {
      const known = world(GOOD.join('\n'));
      const found = await examineDomain(IDENTITY, INSTALLATION, async (name, type) => {
        if (name !== 'spf.inkset.example') return known(name, type);
        return ours[name]
          ? { kind: 'found', values: ours[name], ttl: 60, aliases: [] }
          : { kind: 'none', exists: false, ttl: 60 };
      });
      expect(of(found, 'spf')).toMatchObject({ verdict: 'look', label: 'Ours is broken' });
      expect(of(found, 'spf').sentence).toContain(words);
    },
  );
});

describe('bounces (return path)', () => {
  it.each<Situation>([
    ['in capitals with a dot', alias('IN.Inkset.Example.'), 'Right'],
    ['to another host', alias('mx.oldhost.example.'), 'Points elsewhere', 'another host'],
    ['with its own domain behind', alias('in.inkset.example'), 'Name doubled', 'Type a dot', 'in.inkset.example.'],
    [
      'by a detour',
      bounce('bounce IN CNAME mail', 'mail IN CNAME in.inkset.example.'),
      'By a detour',
      'by way of mail.lanternfish.example',
    ],
    ['in a circle', bounce('bounce IN CNAME mail', 'mail IN CNAME bounce'), 'In a circle', 'back to where they began'],
    ['to itself', bounce('bounce IN CNAME bounce'), 'In a circle'],
    ['a name in use', bounce('bounce IN A 203.0.113.4'), 'Name in use', 'cannot stand beside'],
    ['a mail host of its own', bounce('bounce IN MX 10 mx.oldhost.example.'), 'Name in use'],
    [
      'our mail host without an alias',
      bounce('bounce IN MX 10 in.inkset.example.', 'bounce IN TXT "v=spf1 include:spf.inkset.example -all"'),
      'Right',
      'works as well',
    ],
    ['our mail host without SPF', bounce('bounce IN MX 10 in.inkset.example.'), 'Points to us', 'SPF there gives “none”'],
    ['a wildcard to another host', bounce('* IN CNAME www.oldhost.example.'), 'Points elsewhere'],
    [
      'two aliases',
      bounce('bounce IN CNAME in.inkset.example.', 'bounce IN CNAME mx.oldhost.example.'),
      '2 records',
      'one alias only',
    ],
  ])('%s', async (_name, zone, label, words, paste) => {
    const found = of(await run(zone), 'return-path');
    expect(found.label).toBe(label);
    if (words) expect(found.sentence).toMatch(words);
    if (paste) expect(found.paste).toBe(paste);
  });
});

describe('the policy (DMARC)', () => {
  it.each<Situation>([
    ['strict', dmarc(`v=DMARC1; p=reject; ${RUA}`), 'Right'],
    [
      'with a subdomain policy and strict alignment',
      dmarc(`v=DMARC1; p=quarantine; sp=none; adkim=s; aspf=s; ${RUA}`),
      'Right',
      'has to match strictly',
    ],
    ['with a size limit on reports', dmarc(`v=DMARC1; p=none; ${RUA}!10m`), 'Right'],
    ['with spaces', dmarc(`v = DMARC1 ; p = none ; ${RUA}`), 'Right'],
    ['without reports', dmarc('v=DMARC1; p=reject'), 'Right', 'right as it is', `v=DMARC1; p=reject; ${RUA}`],
    ['none', dmarc('v=DMARC1; p=none'), 'Right', 'no reports'],
    ['quarantine', dmarc('v=DMARC1; p=quarantine'), 'Right', 'no reports'],
    ['with a policy for subdomains', dmarc('v=DMARC1; p=reject; sp=quarantine'), 'Right', 'no reports'],
    ['for half of the letters, without reports', dmarc('v=DMARC1; p=reject; pct=50'), 'Right, in part', /50 in 100.*no reports/],
    ['with odd spacing', dmarc('v=DMARC1;p=reject ;  adkim=r;;aspf=r ; '), 'Right', 'no reports'],
    ['in two strings', but(POLICY, '_dmarc IN TXT "v=DMARC1; p=re" "ject; fo=1"'), 'Right', 'no reports'],
    ['beside other TXT values', but(POLICY, txt('_dmarc', 'site-check=7', 'v=DMARC1; p=none')), 'Right', 'no reports'],
    ['with reports to a host that agreed', dmarc('v=DMARC1; p=none; rua=mailto:x@in.inkset.example'), 'Right', 'no reports'],
    [
      'with reports to a host that did not agree',
      dmarc('v=DMARC1; p=none; rua=mailto:x@reports.test'),
      'Reports refused',
      /no reports.*reports\.test has not agreed/,
    ],
    [
      'with reports elsewhere',
      dmarc('v=DMARC1; p=none; rua=mailto:a@lanternfish.example; fo=1'),
      'Right',
      'no reports',
      'v=DMARC1; p=none; rua=mailto:a@lanternfish.example,mailto:d-7f2@in.inkset.example; fo=1',
    ],
    ['for a part of the letters', dmarc(`v=DMARC1; p=quarantine; pct=25; ${RUA}`), 'Right, in part', '25 in 100'],
    [
      'with a reporter that refuses',
      dmarc(`v=DMARC1; p=none; ${RUA},mailto:x@reports.test`),
      'Reports refused',
      'reports.test has not agreed',
    ],
    ['with a tag nobody knows', dmarc(`v=DMARC1; p=none; zz=1; ${RUA}`), 'Right', 'zz='],
    ['twice', dmarc(`v=DMARC1; p=none; ${RUA}`, 'v=DMARC1; p=reject'), '2 records', 'read as none'],
    ['without p=', dmarc(`v=DMARC1; ${RUA}`), 'Cannot be read', 'no policy'],
    ['with a wrong p=', dmarc(`v=DMARC1; p=monitor; ${RUA}`), 'Cannot be read', '“p=monitor”'],
    ['with a wrong sp=', dmarc(`v=DMARC1; p=none; sp=all; ${RUA}`), 'Cannot be read', '“sp=all”'],
    ['with pct beyond 100', dmarc(`v=DMARC1; p=none; pct=120; ${RUA}`), 'Cannot be read', 'pct='],
    ['with a report address without mailto', dmarc('v=DMARC1; p=none; rua=d-7f2@in.inkset.example'), 'Cannot be read', 'mailto:'],
    ['in small letters', dmarc(`v=dmarc1; p=none; ${RUA}`), 'Cannot be read', 'exactly v=DMARC1'],
    ['with commas', dmarc(`v=DMARC1, p=none, ${RUA}`), 'Cannot be read'],
    ['an SPF record by a wildcard', but(POLICY, '* IN TXT "v=spf1 -all"'), 'Not a policy', 'wildcard'],
  ])('%s', async (_name, zone, label, words, paste) => {
    const found = of(await run(zone), 'dmarc');
    expect(found.label).toBe(label);
    if (words) expect(found.sentence).toMatch(words);
    if (paste) expect(found.paste).toBe(paste);
    // No policy that receivers can read keeps letters back.
    if (/^(Right|Reports refused)/.test(label)) expect(['right', 'look']).toContain(found.verdict);
  });

  it('proposes the next step only after two steady weeks, and changes nothing else', async () => {
    const zone = dmarc(`v=DMARC1; p=none; ${RUA}; fo=1`);
    expect((await run(zone, {}, IDENTITY, 13)).nextStep).toBeNull();
    expect((await run(zone, {}, IDENTITY, 14)).nextStep).toEqual({
      policy: 'p=quarantine',
      paste: `v=DMARC1; p=quarantine; ${RUA}; fo=1`,
    });
    expect((await run(dmarc(`v=DMARC1; p=quarantine; pct=20; ${RUA}`), {}, IDENTITY, 20)).nextStep?.paste).toBe(
      `v=DMARC1; p=quarantine; ${RUA}`,
    );
    expect((await run(dmarc(`v=DMARC1; p=quarantine; ${RUA}`), {}, IDENTITY, 20)).nextStep?.policy).toBe('p=reject');
    expect((await run(dmarc(`v=DMARC1; p=reject; ${RUA}`), {}, IDENTITY, 90)).nextStep).toBeNull();
  });

  it('of the domain above holds for a subdomain, and is said to', async () => {
    const identity = { ...IDENTITY, domain: `post.${DOMAIN}` };
    const found = of(await run(POLICY, {}, identity), 'dmarc');
    expect(found).toMatchObject({ verdict: 'right', label: 'From the domain above', found: [`v=DMARC1; p=none; ${RUA}`] });
    expect(found.sentence).toContain('The policy of lanternfish.example holds here too (p=none)');
  });
  it.each([
    ['as strict for subdomains', 'v=DMARC1; p=reject; adkim=s; pct=40', `v=DMARC1; p=reject; adkim=s; pct=40; ${RUA}`],
    ['another for subdomains', 'v=DMARC1; p=reject; sp=quarantine', `v=DMARC1; p=quarantine; ${RUA}`],
  ])('of the domain above, %s: a line to paste is never weaker', async (_, above, paste) => {
    const identity = { ...IDENTITY, domain: `post.${DOMAIN}` };
    const found = of(await run(txt('_dmarc', above), {}, identity), 'dmarc');
    expect(found).toMatchObject({ verdict: 'right', paste });
  });
  it('of the domain above that cannot be read is none, and one that is not answered for is waited for', async () => {
    const identity = { ...IDENTITY, domain: `post.${DOMAIN}` };
    expect(of(await run(txt('_dmarc', 'v=DMARC1; p=maybe'), {}, identity), 'dmarc').verdict).toBe('missing');
    expect(of(await run(txt('_dmarc', 'v=DMARC1; p=none', 'v=DMARC1; p=reject'), {}, identity), 'dmarc').verdict).toBe('missing');
    const silent = of(await run('', { [`_dmarc.${DOMAIN}`]: 'timeout' }, identity), 'dmarc');
    expect(silent).toMatchObject({ verdict: 'unanswered', sentence: expect.stringContaining('lanternfish.example') });
  });
});

describe('what is only looked at', () => {
  it.each<[RecordPurpose, string, string, string?]>([
    ['replies', GOOD.join('\n'), 'Somebody takes them'],
    ['replies', but(MX), 'Nobody takes them', 'may be lost'],
    ['replies', but(MX, '@ IN A 203.0.113.9'), 'Somebody may take them', 'the domain itself'],
    ['replies', but(MX, '@ IN MX 10 203.0.113.9.'), 'Takes no mail', 'is an address'],
    ['replies', but(MX, '@ IN MX 10 nobody.oldhost.example.'), 'Takes no mail', 'nobody.oldhost.example has no address'],
    [
      'replies',
      but(MX, '@ IN MX 10 nobody.oldhost.example.', '@ IN MX 20 mx.oldhost.example.'),
      'Some take them',
      'The other mail hosts take replies',
    ],
    ['replies', but(MX, '@ IN MX 0 .'), 'Takes no mail', 'null MX'],
    ['links', GOOD.join('\n'), 'Not there'],
    ['links', [...GOOD, 'go IN CNAME links.inkset.example.'].join('\n'), 'Right'],
    ['links', [...GOOD, 'go IN CNAME www.oldhost.example.'].join('\n'), 'Points elsewhere'],
    ['logo', GOOD.join('\n'), 'Not there'],
    ['logo', [...GOOD, 'default._bimi IN TXT "v=BIMI1; l=https://lanternfish.example/logo.svg"'].join('\n'), 'Not shown yet'],
    ['logo', [...GOOD, 'default._bimi IN TXT "v=BIMI1; l=http://lanternfish.example/logo.png"'].join('\n'), 'Cannot be used'],
    [
      'logo',
      [dmarc(`v=DMARC1; p=reject; ${RUA}`), 'default._bimi IN TXT "v=BIMI1; l=https://lanternfish.example/logo.svg"'].join('\n'),
      'Ready',
    ],
  ])('%s: %#', async (purpose, zone, label, words) => {
    const found = of(await run(zone), purpose);
    expect(found.label).toBe(label);
    if (words) expect(found.sentence).toContain(words);
    const all = (await run(zone)).records;
    expect(domainState(all.map((r) => ({ needed: r.needed, verdict: r.judgement.verdict })))).toBe('authenticated');
  });
});

describe('a name server that does not answer', () => {
  it.each<[DnsFault, string]>([
    ['timeout', 'No answer'],
    ['servfail', 'No answer'],
    ['refused', 'No answer'],
    ['malformed', 'No answer'],
    ['bogus', 'DNSSEC broken'],
    ['lame', 'Wrong name server'],
    ['loop', 'No answer'],
  ])('%s is told apart from "missing"', async (fault, label) => {
    const found = await run(GOOD.join('\n'), { '*': fault });
    for (const record of found.records.filter((r) => r.needed)) {
      expect(record.judgement).toMatchObject({ verdict: 'unanswered', label });
      expect(record.judgement.sentence).toContain(sayFault(fault));
    }
    expect(domainState(found.records.map((r) => ({ needed: r.needed, verdict: r.judgement.verdict })))).toBe('unknown');
  });
  it('for one name only spoils that record', async () => {
    const found = await run(GOOD.join('\n'), { [`TXT ${DOMAIN}`]: 'servfail' });
    expect(of(found, 'spf').verdict).toBe('unanswered');
    expect(of(found, 'dkim').verdict).toBe('right');
    expect(found.spfLookups).toBeNull();
  });
});

describe('keys beside the active one', () => {
  it('are judged for themselves and hold nothing up', async () => {
    const ed = Buffer.alloc(32, 7).toString('base64');
    const identity: DomainIdentity = {
      ...IDENTITY,
      next: { selector: 'ink2', publicKey: OTHER, algorithm: 'rsa' },
      second: { selector: 'ink3', publicKey: ed, algorithm: 'ed25519' },
    };
    const bare = await run(GOOD.join('\n'), {}, identity);
    expect([of(bare, 'dkim-next').label, of(bare, 'dkim-ed25519').label]).toEqual(['Not there', 'Not there']);
    const full = await run(
      [...GOOD, txt('ink2._domainkey', `v=DKIM1; k=rsa; p=${OTHER}`), txt('ink3._domainkey', `v=DKIM1; k=ed25519; p=${ed}`)].join(
        '\n',
      ),
      {},
      identity,
    );
    expect([of(full, 'dkim-next').label, of(full, 'dkim-ed25519').label]).toEqual(['Right', 'Right']);
  });
});

describe('keys behind aliases', () => {
  const identity: DomainIdentity = { ...IDENTITY, active: { ...IDENTITY.active, alias: 'ink1.d7.keys.inkset.example' } };
  const served = `ink1.d7.keys IN TXT ${quoted(`v=DKIM1; k=rsa; p=${KEY}`)}`;
  const check = async (lines: string, keys: string) => {
    const inkset = zoneLookup(readZone(keys, 'inkset.example'), world(''));
    return of(await examineDomain(identity, INSTALLATION, zoneLookup(readZone(lines, DOMAIN), inkset)), 'dkim');
  };
  const there = 'ink1._domainkey IN CNAME ink1.d7.keys.inkset.example.';
  it.each<[string, string, string, string, string?]>([
    ['published and served', there, served, 'Right'],
    ['published, not served yet', there, '', 'Not there yet', 'within minutes'],
    ['not published', '', served, 'Not there yet', 'No CNAME record'],
    ['the key itself instead', DKIM, served, 'Right', 'needs nothing from you'],
    ['an alias to another service', 'ink1._domainkey IN CNAME k1.oldhost.example.', served, 'Points elsewhere', 'is not ours'],
  ])('%s', async (_name, lines, keys, label, words) => {
    const found = await check(lines, keys);
    expect(found.label).toBe(label);
    if (words) expect(found.sentence).toContain(words);
  });
});

describe('a domain below another one', () => {
  it('has hosts as the DNS host of the whole zone wants them typed', async () => {
    const identity = { ...IDENTITY, domain: `post.${DOMAIN}`, zone: DOMAIN };
    const found = await run('', {}, identity);
    expect(found.records.filter((r) => r.needed).map((r) => r.host)).toEqual([
      'ink1._domainkey.post',
      'post',
      'bounce.post',
      '_dmarc.post',
    ]);
  });
});

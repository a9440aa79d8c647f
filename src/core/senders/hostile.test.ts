import fc from 'fast-check';
import { spf as otherImplementation } from 'mailauth/lib/spf';
import { describe, expect, it } from 'vitest';
import { difference } from './difference';
import { readDkimKey } from './dkim-key';
import { aligned, organisationalDomain, readDmarc } from './dmarc';
import { capped, type DnsAnswer, isAskable, type Lookup, type RecordType } from './dns';
import { examineDomain } from './examine';
import { freeMailWarning } from './free-mail';
import { judge } from './judge';
import { lookAlikeWarning } from './look-alike';
import { wantedRecords } from './records';
import { evaluateSpf, reverseName } from './spf/evaluate';
import { expandMacros } from './spf/macros';
import { mergeSpf } from './spf/merge';
import { parseSpf } from './spf/parse';
import { recordsAsText, zoneFile } from './zone-file';
import { readZone, zoneLookup } from './zone-reader';

const IDENTITY = {
  domain: 'lanternfish.example',
  active: { selector: 'ink1', publicKey: 'QUJD', algorithm: 'rsa' as const },
  reportsToken: 'd-1',
};
const INSTALLATION = {
  spfHost: 'spf.inkset.example',
  returnPathTarget: 'in.inkset.example',
  reportsDomain: 'in.inkset.example',
  linksTarget: 'links.inkset.example',
  sendingAddresses: ['198.51.100.5'],
};

const word = fc.constantFrom(
  'v=spf1',
  'v=DMARC1',
  'v=DKIM1',
  'include:',
  'a',
  'mx',
  'exists:',
  'redirect=',
  '~all',
  '+all',
  'ip4:',
  'ip6:',
  '%{i}',
  '%{d1r}',
  '%',
  '/',
  ':',
  '=',
  ';',
  ' ',
  '"',
  '.',
  'p=',
  'none',
  'x.example',
  '\\',
  '(',
  ')',
  '$ORIGIN',
  '@',
  'IN',
  'TXT',
  '\n',
  'ä',
);
const junk = fc.oneof(
  fc.string({ unit: 'binary', maxLength: 300 }),
  fc.array(word, { maxLength: 30 }).map((words) => words.join('')),
);
const answer: fc.Arbitrary<DnsAnswer> = fc.oneof(
  fc.array(junk, { maxLength: 4 }).map((values) => ({ kind: 'found' as const, values, ttl: 60, aliases: [] })),
  fc.constantFrom<DnsAnswer>(
    { kind: 'none', exists: false, ttl: 60 },
    { kind: 'unanswered', fault: 'timeout' },
    { kind: 'unanswered', fault: 'bogus' },
  ),
);

describe('whatever stands in DNS', () => {
  it('no reader throws', () => {
    fc.assert(
      fc.property(junk, junk, (a, b) => {
        parseSpf(a);
        readDkimKey(a);
        readDmarc(a);
        readZone(a, 'lanternfish.example');
        mergeSpf([a, b], ['include:x.example']);
        expandMacros(a, { ip: '198.51.100.5', sender: 'a@b.example', helo: 'h', domain: 'b.example' });
        difference(a, b);
        lookAlikeWarning(a, [b]);
        freeMailWarning(a);
        aligned(a, b, 'r');
      }),
      { numRuns: 600 },
    );
  });

  it('no judgement throws, and each has a label and a sentence or is right', () => {
    fc.assert(
      fc.property(answer, (said) => {
        for (const wanted of wantedRecords(IDENTITY, INSTALLATION)) {
          const found = judge(wanted, said);
          expect(found.label).not.toBe('');
          if (found.verdict !== 'right') expect(found.sentence).not.toBe('');
        }
      }),
    );
  });

  it('no check throws or asks more than 80 different questions', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(answer, { minLength: 1, maxLength: 6 }), async (answers) => {
        const asked = new Set<string>();
        const lookup: Lookup = async (name, type) => {
          asked.add(`${type} ${name}`);
          return answers[(name.length + type.length) % answers.length]!;
        };
        await examineDomain(IDENTITY, INSTALLATION, lookup);
        expect(asked.size).toBeLessThanOrEqual(80);
      }),
      { numRuns: 150 },
    );
  });

  it.each<[string, (name: string, type: RecordType) => string[] | null]>([
    [
      'a thousand includes in one record',
      (name) =>
        name === 'lanternfish.example'
          ? [`v=spf1 ${Array.from({ length: 1000 }, (_, n) => `include:i${n}.x.example`).join(' ')} ~all`]
          : ['v=spf1 -all'],
    ],
    [
      'includes that never end',
      (name) => [`v=spf1 include:${(name.split('.')[0] ?? '').length > 40 ? 'a' : `a${name.split('.')[0]}`}.x.example ~all`],
    ],
    ['aliases that never end', (name, type) => (type === 'CNAME' ? [`a${name}`.slice(-60)] : null)],
    [
      'a hundred mail hosts',
      (_name, type) =>
        type === 'MX'
          ? Array.from({ length: 100 }, (_, n) => `${n} h${n}.x.example`)
          : type === 'TXT'
            ? ['v=spf1 mx ~all']
            : null,
    ],
    ['redirects in a circle', (name) => [`v=spf1 redirect=${name.startsWith('b') ? 'c' : 'b'}.x.example`]],
  ])('%s stays inside the caps', async (_name, say) => {
    let asked = 0;
    const lookup: Lookup = async (name, type) => {
      asked += 1;
      const values = say(name, type);
      return values ? { kind: 'found', values, ttl: 1, aliases: [] } : { kind: 'none', exists: true, ttl: 1 };
    };
    const found = await examineDomain(IDENTITY, INSTALLATION, lookup);
    expect(asked).toBeLessThanOrEqual(80);
    expect(found.records).toHaveLength(7);
  });

  it('a capped look-up remembers, and says so when it stops', async () => {
    let asked = 0;
    const lookup = capped(async () => {
      asked += 1;
      return { kind: 'none', exists: false, ttl: 1 };
    }, 2);
    await lookup('a.example', 'TXT');
    await lookup('A.example.', 'TXT');
    await lookup('a.example', 'MX');
    expect(asked).toBe(2);
    expect(await lookup('b.example', 'TXT')).toEqual({ kind: 'unanswered', fault: 'cap' });
  });
});

describe('SPF agrees with another implementation', () => {
  const NAMES = ['a.example', 'b.example', 'c.example', 'd.example'];
  const ips = ['198.51.100.5', '198.51.100.77', '203.0.113.9', '2001:db8::5'];
  const host = fc.constantFrom(...NAMES.flatMap((name) => [name, `h.${name}`]));
  const term = fc.oneof(
    fc
      .tuple(
        fc.constantFrom('', '+', '-', '~', '?'),
        fc.oneof(
          fc.constantFrom('all', 'a', 'mx', 'ip4:198.51.100.5', 'ip4:198.51.100.0/24', 'ip4:203.0.113.0/28', 'ip6:2001:db8::/32'),
          fc.constantFrom(...NAMES).map((name) => `include:${name}`),
          host.map((name) => `a:${name}`),
          host.map((name) => `a:${name}/24`),
          fc.constantFrom(...NAMES).map((name) => `mx:${name}`),
          host.map((name) => `exists:${name}`),
          fc.constantFrom('exists:%{ir}.ok.a.example', 'exists:%{l}.b.example', 'include:%{d1r}.example', 'a:%{o}'),
        ),
      )
      .map(([sign, text]) => `${sign}${text}`),
    fc.constantFrom(...NAMES).map((name) => `redirect=${name}`),
  );
  // Records with a syntax error are left out: there we follow section 4.6 (a permerror at once), the other only when it comes to the term.
  const once = (terms: string[]) =>
    terms.filter((text, n) => !text.startsWith('redirect=') || terms.findIndex((other) => other.startsWith('redirect=')) === n);
  const record = fc.array(term, { maxLength: 5 }).map((terms) => `v=spf1 ${once(terms).join(' ')}`.trim());
  const zone = fc.record({
    txt: fc.array(
      fc.oneof(
        { weight: 6, arbitrary: record.map((text) => [text]) },
        { weight: 1, arbitrary: fc.constant([] as string[]) },
        { weight: 1, arbitrary: fc.tuple(record, record).map((two) => [...two]) },
      ),
      { minLength: 4, maxLength: 4 },
    ),
    hosts: fc.array(fc.subarray(ips, { maxLength: 2 }), { minLength: 8, maxLength: 8 }),
    mx: fc.array(fc.subarray(NAMES, { maxLength: 2 }), { minLength: 4, maxLength: 4 }),
  });

  it('on generated zones', async () => {
    let compared = 0;
    const results = new Map<string, number>();
    await fc.assert(
      fc.asyncProperty(zone, fc.constantFrom(...ips), async ({ txt, hosts, mx }, ip) => {
        const all = NAMES.flatMap((name) => [name, `h.${name}`]);
        const values = (name: string, type: string): string[] | null => {
          const n = NAMES.indexOf(name);
          if (type === 'TXT') return n >= 0 ? txt[n]! : null;
          if (type === 'MX') return n >= 0 ? mx[n]!.map((target, k) => `${10 + k} h.${target}`) : null;
          const own = hosts[all.indexOf(name)] ?? [];
          return own.filter((address) => address.includes(':') === (type === 'AAAA'));
        };
        const ours = await evaluateSpf(
          { ip, sender: 'ottoline@a.example', helo: 'out.inkset.example', domain: 'a.example' },
          async (name, type) => {
            const found = values(name, type);
            return found?.length ? { kind: 'found', values: found, ttl: 1, aliases: [] } : { kind: 'none', exists: true, ttl: 1 };
          },
        );
        const theirs = await otherImplementation({
          ip,
          sender: 'ottoline@a.example',
          helo: 'out.inkset.example',
          mta: 'mx.test',
          resolver: (async (name: string, type: string) => {
            const found = values(name, type);
            if (!found?.length) throw Object.assign(new Error('none'), { code: 'ENODATA' });
            if (type === 'TXT') return found.map((text) => [text]);
            return type === 'MX'
              ? found.map((text) => ({ priority: Number(text.split(' ')[0]), exchange: text.split(' ')[1] }))
              : found;
          }) as never,
        } as never);
        const result = (theirs as unknown as { status: { result: string } }).status.result;
        compared += 1;
        results.set(result, (results.get(result) ?? 0) + 1);
        expect(
          `${ours.result} (${ours.reason})`.split(' ')[0],
          `${JSON.stringify(txt)} ${ip} ${JSON.stringify({ hosts, mx })}`,
        ).toBe(result);
      }),
      { numRuns: 1_500 },
    );
    expect(compared).toBeGreaterThanOrEqual(1_500);
    // The zones are of use only if they lead to every kind of end.
    for (const kind of ['pass', 'fail', 'softfail', 'neutral', 'none', 'permerror'])
      expect(results.get(kind) ?? 0, kind).toBeGreaterThan(5);
  });

  it('in the cases the standard tells apart', async () => {
    const zones = (text: string): Lookup =>
      zoneLookup(readZone(text, 'a.example'), async () => ({ kind: 'none', exists: false, ttl: 1 }));
    const result = async (text: string, ip = '198.51.100.5') =>
      (await evaluateSpf({ ip, sender: 'o@a.example', helo: 'h.example', domain: 'a.example' }, zones(text))).result;
    expect(await result('@ TXT "v=spf1 include:none.a.example -all"')).toBe('permerror');
    expect(await result('@ TXT "v=spf1 a:x1.a.example a:x2.a.example a:x3.a.example -all"')).toBe('permerror');
    expect(await result('@ TXT "v=spf1 ip6:2001:db8::/32 -all"', '2001:db8::1')).toBe('pass');
    expect(await result('@ TXT "v=spf1 ip4:198.51.100.5/33 -all"')).toBe('permerror');
    expect(await result('@ TXT "v=spf1 redirect=b.a.example"\nb TXT "v=spf1 ip4:198.51.100.5 -all"')).toBe('pass');
    expect(await result('@ TXT "v=spf1 exists:%{ir}.ok.a.example -all"\n5.100.51.198.ok A 127.0.0.2')).toBe('pass');
    const timeout: Lookup = async () => ({ kind: 'unanswered', fault: 'timeout' });
    expect(
      (await evaluateSpf({ ip: '198.51.100.5', sender: 'o@a.example', helo: 'h', domain: 'a.example' }, timeout)).result,
    ).toBe('temperror');
    expect(reverseName('198.51.100.5')).toBe('5.100.51.198.in-addr.arpa');
    expect(reverseName('2001:db8::1')).toMatch(/^1\.0\.0\..*8\.b\.d\.0\.1\.0\.0\.2\.ip6\.arpa$/);
  });
  it('expands macros as the standard’s own examples do (RFC 7208 section 7.4)', () => {
    const of = { ip: '192.0.2.3', sender: 'strong-bad@email.example.com', helo: 'mx', domain: 'email.example.com' };
    const out = (text: string) => expandMacros(text, of);
    expect(
      ['%{s}', '%{o}', '%{d4}', '%{d3}', '%{d2}', '%{d1}', '%{dr}', '%{d2r}', '%{l}', '%{l-}', '%{lr}', '%{lr-}', '%{l1r-}'].map(
        out,
      ),
    ).toEqual([
      'strong-bad@email.example.com',
      'email.example.com',
      'email.example.com',
      'email.example.com',
      'example.com',
      'com',
      'com.example.email',
      'example.email',
      'strong-bad',
      'strong.bad',
      'strong-bad',
      'bad.strong',
      'strong',
    ]);
    expect(out('%{ir}.%{v}._spf.%{d2}')).toBe('3.2.0.192.in-addr._spf.example.com');
    expect(isAskable(out(`${'%{d}.'.repeat(30)}x`))).toBe(true);
  });
});

describe('zone files', () => {
  it('of ours are read back to the same values, by their own reader', () => {
    const records = wantedRecords({ ...IDENTITY, active: { ...IDENTITY.active, publicKey: 'A'.repeat(392) } }, INSTALLATION);
    const zone = readZone(zoneFile('lanternfish.example', records), 'lanternfish.example');
    expect(zone.faults).toEqual([]);
    for (const record of records.filter((r) => r.value))
      expect(zone.records.find((r) => r.name === record.name && r.type === record.type)?.value).toBe(record.value);
    expect(recordsAsText('lanternfish.example', 'Lanternfish Letters', records)).toContain(
      'Host:  bounce   (in full: bounce.lanternfish.example)',
    );
  });
  it('of others are read with all their habits, and what cannot be read is said with its line', () => {
    const zone = readZone(
      '$TTL 1h\n$ORIGIN lanternfish.example.\n@ 2d IN SOA ns host ( 1 2\n 3 4 5 ) ; soa\n  IN NS ns1.host.test.\nwww A 203.0.113.1\n    AAAA 2001:db8::1\nt TXT "a\\"b" "c" ; note\n@ CAA 0 issue "ca.test"\nbad MX x\n_x._tcp SRV 0 5 5060 sip\n$INCLUDE other',
      'lanternfish.example',
    );
    expect(zone.records.map((r) => `${r.name} ${r.type} ${r.value}`)).toEqual([
      'lanternfish.example NS ns1.host.test',
      'www.lanternfish.example A 203.0.113.1',
      'www.lanternfish.example AAAA 2001:db8::1',
      't.lanternfish.example TXT a"bc',
      'lanternfish.example CAA 0 issue ca.test',
      '_x._tcp.lanternfish.example SRV 0 5 5060 sip',
    ]);
    expect(zone.faults.map((fault) => fault.line)).toEqual([10, 12]);
  });
});

describe('names', () => {
  it('alignment and the organisational domain follow the public suffix list', () => {
    expect(organisationalDomain('post.lanternfish.co.uk')).toBe('lanternfish.co.uk');
    expect(aligned('lanternfish.example', 'bounce.lanternfish.example', 'r')).toBe(true);
    expect(aligned('lanternfish.example', 'bounce.lanternfish.example', 's')).toBe(false);
    expect(aligned('a.example', 'b.example', 'r')).toBe(false);
  });
  it.each([
    ['lantemfish.example', true],
    ['1anternfish.example', true],
    ['lanternfsih.example', true],
    ['lanternfishes.test', false],
    ['l\u0430nternfish.example', true],
    ['lanternfish.example', false],
    ['other.example', false],
  ])('%s looks like one of ours: %s', (name, warned) => {
    expect(lookAlikeWarning(name, ['lanternfish.example']) !== null).toBe(warned);
  });
  it('of mailbox services are warned about with the reason', () => {
    expect(freeMailWarning('heronmail.example')).toMatch(/Its owner alone can sign/);
    expect(freeMailWarning('lanternfish.example')).toBeNull();
  });
});

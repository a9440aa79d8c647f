import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  DmarcReader,
  type DmarcRow,
  type KindTotals,
  kindOf,
  nextPolicy,
  type OwnMail,
  SOURCE_KINDS,
  sourcesOf,
} from './dmarc-report';

type Said = {
  ip?: string;
  count?: number | string;
  disposition?: string;
  dkim?: string;
  spf?: string;
  reason?: string;
  auth?: string;
};
const record = ({
  ip = '192.0.2.1',
  count = 1,
  disposition = 'none',
  dkim = 'pass',
  spf = 'pass',
  reason = '',
  auth = '',
}: Said) =>
  `<record><row><source_ip>${ip}</source_ip><count>${count}</count><policy_evaluated><disposition>${disposition}</disposition><dkim>${dkim}</dkim><spf>${spf}</spf>${reason && `<reason><type>${reason}</type><comment/></reason>`}</policy_evaluated></row><identifiers><header_from>lanternfish.example</header_from></identifiers><auth_results>${auth}</auth_results></record>`;
const report = (records: string, head = '<?xml version="1.0"?>', policy = '<p>none</p>') =>
  `${head}<feedback><report_metadata><org_name>Heron Mail</org_name><email>reports@heronmail.example</email><report_id>r-1</report_id><date_range><begin>1795392000</begin><end>1795478399</end></date_range></report_metadata><policy_published><domain>Lanternfish.example</domain>${policy}</policy_published>${records}</feedback>`;
const read = (xml: string, piece = 7) => {
  const reader = new DmarcReader();
  for (let at = 0; at < xml.length; at += piece) reader.write(xml.slice(at, at + piece));
  return reader.end();
};
const signed = (selector: string, result: string, domain = 'lanternfish.example') =>
  `<dkim><domain>${domain}</domain><selector>${selector}</selector><result>${result}</result></dkim>`;
const returned = (domain: string, result: string) =>
  `<spf><domain>${domain}</domain><scope>mfrom</scope><result>${result}</result></spf>`;
const OURS = signed('ink1', 'pass') + returned('bounce.lanternfish.example', 'pass');
const OWN: OwnMail = {
  domain: 'lanternfish.example',
  selectors: ['ink1'],
  returnPath: 'bounce.lanternfish.example',
  addresses: new Set(),
};

describe('DMARC reports', () => {
  it('are read in pieces of any size, rows that are alike added up', () => {
    const xml = report(
      record({ count: 3, auth: OURS }) +
        record({ count: 4, auth: OURS }) +
        record({ ip: '2001:DB8::1', count: 2, dkim: 'fail', spf: 'fail', disposition: 'quarantine', reason: 'mailing_list' }),
    );
    const whole = read(xml, xml.length);
    expect(whole).toEqual({
      reporter: 'Heron Mail',
      contact: 'reports@heronmail.example',
      id: 'r-1',
      from: new Date(1795392000_000),
      to: new Date(1795478399_000),
      policy: { domain: 'lanternfish.example', p: 'none', sp: 'none', pct: 100, adkim: 'r', aspf: 'r' },
      rows: [
        {
          ip: '192.0.2.1',
          mails: 7,
          disposition: 'none',
          dkim: true,
          spf: true,
          reasons: [],
          from: 'lanternfish.example',
          signatures: [{ domain: 'lanternfish.example', selector: 'ink1', result: 'pass' }],
          returnPath: { domain: 'bounce.lanternfish.example', result: 'pass' },
        },
        expect.objectContaining({
          ip: '2001:db8::1',
          mails: 2,
          disposition: 'quarantine',
          dkim: false,
          spf: false,
          reasons: ['mailing_list'],
        }),
      ],
    });
    for (const piece of [1, 13, 4_096]) expect(read(xml, piece)).toEqual(whole);
  });
  it('are read with prefixes, comments, an old version’s elements, and another order', () => {
    const xml = report(record({ auth: OURS }), '<?xml version="1.0"?><!-- hello --><!DOCTYPE feedback>').replace(
      /<(\/?)(\w)/g,
      '<$1f:$2',
    );
    expect(read(xml).rows).toHaveLength(1);
    expect(read(report(record({}), '', '<p>reject</p><sp>none</sp><pct>50</pct><adkim>s</adkim>')).policy).toMatchObject({
      p: 'reject',
      sp: 'none',
      pct: 50,
      adkim: 's',
    });
  });
  it.each([
    ['a page', '<html><body>no</body></html>', /no element called/],
    ['nothing', '', /no element called/],
    ['a report without its days', report('').replace(/<begin>\d+/, '<begin>x'), /not whole/],
    ['a report without a domain', report('').replace('Lanternfish.example', ''), /not whole/],
    ['something nested 500 deep', `<feedback>${'<a>'.repeat(500)}`, /nested deeper/],
  ])('refuse %s', (_name, xml, words) => {
    expect(() => read(xml)).toThrow(words);
  });
  it('take no entity of their own, and none from elsewhere', () => {
    const bomb = `<!DOCTYPE lolz [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;"><!ENTITY x SYSTEM "file:///etc/passwd">]>`;
    const found = read(report(record({ ip: '&x;' }), bomb).replace('Heron Mail', '&b;'));
    expect(found.reporter.length).toBeLessThan(10);
    expect(found.rows[0]!.ip).toBeNull();
  });
  it('hold what entities stand for', () => {
    const named = read(report(record({})).replace('Heron Mail', 'Heron &amp; Sons &#38; &#x26; &lt;x&gt; &nbsp;'));
    expect(named.reporter).toBe('Heron & Sons & & <x> &nbsp;');
  });
  it('that break off are not read by their half', () => {
    const whole = report(record({}) + record({ ip: '192.0.2.2' }));
    expect(read(`${whole}\n<!-- x -->`).rows).toHaveLength(2);
    fc.assert(
      fc.property(fc.integer({ min: 0, max: whole.length - 1 }), (end) => {
        expect(() => read(whole.slice(0, end))).toThrow(/breaks off in the middle|is no DMARC report/);
      }),
    );
  });
  it('count no nonsense', () => {
    const counts = ['-5', 'x', '1e99', '0', '3.7', ''].map((count) => read(report(record({ count }))).rows[0]?.mails ?? 0);
    expect(counts).toEqual([0, 0, 2_000_000_000, 0, 3, 0]);
  });
  it('lose no mail, whatever they hold and however long they are', () => {
    const row = fc.record({
      ip: fc.integer({ min: 0, max: 60 }).map((n) => `192.0.2.${n}`),
      count: fc.integer({ min: 1, max: 1_000 }),
      dkim: fc.constantFrom('pass', 'fail'),
      spf: fc.constantFrom('pass', 'fail'),
      auth: fc.constantFrom('', OURS, signed('x', 'fail'), returned('else.example', 'pass')),
    });
    fc.assert(
      fc.property(fc.array(row, { maxLength: 80 }), fc.integer({ min: 1, max: 10 }), (rows, most) => {
        const found = read(report(rows.map(record).join('')), 999);
        const sources = sourcesOf(found, OWN, most);
        const all = rows.reduce((sum, { count }) => sum + count, 0);
        const aligned = rows.reduce((sum, one) => sum + (one.dkim === 'pass' || one.spf === 'pass' ? one.count : 0), 0);
        expect(found.rows.reduce((sum, { mails }) => sum + mails, 0)).toBe(all);
        expect(sources.reduce((sum, { mails }) => sum + mails, 0)).toBe(all);
        expect(sources.reduce((sum, one) => sum + one.aligned, 0)).toBe(aligned);
        expect(sources.length).toBeLessThanOrEqual(most + Object.keys(SOURCE_KINDS).length);
      }),
    );
  });
});

describe('whose mail it was', () => {
  const row = (said: Said): DmarcRow => read(report(record(said))).rows[0]!;
  it.each([
    ['ours', { auth: OURS }],
    ['ours', { dkim: 'fail', auth: signed('ink1', 'fail') + returned('bounce.lanternfish.example', 'pass') }],
    [
      'ours, broken',
      { dkim: 'fail', spf: 'fail', auth: signed('ink1', 'fail') + returned('bounce.lanternfish.example', 'pass') },
    ],
    ['forwarded', { spf: 'fail', auth: signed('ink1', 'pass') + returned('bounce.lanternfish.example', 'fail') }],
    ['forwarded', { spf: 'fail', auth: signed('ink1', 'pass') + returned('list.example', 'pass') }],
    ['forwarded', { dkim: 'fail', spf: 'fail', auth: signed('ink1', 'fail') + returned('list.example', 'pass') }],
    ['forwarded', { dkim: 'fail', spf: 'fail', reason: 'mailing_list' }],
    ['forwarded', { dkim: 'fail', spf: 'fail', auth: returned('bounce.lanternfish.example', 'fail') }],
    ['others of yours', { auth: signed('shop', 'pass') + returned('shop.example', 'pass') }],
    ['others of yours', { dkim: 'fail', auth: returned('lanternfish.example', 'pass') }],
    ['stranger', { dkim: 'fail', spf: 'fail' }],
    ['stranger', { dkim: 'fail', spf: 'fail', auth: signed('k', 'pass', 'scam.example') + returned('scam.example', 'pass') }],
    [
      'stranger',
      {
        dkim: 'fail',
        spf: 'fail',
        auth: signed('k', 'pass', 'notlanternfish.example') + returned('lanternfish.example', 'softfail'),
      },
    ],
  ])('%s: %j', (kind, said) => {
    expect(kindOf(row(said), OWN)).toBe(kind);
  });
  it('mail from an address of ours that is not believed is ours', () => {
    const found = read(
      report(
        record({ ip: '192.0.2.7', count: 9, auth: OURS }) +
          record({ ip: '192.0.2.7', dkim: 'fail', spf: 'fail', disposition: 'reject' }),
      ),
    );
    expect(sourcesOf(found, OWN).map(({ kind, mails, rejected, who }) => [kind, mails, rejected, who])).toEqual([
      ['ours', 9, 0, 'lanternfish.example'],
      ['ours, broken', 1, 1, ''],
    ]);
  });
});

describe('the next policy', () => {
  const totals = (over: Partial<Record<keyof KindTotals, [mails: number, aligned: number]>>): KindTotals =>
    Object.fromEntries(
      Object.keys(SOURCE_KINDS).map((kind) => {
        const [mails, aligned] = over[kind as keyof KindTotals] ?? [0, 0];
        return [kind, { mails, aligned }];
      }),
    ) as KindTotals;
  it.each([
    ['none, all well', { p: 'none', pct: 100 }, totals({ ours: [900, 900], stranger: [40, 0] }), 'quarantine', true],
    [
      'none, some of ours not believed',
      { p: 'none', pct: 100 },
      totals({ ours: [900, 900], 'ours, broken': [3, 0] }),
      'quarantine',
      false,
    ],
    [
      'none, the shop unsigned',
      { p: 'none', pct: 100 },
      totals({ ours: [900, 900], 'others of yours': [30, 10] }),
      'quarantine',
      false,
    ],
    ['too little seen', { p: 'none', pct: 100 }, totals({ ours: [9, 9] }), 'quarantine', false],
    ['a part of quarantine', { p: 'quarantine', pct: 20 }, totals({ ours: [900, 900] }), 'quarantine', true],
    ['quarantine', { p: 'quarantine', pct: 100 }, totals({ ours: [900, 900] }), 'reject', true],
    [
      'quarantine, much forwarding that breaks',
      { p: 'quarantine', pct: 100 },
      totals({ ours: [900, 900], forwarded: [80, 20] }),
      'reject',
      false,
    ],
    ['reject', { p: 'reject', pct: 100 }, totals({ ours: [900, 900], stranger: [40, 0] }), null, false],
  ] as const)('after %s', (_name, policy, of, to, ready) => {
    expect(nextPolicy(policy, of)).toMatchObject({ to, ready });
  });
  it('says what it would have stopped', () => {
    expect(
      nextPolicy({ p: 'none', pct: 100 }, totals({ ours: [900, 900], forwarded: [30, 22], stranger: [40, 0] })).stops,
    ).toEqual([
      { kind: 'forwarded', mails: 8 },
      { kind: 'stranger', mails: 40 },
    ]);
  });
});

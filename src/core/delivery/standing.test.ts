import { describe, expect, it } from 'vitest';
import { bulkRules, type RuleFacts } from './bulk-rules';
import { type Copies, junkByWeek, latelyOf, NO_COPIES, type Provider, sharesOverTime, standingOf } from './standing';

const provider = (copies: Partial<Copies>, reasons: Provider['reasons'] = [], name = 'heronmail.example'): Provider => ({
  name,
  weeks: [{ week: '2026-11-23', copies: { ...NO_COPIES, ...copies } }],
  reasons,
});
const of = (one: Provider) => standingOf(one, [one], { shown: '', lately: '' });

describe('how a provider treats letters', () => {
  it.each([
    ['all is well', provider({ delivered: 990, bounced: 5, refused: 5, read: 400 }), 'fine', 'Takes your letters'],
    ['little went there', provider({ delivered: 10, refused: 9 }), 'know', 'Too little to say'],
    [
      'its name is bad',
      provider({ delivered: 500, refused: 500 }, [{ reason: 'reputation', putOff: 0, ended: 500 }]),
      'mend',
      'Turns letters away',
    ],
    [
      'some are taken for junk',
      provider({ delivered: 950, refused: 50 }, [{ reason: 'content', putOff: 0, ended: 50 }]),
      'look',
      'Takes letters for junk',
    ],
    [
      'it does not believe',
      provider({ delivered: 100, refused: 900 }, [{ reason: 'authentication', putOff: 0, ended: 900 }]),
      'mend',
      'Does not believe you',
    ],
    [
      'nobody answered',
      provider({ delivered: 500, givenUp: 500 }, [{ reason: 'unreachable', putOff: 900, ended: 500 }]),
      'mend',
      'Cannot be reached',
    ],
    ['readers complain', provider({ delivered: 10_000, complained: 15 }), 'look', 'Readers complain'],
    ['many do', provider({ delivered: 10_000, complained: 40 }), 'mend', 'Readers complain'],
    ['two complained of few', provider({ delivered: 100, complained: 2 }), 'fine', 'Takes your letters'],
    [
      'the list is old',
      provider({ delivered: 900, bounced: 100 }, [{ reason: 'dead', putOff: 0, ended: 100 }]),
      'look',
      'Many dead addresses',
    ],
    ['it goes slowly', provider({ delivered: 1_000 }, [{ reason: 'slow', putOff: 700, ended: 0 }]), 'look', 'Slows you down'],
    [
      'mailboxes are full',
      provider({ delivered: 950, givenUp: 50 }, [{ reason: 'full', putOff: 400, ended: 50 }]),
      'fine',
      'Takes your letters',
    ],
  ] as const)('where %s', (_name, one, tone, state) => {
    expect(of(one)).toMatchObject({ tone, state });
  });
  it('says the worst first: what is turned away before complaints', () => {
    const both = provider({ delivered: 500, refused: 500, complained: 50 }, [{ reason: 'policy', putOff: 0, ended: 500 }]);
    expect(of(both).state).toBe('Turns letters away');
  });
  it('finds junk by what is read there, and read elsewhere', () => {
    const weeks = (read: (week: number) => number) =>
      Array.from({ length: 16 }, (_, n) => ({
        week: `2026-${String(n).padStart(2, '0')}`,
        copies: { ...NO_COPIES, delivered: 1_000, read: read(n) },
      }));
    const here = { name: 'a.example', weeks: weeks((n) => (n < 12 ? 400 : 80)), reasons: [] };
    const there = { name: 'b.example', weeks: weeks(() => 420), reasons: [] };
    const of16 = { shown: '2026-12', lately: '2026-12' };
    const found = standingOf(here, [here, there], of16);
    expect(found).toMatchObject({ state: 'Puts letters into junk', tone: 'mend' });
    expect(found.junk!.low).toBeGreaterThan(0.7);
    expect(found.settled).toBe(4_000);
    expect(standingOf(there, [here, there], of16).state).toBe('Takes your letters');
  });
});

describe('what landed in junk, week by week', () => {
  const week = (n: number) => new Date(Date.UTC(2026, 0, 5 + 7 * n)).toISOString().slice(0, 10);
  const weeks = (read: (week: number) => number, length = 26) =>
    Array.from({ length }, (_, n) => ({ week: week(n), copies: { ...NO_COPIES, delivered: 1_000, read: read(n) } }));
  const there = { name: 'b.example', weeks: weeks(() => 420), reasons: [] };
  it('is told of each by what was known then, and of the latest as the standing tells it', () => {
    const here = { name: 'a.example', weeks: weeks((n) => (n >= 12 && n < 18 ? 100 : 400)), reasons: [] };
    const all = [here, there];
    const found = junkByWeek(here, all, '');
    expect([...found.keys()]).toEqual(here.weeks.map((one) => one.week));
    // Six weeks of habit come first.
    expect(found.get(week(9))).toBeNull();
    expect(found.get(week(11))!.low).toBeLessThan(0.05);
    expect(found.get(week(16))!.low).toBeGreaterThan(0.5);
    const last = week(25);
    expect(found.get(last)).toEqual(standingOf(here, all, { shown: '', lately: latelyOf(last) }).junk);
    expect(found.get(last)!.low).toBeLessThan(0.05);
    expect([...junkByWeek(here, all, week(20)).keys()][0]).toBe(week(20));
    const lines = [{ name: here.name, weeks: here.weeks.map((one) => ({ ...one, putOff: 0, junk: found.get(one.week)! })) }];
    const [drawn] = sharesOverTime(lines, [week(3), week(16), week(40)], 'junk', 1);
    expect(drawn!.map(({ said }) => said)).toEqual(['too little known', expect.stringMatching(/^\d\d to \d\d%$/), '–']);
    expect(drawn![1]!.share).toBeCloseTo(100 * found.get(week(16))!.low, 1);
    expect(sharesOverTime(lines, [week(3)], 'read', 1)).toEqual([[{ share: 40, said: '40.0%' }]]);
  });
  it('knows nothing where nobody else is', () => {
    const alone = { name: 'a.example', weeks: weeks(() => 400), reasons: [] };
    expect(new Set(junkByWeek(alone, [alone], '').values())).toEqual(new Set([null]));
  });
});

describe('what large providers ask', () => {
  const facts: RuleFacts = {
    domain: 'lanternfish.example',
    proven: true,
    policy: 'none',
    verdicts: (['SPF', 'DKIM', 'DMARC', 'Alignment', 'Encryption', 'Reverse name'] as const).map((check) => ({
      check,
      result: 'pass',
      good: true,
      detail: 'yes',
    })),
    records: { spf: true, dkim: true },
    reported: { mails: 0, aligned: 0 },
    relay: false,
    complaints: { complained: 1, delivered: 5_000 },
    freeMail: false,
  };
  const states = (over: Partial<RuleFacts>) => bulkRules({ ...facts, ...over }).map(({ state }) => state);
  it('is kept where all is proven', () => {
    expect(new Set(states({}))).toEqual(new Set(['kept']));
  });
  it('is not known before a test letter, nor with few copies', () => {
    expect(
      states({ verdicts: null, complaints: { complained: 0, delivered: 10 } }).filter((state) => state === 'unknown'),
    ).toHaveLength(4);
  });
  it.each([
    [{ policy: null }, 'The domain has a policy (DMARC)'],
    [{ freeMail: true }, 'A domain of your own'],
    [{ complaints: { complained: 20, delivered: 5_000 } }, 'Few readers complain'],
    [{ verdicts: facts.verdicts!.map((one) => ({ ...one, good: one.check !== 'DKIM' })) }, 'Every letter is signed (DKIM)'],
  ] as [Partial<RuleFacts>, string][])('is broken: %j', (over, name) => {
    expect(
      bulkRules({ ...facts, ...over })
        .filter(({ state }) => state === 'broken')
        .map((rule) => rule.name),
    ).toEqual([name]);
  });
});

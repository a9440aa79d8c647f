import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { didYouMean } from '../readers/typos';
import { asOneSource, classify, cleanAddress, readTouch, sourceName, touchOfVisit } from './attribution';
import { probabilityBetter, rate } from './rates';

const AT = '2026-11-24T09:00:00.000Z';
const visit = (page: string, referrer = '') => touchOfVisit(page, referrer, AT);

describe('where somebody came from', () => {
  it.each([
    ['https://l.example/', '', 'direct', 'direct'],
    ['https://l.example/', 'https://l.example/other', 'direct', 'direct'],
    ['https://l.example/', 'https://search.wide.example/?q=x', 'search', 'search.wide.example'],
    ['https://l.example/', 'https://www.harbour-forum.example/', 'social', 'harbour-forum.example'],
    ['https://l.example/', 'https://mail.heron.example/', 'mail', 'mail.heron.example'],
    ['https://l.example/', 'https://tidepool.example/links', 'link', 'tidepool.example'],
    ['https://l.example/?utm_source=Poster&utm_campaign=Pier', '', 'campaign', 'poster'],
    ['https://l.example/?utm_source=x&utm_medium=email', 'https://search.wide.example/', 'mail', 'x'],
    ['https://l.example/?utm_medium=social', '', 'social', 'direct'],
    ['https://l.example/?utm_medium=organic&utm_source=y', '', 'search', 'y'],
  ])('%s from %j is %s, counted as %s', (page, referrer, kind, name) => {
    expect([classify(visit(page, referrer)), sourceName(visit(page, referrer))]).toEqual([kind, name]);
  });
  it('click identifiers, names, passwords and fragments are never kept', () => {
    expect(cleanAddress('https://a:b@l.example/p?x=1&adclid=77&click_id=8#part')).toBe('https://l.example/p?x=1');
    expect(cleanAddress('data:text/html,x')).toBe('');
  });
  it('anything a browser sends becomes a touch of text or none', () => {
    fc.assert(
      fc.property(fc.anything(), (sent) => {
        const touch = readTouch(sent);
        if (touch) for (const part of Object.values(touch)) expect(typeof part).toBe('string');
      }),
    );
    expect(readTouch({ at: 'yesterday', source: 'A\u0000B'.padEnd(400, 'x') })).toMatchObject({
      at: '',
      source: expect.stringMatching(/^a bx{117}$/),
    });
    expect(readTouch({})).toBeNull();
  });
});

describe('rates', () => {
  it('hold the share within an interval that narrows with more cases', () => {
    expect(rate(0, 0)).toBeNull();
    // Wilson's interval for 10 of 100: the textbook's 0.0552 to 0.1744.
    expect(rate(10, 100)).toEqual({ share: 0.1, low: expect.closeTo(0.0552, 4), high: expect.closeTo(0.1744, 4) });
    fc.assert(
      fc.property(fc.nat(500), fc.integer({ min: 1, max: 500 }), (part, whole) => {
        const found = rate(Math.min(part, whole), whole)!;
        expect(found.low).toBeLessThanOrEqual(found.share + 1e-12);
        expect(found.high).toBeGreaterThanOrEqual(found.share - 1e-12);
        const more = rate(Math.min(part, whole) * 10, whole * 10)!;
        expect(more.high - more.low).toBeLessThan(found.high - found.low);
      }),
    );
  });
  it('two versions alike are even; a clear winner is nearly sure; both ways add up to one', () => {
    expect(probabilityBetter({ shown: 0, converted: 0 }, { shown: 0, converted: 0 })).toBeCloseTo(0.5, 2);
    expect(probabilityBetter({ shown: 1000, converted: 50 }, { shown: 1000, converted: 90 })).toBeGreaterThan(0.999);
    const arm = fc.record({ shown: fc.integer({ min: 1, max: 20_000 }), converted: fc.nat(400) });
    fc.assert(
      fc.property(arm, arm, (a, b) => {
        const [x, y] = [a, b].map((one) => ({ ...one, converted: Math.min(one.converted, one.shown) })) as [typeof a, typeof b];
        expect(probabilityBetter(x, y) + probabilityBetter(y, x)).toBeCloseTo(1, 2);
      }),
      { numRuns: 60 },
    );
  });
  it('one against none of one is two in three, by the closed formula', () => {
    // P(Beta(2,1) > Beta(1,2)) is 5/6; of Beta(2,1) against a flat Beta(1,1) it is 2/3.
    expect(probabilityBetter({ shown: 1, converted: 0 }, { shown: 1, converted: 1 })).toBeCloseTo(5 / 6, 3);
    expect(probabilityBetter({ shown: 0, converted: 0 }, { shown: 1, converted: 1 })).toBeCloseTo(2 / 3, 3);
  });
});

describe('a better spelling', () => {
  it.each([
    ['a@heron.con', 'a@heron.com'],
    ['a@heron,example', 'a@heron.example'],
    ['a@heron..example', 'a@heron.example'],
    ['a@heronmial.example', 'a@heronmail.example'],
    ['a@heronmai.example', 'a@heronmail.example'],
    ['a@heronmaill.example', 'a@heronmail.example'],
    ['a@heronmail.example', null],
    ['a@something-else.example', null],
    ['nothing', null],
  ])('%s: %j', (typed, better) => {
    expect(didYouMean(typed, ['heronmail.example', 'fjordbox.example'])).toBe(better);
  });
});

describe('what somebody searched for', () => {
  it.each([
    ['https://search.example/find?q=deep+sea%20squid&hl=en', 'deep sea squid'],
    ['https://www.suche.example/?suche=Tiefsee', 'Tiefsee'],
    ['https://search.example/', ''],
    ['https://search.example/?q=%00%0d', ''],
    // No search engine's address: the words are its own affair.
    ['https://reefboard.example/?q=squid', ''],
    ['nonsense', ''],
  ])('%s: %j', (referrer, term) => {
    expect(readTouch({ referrer, landing: 'https://lanternfish.example/' })!.term).toBe(term);
  });
  it('is the campaign’s own word where it has one', () => {
    expect(readTouch({ referrer: 'https://search.example/?q=squid', term: 'reef' })!.term).toBe('reef');
  });
});

describe('a source under several spellings', () => {
  const row = (name: string, n: number) => ({ name, n });
  const one = (...rows: { name: string; n: number }[]) =>
    asOneSource(
      rows,
      ({ n }) => n,
      (a, b) => ({ ...a, n: a.n + b.n }),
    );
  it('is one, by its host where that is known', () => {
    expect(one(row('reefboard', 50), row('www.reefboard.example', 3), row('Reef-Board', 2), row('search.example', 20))).toEqual([
      row('www.reefboard.example', 55),
      row('search.example', 20),
    ]);
    expect(one(row('reef board', 1), row('ReefBoard', 4))).toEqual([row('ReefBoard', 5)]);
  });
  it('is not another one that is like it', () => {
    expect(one(row('reefboard', 1), row('reefboards', 1), row('direct', 1))).toHaveLength(3);
    expect(one(row('a.example', 1), row('b.example', 1))).toHaveLength(2);
    // Two domains of one name are two; a word means the larger of them.
    expect(one(row('reefboard.example', 5), row('reefboard.test', 9), row('reefboard', 1))).toEqual([
      row('reefboard.test', 10),
      row('reefboard.example', 5),
    ]);
    expect(one(row('...', 1), row('---', 1), row('鯨.example', 1), row('鯨', 2)).map(({ n }) => n)).toEqual([3, 1, 1]);
  });
});

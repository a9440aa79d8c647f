import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { BURST_MS, isBurst, machineReason } from './machine';

const BROWSER = 'Mozilla/5.0 (X11; Linux x86_64) A browser';

describe('people and machines', () => {
  it.each([
    [BROWSER, '192.0.2.7', 60, 'GET', null],
    [BROWSER, '', null, 'GET', null],
    [BROWSER, '192.0.2.7', 1, 'GET', 'at once'],
    [BROWSER, '192.0.2.7', -5, 'GET', 'at once'],
    [BROWSER, '192.0.2.7', 60, 'HEAD', 'method'],
    [BROWSER, '198.51.100.200', 60, 'GET', 'network'],
    [BROWSER, '2001:db8:feed:1::7', 60, 'GET', 'network'],
    [BROWSER, '198.51.100.7', 60, 'GET', null],
    ['ImageProxy/1.0', '192.0.2.7', 60, 'GET', 'agent'],
    ['LinkScanner bot', '', 6000, 'GET', 'agent'],
    ['', '192.0.2.7', 60, 'GET', 'no name'],
    ['  ', 'no address', 60, 'GET', 'no name'],
    [BROWSER, 'no address', 60, 'GET', null],
  ] as const)('%j from %j after %s s by %s: %s', (agent, network, secondsSinceDelivery, method, reason) => {
    expect(machineReason({ agent, network, secondsSinceDelivery, method })).toBe(reason);
  });
});

describe('a burst', () => {
  const clicks = (...all: [seconds: number, link: number][]) => all.map(([seconds, link]) => ({ at: 1_000 * seconds, link }));
  it.each([
    ['one link', clicks([0, 0]), 8, false],
    ['the same link five times', clicks([0, 0], [1, 0], [2, 0], [3, 0], [4, 0]), 8, false],
    ['two of many', clicks([0, 0], [1, 1]), 8, false],
    ['seven of eight within ten seconds', clicks([0, 0], [1, 1], [2, 2], [4, 3], [5, 4], [6, 5], [9, 6]), 8, true],
    ['three of five, opened to be read later', clicks([0, 0], [2, 1], [4, 3]), 5, false],
    ['five of eight within a minute', clicks([0, 0], [12, 1], [24, 2], [36, 3], [48, 4]), 8, false],
    ['all three', clicks([0, 0], [1, 1], [2, 2]), 3, true],
    ['both of two at once', clicks([0, 0], [1, 1]), 2, true],
    ['both of two, one after the other', clicks([0, 0], [4, 1]), 2, false],
    ['the only one', clicks([0, 0], [0, 0]), 1, false],
    ['a person, and a scanner later', clicks([0, 3], [100, 0], [101, 1], [102, 2], [103, 3]), 4, true],
  ] as const)('%s: %s', (_name, all, links, is) => {
    expect(isBurst(all, links)).toBe(is);
  });
  it('does not depend on the order, and never on clicks that lie apart', () => {
    const some = fc.array(fc.record({ at: fc.integer({ min: 0, max: 40_000 }), link: fc.integer({ min: 0, max: 9 }) }), {
      maxLength: 20,
    });
    fc.assert(
      fc.property(some, fc.integer({ min: 1, max: 10 }), (all, links) => {
        expect(isBurst([...all].reverse(), links)).toBe(isBurst(all, links));
        expect(
          isBurst(
            all.map(({ link }, n) => ({ at: n * (BURST_MS + 1), link })),
            links,
          ),
        ).toBe(false);
      }),
    );
  });
});

import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { clientOf, readNetworks } from './network';

const TRUSTED = readNetworks(['127.0.0.1', '::1', '10.1.0.0/16', '2001:db8:5::/48']);

describe('who asks', () => {
  it.each([
    ['straight', '203.0.113.7', null, '203.0.113.7'],
    ['straight, with a header of its own making', '203.0.113.7', '198.51.100.1', '203.0.113.7'],
    ['by a proxy here', '127.0.0.1', '198.51.100.1', '198.51.100.1'],
    ['by a proxy here, as IPv4 in IPv6', '::ffff:127.0.0.1', '198.51.100.1', '198.51.100.1'],
    ['by two proxies', '127.0.0.1', '198.51.100.1, 10.1.2.3', '198.51.100.1'],
    ['who put a lie in front', '127.0.0.1', '127.0.0.1, 192.0.2.9, 198.51.100.1', '198.51.100.1'],
    ['by a proxy that says nothing', '127.0.0.1', null, '127.0.0.1'],
    ['by a proxy that says rubbish', '127.0.0.1', 'unknown', '127.0.0.1'],
    ['with a port', '127.0.0.1', '198.51.100.1:4711', '198.51.100.1'],
    ['by IPv6', '2001:db8:5::9', '[2001:db8:9::1]:80', '2001:db8:9::1'],
    ['nobody', undefined, '198.51.100.1', ''],
  ])('%s', (_, peer, forwarded, client) => expect(clientOf(peer, forwarded, TRUSTED)).toBe(client));
  it('is never believed of a stranger, whatever they say', () => {
    fc.assert(fc.property(fc.string(), (said) => clientOf('203.0.113.7', said, TRUSTED) === '203.0.113.7'));
  });
  it('a network that is none is named', () => {
    expect(() => readNetworks(['10.0.0.0/8', 'everywhere'])).toThrow('“everywhere”');
  });
});

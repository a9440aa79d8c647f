import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { parseAddress, parseDomain } from './address';

describe('parseAddress', () => {
  it.each([
    ['Mara.Tidewell@HeronMail.example', 'Mara.Tidewell@heronmail.example', 'mara.tidewell@heronmail.example'],
    ['  a@b.example ', 'a@b.example', 'a@b.example'],
    ['größe@tiefsee.example', 'größe@tiefsee.example', 'größe@tiefsee.example'],
    ['a@größe.example', 'a@xn--gre-6ka8i.example', 'a@xn--gre-6ka8i.example'],
    ["o'brien+tag@b.example", "o'brien+tag@b.example", "o'brien+tag@b.example"],
  ])('reads %s', (text, full, key) => {
    expect(parseAddress(text)).toMatchObject({ full, key });
  });

  it.each([
    '',
    'a',
    '@b.example',
    'a@',
    'a@b',
    'a b@c.example',
    'a@b@c.example',
    '.a@b.example',
    'a.@b.example',
    'a..b@c.example',
    'a@-b.example',
    'a@b..example',
    '"a b"@c.example',
    'a@[127.0.0.1]',
    'a@127.0.0.1',
    'a\r\nBcc: x@y.example',
    `${'a'.repeat(65)}@b.example`,
    `a@${'b'.repeat(64)}.example`,
    `a@${'b.'.repeat(130)}example`,
    'a,b@c.example',
    'a@b.example, c@d.example',
  ])('refuses %j', (text) => {
    expect(parseAddress(text)).toBeNull();
  });

  it('never throws, and what it reads it reads again as the same', () => {
    fc.assert(
      fc.property(fc.oneof(fc.string({ unit: 'binary' }), fc.emailAddress()), (text) => {
        const address = parseAddress(text);
        if (!address) return;
        expect(parseAddress(address.full)).toEqual(address);
        expect(address.full).not.toMatch(/[\s\u0000-\u001f]/);
      }),
    );
  });
});

describe('parseDomain', () => {
  it('drops the trailing dot, lowers the case and speaks IDNA', () => {
    expect(parseDomain('LanternFish.Example.')).toBe('lanternfish.example');
    expect(parseDomain('größe.example')).toBe('xn--gre-6ka8i.example');
    expect(parseDomain('a b.example')).toBeNull();
    expect(parseDomain('_dmarc.lanternfish.example')).toBe('_dmarc.lanternfish.example');
  });
});

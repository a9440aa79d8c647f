import { generateKeyPairSync } from 'node:crypto';
import fc from 'fast-check';
import { authenticate } from 'mailauth';
import { simpleParser } from 'mailparser';
import { describe, expect, it } from 'vitest';
import { slot } from '../writing/slots';
import { signatureFields, signDkim } from './dkim';
import { compileMime, fillMime, headerBlock, headerText, mailbox } from './mime';
import { nextTry, readReply } from './outcome';
import { deliveryToken, readDeliveryToken } from './token';

const HEADERS = {
  fromName: 'Ottoline Vance',
  fromAddress: 'letters@lanternfish.example',
  date: new Date('2026-11-24T09:00:00Z'),
  boundary: 'ink-test',
};
const PERSONAL = { to: 'mara@heronmail.example', messageId: '<1@lanternfish.example>' };
const text = fc
  .string({
    unit: fc.oneof(fc.constantFrom(...'abc =._-\n\t<>&"\'äß…🐟é'), fc.string({ minLength: 1, maxLength: 1 })),
    maxLength: 400,
  })
  .map((s) => s.replace(/[\r\u0000-\u0008\u000b-\u001f\u007f\ue000\ue001]/g, '').replace(/[\ud800-\udfff]/g, ''));

describe('MIME', () => {
  it('gives back exactly what was put in, slots filled, whatever the text', async () => {
    await fc.assert(
      fc.asyncProperty(text, text, text, async (before, value, after) => {
        const body = `${before}${slot('name')}${after}`;
        const template = compileMime({ html: body, text: body, subject: 'S' }, HEADERS);
        const { headers, body: bytes } = fillMime(template, PERSONAL, { name: value });
        const source = Buffer.concat([Buffer.from(headerBlock(headers)), bytes]);
        for (const line of source.toString('latin1').split('\r\n')) expect(line.length).toBeLessThanOrEqual(998);
        const parsed = await simpleParser(source, { skipTextToHtml: true, skipHtmlToText: true });
        const norm = (s: string) => s.replace(/\r\n/g, '\n').trimEnd();
        expect(norm(parsed.text ?? '')).toBe(norm(`${before}${value}${after}`));
      }),
      { numRuns: 60 },
    );
  });

  it('lets no text make a second header', () => {
    expect(headerText('a\r\nBcc: x@y.example')).toBe('a Bcc: x@y.example');
    const { headers } = fillMime(
      compileMime({ html: '', text: '', subject: 'Hi\r\nBcc: x@y.example' }, { ...HEADERS, fromName: 'O\n"V"' }),
      { ...PERSONAL, to: 'a@b.example\r\nBcc: x@y.example' },
      {},
    );
    const block = headerBlock(headers);
    expect(block).not.toMatch(/^Bcc:/m);
    expect(block).toContain('From: "O \\"V\\"" <letters@lanternfish.example>');
  });

  it('writes a name beyond ASCII as encoded words (RFC 2047)', () => {
    expect(mailbox('Öttoline', 'a@b.example')).toMatch(/^=\?UTF-8\?Q\?.*\?= <a@b\.example>$/);
    expect(mailbox('', 'a@b.example')).toBe('a@b.example');
  });
});

describe('DKIM', () => {
  it('with an Ed25519 key is verified by another implementation too (RFC 8463)', async () => {
    const { publicKey, privateKey } = generateKeyPairSync('ed25519');
    const p = publicKey.export({ type: 'spki', format: 'der' }).subarray(-32).toString('base64');
    const rsa = generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey;
    const { headers, body } = fillMime(compileMime({ html: '<p>a</p>', text: 'a', subject: 'S' }, HEADERS), PERSONAL, {});
    const fields = await signatureFields(headers, body, [
      { domain: 'lanternfish.example', selector: 'ink1', algorithm: 'rsa', key: rsa },
      { domain: 'lanternfish.example', selector: 'ink2', algorithm: 'ed25519', key: privateKey },
    ]);
    const source = Buffer.concat([Buffer.from(fields + headerBlock(headers)), body]);
    const resolver = (async (name: string) => (name.startsWith('ink2.') ? [[`v=DKIM1; k=ed25519; p=${p}`]] : [])) as never;
    const result = await authenticate(source, {
      ip: '127.0.0.1',
      sender: 'b@lanternfish.example',
      disableArc: true,
      disableBimi: true,
      resolver,
    });
    const results = (result.dkim as unknown as { results: { selector: string; status: { result: string } }[] }).results;
    expect(results.find((entry) => entry.selector === 'ink2')?.status.result).toBe('pass');
  });

  it('is verified by another implementation for any body', async () => {
    const { publicKey, privateKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
    const p = publicKey.export({ type: 'spki', format: 'der' }).toString('base64');
    await fc.assert(
      fc.asyncProperty(text, text, async (subject, words) => {
        const template = compileMime({ html: words, text: words, subject }, HEADERS);
        const { headers, body } = fillMime(template, { ...PERSONAL, leaveUrl: 'https://go.inkset.example/e/leave/1' }, {});
        const signature = await signDkim(headers, body, {
          domain: 'lanternfish.example',
          selector: 'ink1',
          algorithm: 'rsa',
          key: privateKey,
        });
        expect(signature).toContain('list-unsubscribe:list-unsubscribe-post');
        const source = Buffer.concat([Buffer.from(`DKIM-Signature: ${signature}\r\n${headerBlock(headers)}`), body]);
        const result = await authenticate(source, {
          ip: '127.0.0.1',
          sender: 'b@lanternfish.example',
          disableArc: true,
          disableBimi: true,
          resolver: (async (name: string, type: string) =>
            name === 'ink1._domainkey.lanternfish.example' && type === 'TXT' ? [[`v=DKIM1; k=rsa; p=${p}`]] : []) as never,
        });
        expect((result.dkim as unknown as { results: { status: { result: string } }[] }).results[0]?.status.result).toBe('pass');
      }),
      { numRuns: 25 },
    );
  });
});

describe('readReply', () => {
  it.each([
    [250, '2.0.0 Taken', 'other', 'delivered'],
    [550, '5.1.1 No such mailbox', 'RCPT', 'dead'],
    [550, 'No such user', 'RCPT', 'dead'],
    [550, 'Spam', 'other', 'refused'],
    [550, '5.7.1 Policy', 'RCPT', 'refused'],
    [552, '5.2.2 Mailbox full', 'RCPT', 'later'],
    [452, '4.2.2 Mailbox full', 'RCPT', 'later'],
    [451, '4.7.1 Slow down', 'RCPT', 'later'],
    [421, 'Closing', 'other', 'later'],
    [556, '5.1.10 Takes no mail', 'RCPT', 'dead'],
  ] as const)('%i %s to %s is %s', (code, words, command, kind) => {
    expect(readReply(code, `${code} ${words}`, command).kind).toBe(kind);
  });
  it('keeps one bounded line', () => {
    expect(readReply(550, `550 a\r\nb${'x'.repeat(400)}`).response).toMatch(/^550 a bx{290,}$/);
  });
  it('tries for about three days and then gives up', () => {
    let at = new Date(0);
    let tries = 0;
    for (let next = nextTry(1, at); next; next = nextTry(tries + 1, at)) {
      at = next;
      tries += 1;
    }
    expect(at.getTime() / 86_400_000).toBeGreaterThan(2.5);
    expect(at.getTime() / 86_400_000).toBeLessThan(4);
  });
});

describe('delivery tokens', () => {
  const ref = fc.record({
    id: fc.bigInt({ min: 1n, max: 2n ** 47n }),
    sentOn: fc
      .integer({ min: 0, max: 60_000 })
      .map((day) => new Date(Date.UTC(2020, 0, 1) + day * 86_400_000).toISOString().slice(0, 10)),
  });
  it('come back as they were, in any letter case, and cannot be changed by a letter', () => {
    fc.assert(
      fc.property(ref, fc.integer({ min: 0, max: 35 }), (value, at) => {
        const token = deliveryToken(value, 'secret');
        expect(readDeliveryToken(token.toUpperCase(), 'secret')).toEqual(value);
        const other = token[at] === '0' ? '1' : '0';
        expect(readDeliveryToken(token.slice(0, at) + other + token.slice(at + 1), 'secret')).toBeNull();
        expect(readDeliveryToken(token, 'another')).toBeNull();
      }),
    );
    expect(readDeliveryToken('', 'secret')).toBeNull();
  });
});

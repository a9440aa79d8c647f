import { createHash, generateKeyPairSync } from 'node:crypto';
import fc from 'fast-check';
import { authenticate } from 'mailauth';
import { simpleParser } from 'mailparser';
import { describe, expect, it } from 'vitest';
import { isSigned, signText } from '../keys';
import { slot } from '../writing/slots';
import { relaxedBody, signatureFields, signDkim } from './dkim';
import { compileMime, fillMime, headerBlock, headerText, mailbox } from './mime';
import { alike, LETTER_LIFE_MS, LONGEST_WAIT_MS, MAIL_LIFE_MS, nextTry, readReply } from './outcome';
import { deliveryToken, leaveToken, ownToken, readDeliveryToken, readLeaveToken, readMailToken, readOwnToken } from './token';

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
    const fields = await signatureFields({ headers, body }, [
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
        const made = fillMime(template, { ...PERSONAL, leaveUrl: 'https://go.inkset.example/e/leave/1' }, {});
        const { headers, body } = made;
        // The hash that grew with the body is the hash of the body.
        expect(createHash('sha256').update(relaxedBody(body)).digest()).toEqual(made.bodyHash);
        expect(relaxedBody(body).equals(body)).toBe(true);
        const signature = await signDkim(made, {
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
    [550, 'User unknown', 'RCPT', 'dead'],
    [550, 'Unrouteable address', 'RCPT', 'dead'],
    [550, '5.0.0 No such user here', 'RCPT', 'dead'],
    [550, '5.1.1 Rejected: listed at a blocklist', 'RCPT', 'refused'],
    [550, '198.51.100.5 is listed', 'RCPT', 'refused'],
    [550, 'relay not permitted', 'RCPT', 'refused'],
    [550, 'Sender verify failed', 'RCPT', 'refused'],
    [550, 'Administrative prohibition', 'RCPT', 'refused'],
    [550, 'This message was classified as spam', 'RCPT', 'refused'],
    [550, 'No', 'RCPT', 'refused'],
    [421, 'Closing', 'other', 'later'],
    [556, '5.1.10 Takes no mail', 'RCPT', 'dead'],
  ] as const)('%i %s to %s is %s', (code, words, command, kind) => {
    expect(readReply(code, `${code} ${words}`, command).kind).toBe(kind);
  });
  it('keeps one bounded line', () => {
    expect(readReply(550, `550 a\r\nb${'x'.repeat(400)}`).response).toMatch(/^550 a bx{290,}$/);
  });
  it('weighs what is unclear, and nothing that speaks of us', () => {
    const weight = (words: string) => {
      const outcome = readReply(550, `550 ${words}`, 'RCPT');
      return outcome.kind === 'refused' ? outcome.evidence : outcome.kind;
    };
    expect(['No', 'relay not permitted', 'listed at bl.test', 'User unknown'].map(weight)).toEqual([2, 0, 0, 'dead']);
    expect(alike('550 5.1.1 <mara@a.example>: no such user (id 7f00aa)')).toBe(
      alike('550 5.1.1 <tom@b.example>: no such user (id 88be01)'),
    );
  });
  it('knows who minds our pace from who minds the mailbox', () => {
    const slow = (code: number, words: string) => {
      const outcome = readReply(code, `${code} ${words}`, 'RCPT');
      return outcome.kind === 'later' && outcome.slow;
    };
    expect(slow(450, '4.7.0 Too many connections')).toBe(true);
    expect(slow(451, '4.7.1 Greylisted, try again')).toBe(false);
    expect(slow(452, '4.2.2 Over quota')).toBe(false);
    expect(slow(421, 'Closing')).toBe(true);
  });
  it('is plain text whatever the other side says', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (said) => {
        expect(readReply(550, `550 ${said}`).response).not.toMatch(/[\u0000-\u001f\u007f\u202a-\u202e\u2066-\u2069]/);
      }),
    );
  });
  it.each([
    ['a letter', LETTER_LIFE_MS, 2],
    ['a mail that somebody waits for', MAIL_LIFE_MS, 5],
  ])('%s is tried at growing distances until its life is over, and at least some times', (_name, life, days) => {
    const since = new Date(0);
    let at = since;
    let tries = 1;
    for (let next = nextTry(tries, since, at, life); next; next = nextTry(tries, since, at, life)) {
      expect(next.getTime() - at.getTime()).toBeLessThanOrEqual(LONGEST_WAIT_MS);
      at = next;
      tries += 1;
    }
    expect(at.getTime() / 86_400_000).toBeGreaterThanOrEqual(days);
    expect(at.getTime() / 86_400_000).toBeLessThan(days + 0.2);
    // A clock that jumps a week does not give up what was tried once.
    expect(nextTry(1, since, new Date(7 * 86_400_000), life)).not.toBeNull();
  });
});

const RING = {
  current: 2,
  secrets: new Map([
    [1, 'the secret of before, long enough'],
    [2, 'the secret of now, long enough'],
  ]),
};
const OLD = { current: 1, secrets: new Map([[1, 'the secret of before, long enough']]) };
const NEW = { current: 2, secrets: new Map([[2, 'the secret of now, long enough']]) };

describe('tokens', () => {
  const ref = fc.record({
    id: fc.bigInt({ min: 1n, max: 2n ** 47n }),
    sentOn: fc
      .integer({ min: 0, max: 60_000 })
      .map((day) => new Date(Date.UTC(2020, 0, 1) + day * 86_400_000).toISOString().slice(0, 10)),
  });
  const uuid = fc.uuid();
  it('come back as they were, in any letter case, cannot be changed by a letter, and open one purpose only', () => {
    fc.assert(
      fc.property(ref, uuid, fc.integer({ min: 0, max: 30 }), (value, readerId, at) => {
        const token = deliveryToken(value, 'click', RING);
        expect(token).toMatch(/^[a-z2-7]{31}$/);
        expect(readDeliveryToken(token.toUpperCase(), 'click', RING)).toEqual(value);
        const other = token[at] === 'a' ? 'b' : 'a';
        expect(readDeliveryToken(token.slice(0, at) + other + token.slice(at + 1), 'click', RING)).toBeNull();
        for (const purpose of ['open', 'bounce'] as const) expect(readDeliveryToken(token, purpose, RING)).toBeNull();
        expect(readLeaveToken(token, 'leave', RING)).toBeNull();
        expect(readLeaveToken(leaveToken({ readerId, delivery: value }, 'choices', RING), 'leave', RING)).toBeNull();
        expect(readOwnToken(leaveToken({ readerId, delivery: value }, 'choices', RING), RING)).toBeNull();
        const until = new Date(3_600_000 * 500_000);
        expect(readOwnToken(ownToken(readerId, until, RING), RING)).toEqual({ readerId, until });
        expect(readMailToken(token, RING)).toBeNull();
        const leaving = leaveToken({ readerId, delivery: value }, 'leave', RING);
        expect(`leave-${leaving}`.length).toBeLessThanOrEqual(64);
        expect(readLeaveToken(leaving.toUpperCase(), 'leave', RING)).toEqual({ readerId, delivery: value });
        expect(readLeaveToken(leaving, 'leave-mail', RING)).toBeNull();
        expect(readLeaveToken(leaveToken({ readerId, delivery: null }, 'leave', RING), 'leave', RING)).toEqual({
          readerId,
          delivery: null,
        });
      }),
    );
    expect(readDeliveryToken('', 'click', RING)).toBeNull();
  });
  it('of a secret that was changed still open, and not without it', () => {
    const value = { id: 7n, sentOn: '2026-11-24' };
    const token = deliveryToken(value, 'open', OLD);
    expect(readDeliveryToken(token, 'open', RING)).toEqual(value);
    expect(readDeliveryToken(token, 'open', NEW)).toBeNull();
    expect(deliveryToken(value, 'open', RING)).not.toBe(token);
    const signature = signText(OLD, 'link', 'https://lanternfish.example/');
    expect(isSigned(RING, 'link', 'https://lanternfish.example/', signature)).toBe(true);
    expect(isSigned(NEW, 'link', 'https://lanternfish.example/', signature)).toBe(false);
    expect(isSigned(RING, 'gift', 'https://lanternfish.example/', signature)).toBe(false);
    expect(isSigned(RING, 'link', 'https://evil.example/', signature)).toBe(false);
  });
  it('never throw, whatever they are', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        readDeliveryToken(text, 'click', RING);
        readLeaveToken(text, 'leave', RING);
        isSigned(RING, 'link', text, text);
      }),
    );
  });
});

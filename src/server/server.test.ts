import { createServer, type Server } from 'node:http';
import { gzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { asFault, Fault } from '@/core/faults';
import { ManualClock } from './clock/clock';
import { readConfig } from './config';
import { isAway } from './db/connection';
import { allowedAddress, guardedFetch } from './fetch/guarded';
import { hashToken, mailedToken, seal, unseal } from './secrets';

describe('configuration', () => {
  it('names everything that is missing or wrong at once', () => {
    expect(() => readConfig({ INKSET_SECRET: 'short', INKSET_WEB_ORIGIN: 'ftp://x' })).toThrow(
      /INKSET_DATABASE_URL is required[\s\S]*INKSET_SECRET length must be at least 32[\s\S]*INKSET_WEB_ORIGIN/,
    );
  });
});

describe('secrets', () => {
  it('open again only unchanged and under the same secret', () => {
    const ring = { current: 1, secrets: new Map([[1, 'secret']]) };
    const sealed = seal('private', ring);
    expect(unseal(sealed, ring)).toBe('private');
    expect(() => unseal(sealed, { current: 2, secrets: new Map([[2, 'another']]) })).toThrow(/FORMER_SECRETS/);
    const turned = {
      current: 2,
      secrets: new Map([
        [1, 'secret'],
        [2, 'another'],
      ]),
    };
    expect(unseal(sealed, turned)).toBe('private');
    expect(unseal(seal('new', turned), turned)).toBe('new');
    sealed[20]! ^= 1;
    expect(() => unseal(sealed, ring)).toThrow();
    const { token, hash } = mailedToken();
    expect(hashToken(token)).toEqual(hash);
  });
});

describe('faults', () => {
  it('keep their sentence; anything else says nothing of its insides', () => {
    expect(asFault(new Fault('expired', 'Gone')).value).toEqual({ code: 'expired', sentence: 'Gone' });
    const other = asFault(new Error('select * from secrets'));
    expect(other.status).toBe(503);
    expect(other.sentence).not.toContain('secrets');
    expect(isAway(Object.assign(new Error(), { code: '57P01' }))).toBe(true);
    expect(isAway(Object.assign(new Error('x'), { code: '42601' }))).toBe(false);
  });
});

describe('the clock', () => {
  it('tells of jumps', () => {
    const clock = new ManualClock(new Date(0));
    let told = 0;
    const stop = clock.onMoved(() => {
      told += 1;
    });
    clock.advance(1000);
    stop();
    clock.advance(1000);
    expect([clock.now().getTime(), told]).toEqual([2000, 1]);
  });
});

describe('fetching on a user’s behalf', () => {
  let server: Server;
  let origin = '';
  beforeAll(async () => {
    server = createServer((request, response) => {
      if (request.url === '/round') return void response.writeHead(302, { location: '/round' }).end();
      if (request.url === '/inside') return void response.writeHead(302, { location: 'http://10.0.0.1/' }).end();
      if (request.url === '/file') return void response.writeHead(302, { location: 'file:///etc/passwd' }).end();
      if (request.url === '/bomb')
        return void response.writeHead(200, { 'content-encoding': 'gzip' }).end(gzipSync(Buffer.alloc(3_000_000)));
      if (request.url === '/slow') return;
      response.end('hello');
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    origin = `http://127.0.0.1:${(server.address() as { port: number }).port}`;
  });
  afterAll(() => {
    server.closeAllConnections();
    server.close();
  });
  const limits = { timeoutMs: 400, bytes: 1_000_000, redirects: 3 };
  const get = (path: string, loopback = true) => guardedFetch(`${origin}${path}`, loopback, {}, limits);

  it('reads what is public, and loopback only where the demo allows it', async () => {
    expect((await get('/')).bytes.toString()).toBe('hello');
    await expect(get('/', false)).rejects.toMatchObject({ code: 'invalid' });
    await expect(guardedFetch('http://localhost/', false)).rejects.toMatchObject({ code: 'invalid' });
  });
  it.each([
    ['/round', 'more than 3 times'],
    ['/inside', 'not an address on the public web'],
    ['/file', 'does not start with http'],
    ['/bomb', 'longer than 1 MB'],
    ['/slow', 'did not answer in time'],
  ])('%s ends in a sentence', async (path, sentence) => {
    await expect(get(path)).rejects.toMatchObject({ sentence: expect.stringContaining(sentence) });
  });
  it.each([
    '10.1.2.3',
    '192.168.1.1',
    '169.254.169.254',
    '172.16.0.1',
    '0.0.0.0',
    '224.0.0.1',
    '::1',
    'fe80::1',
    'fc00::1',
    '::ffff:10.0.0.1',
  ])('%s is never allowed', (address) => {
    expect(allowedAddress(address, false)).toBe(false);
  });
});

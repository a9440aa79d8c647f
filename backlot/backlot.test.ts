import { createHmac } from 'node:crypto';
import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import * as dns from 'dns-packet';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { rss } from './blog/feed';
import { Hub, type Subscription } from './blog/hub';
import { answer, encodeUdp } from './dns/answer';
import { makeRecord, readMasterFile, valueTokens, writeMasterFile } from './dns/master-file';
import { aggregateReport, elsewhere } from './mailboxes/dmarc';
import { mannerOf, PUT_OFF_MS, saidToLetter, saidToRecipient } from './mailboxes/manners';
import { dialectOf, goneNotice, junkReport } from './mailboxes/notices';
import { OutgoingMail } from './mailboxes/outgoing';
import { LivingPublic, readable } from './public/living';

const ZONE = `$ORIGIN lanternfish.example.
$TTL 600
@  IN SOA ns host 1 2 3 4 5
@  IN TXT "v=spf1 include:spf.inkset.example ~all" ; a comment
   IN MX 10 mx.postbird.example.
bounce 300 IN CNAME in.inkset.example.
ink1._domainkey IN TXT ( "v=DKIM1; k=rsa; "
                         "p=AAAA" )
www IN A 127.0.0.1
*.wild IN TXT "star"
loop IN CNAME pool
pool IN CNAME loop
a.deep IN A 127.0.0.1
`;

describe('the DNS host', () => {
  const { records, faults } = readMasterFile(ZONE, 'lanternfish.example');
  const zones = new Map([['lanternfish.example', records]]);
  const ask = (name: string, type: string) =>
    answer(zones, { type: 'query', id: 7, flags: 0x100, questions: [{ name, type: type as 'TXT' }] });
  const code = (packet: dns.Packet) => (packet.flags ?? 0) & 15;

  it('reads master files: origin, inherited owners, comments, parentheses, quoted parts (RFC 1035 5.1)', () => {
    expect(faults).toEqual([]);
    expect(records.find((r) => r.name.startsWith('ink1'))?.strings).toEqual(['v=DKIM1; k=rsa; ', 'p=AAAA']);
    expect(records.find((r) => r.type === 'MX')).toMatchObject({
      name: 'lanternfish.example',
      priority: 10,
      value: 'mx.postbird.example',
    });
    expect(readMasterFile(writeMasterFile('lanternfish.example', records), 'lanternfish.example').records).toEqual(records);
    expect(readMasterFile('@ IN WHAT 1', 'a.example').faults).toEqual([
      { line: 1, text: '“WHAT” is no record type this host knows' },
    ]);
  });
  it('tells "no such name" from "no such type", follows aliases, knows wildcards', () => {
    expect(code(ask('nothing.lanternfish.example', 'TXT'))).toBe(3);
    expect(code(ask('www.lanternfish.example', 'TXT'))).toBe(0);
    expect(code(ask('deep.lanternfish.example', 'TXT'))).toBe(0);
    expect(ask('bounce.lanternfish.example', 'A').answers).toHaveLength(1);
    expect(ask('x.wild.lanternfish.example', 'TXT').answers).toHaveLength(1);
    expect(ask('x.y.z.wild.lanternfish.example', 'TXT').answers).toHaveLength(1);
    expect(ask('lanternfish.example', 'NS').answers).toHaveLength(2);
    expect(code(ask('loop.lanternfish.example', 'A'))).toBe(2);
    expect(code(ask('elsewhere.example', 'A'))).toBe(5);
  });
  it('cuts long values into strings of 255 and sends what does not fit by TCP', () => {
    const record = makeRecord('k.lanternfish.example', 'TXT', valueTokens('x'.repeat(600), 'TXT'), 60, 'lanternfish.example')!;
    expect(record.strings?.map((part) => part.length)).toEqual([255, 255, 90]);
    const query = { type: 'query', id: 1, questions: [{ name: 'k.lanternfish.example', type: 'TXT' }] } as dns.Packet;
    const response = dns.decode(encodeUdp(answer(new Map([['lanternfish.example', [record]]]), query), query));
    expect(response.flags! & 0x200).toBe(0x200);
    expect(response.answers).toEqual([]);
  });
});

describe('what providers send of their own', () => {
  it('is tried again for days while nobody takes it, each once, and then given up', async () => {
    let now = Date.parse('2026-11-24T09:00:00Z');
    let open = false;
    const taken: string[] = [];
    let tries = 0;
    const mail = new OutgoingMail(
      async () => new Date(now),
      async ({ to }) => {
        tries += 1;
        if (!open) throw new Error('connection refused');
        taken.push(to);
      },
    );
    for (const to of ['a', 'b', 'c']) await mail.add({ from: '', to, raw: '' });
    // A day's outage, looked at each minute: tried some thirty times, and nothing lost.
    for (let minute = 0; minute < 1_440; minute += 1) {
      now += 60_000;
      await mail.work();
    }
    expect(tries / 3).toBeLessThan(40);
    open = true;
    now += 3_600_000;
    await Promise.all([mail.work(), mail.work()]);
    await mail.work();
    expect(taken.sort()).toEqual(['a', 'b', 'c']);
    expect(mail.waiting).toBe(0);
    open = false;
    await mail.add({ from: '', to: 'd', raw: '' });
    now += 6 * 86_400_000;
    await mail.work();
    expect(mail.waiting).toBe(0);
  });
});

describe('the public', () => {
  const HTML = `<img src="https://go.example/o/1.gif"><p>Words <a href="https://go.example/c/1?a=1&amp;b=2">of the deep</a> <a href="https://go.example/c/2">and more</a></p>
    <a href="https://go.example/leave">Unsubscribe</a> <a href="https://go.example/see">Read it in a browser</a>`;
  const living = () => {
    let now = Date.parse('2026-11-24T09:00:00Z');
    const did: string[] = [];
    const note = (what: string) => async (url: string) => {
      did.push(`${what} ${url}`);
    };
    const world = new LivingPublic(async () => new Date(now), {
      fetch: note('fetch'),
      leave: note('leave'),
      complain: note('complain'),
      answer: note('answer'),
    });
    return { world, did, later: (ms: number) => (now += ms) };
  };
  const to = (n: number) => `reader${n}@${['heronmail', 'postbird', 'kestrel', 'fjordbox'][n % 4]}.example`;
  const letter = (n: number, subject = 'Tides') => ({
    id: String(n),
    to: to(n),
    from: 'a@b.example',
    subject,
    html: HTML,
    leaveUrl: 'https://go.example/leave',
  });

  it('finds what a letter fetches, and the links that somebody would follow', () => {
    expect(readable(HTML)).toEqual({
      pictures: ['https://go.example/o/1.gif'],
      links: ['https://go.example/c/1?a=1&b=2', 'https://go.example/c/2'],
    });
  });

  it('does nothing asleep; awake it reads, follows, answers, leaves and complains, the same each time, and writes down what was so', async () => {
    const run = async (awake: boolean) => {
      const { world, did, later } = living();
      world.wake(awake);
      world.junkAt('postbird.example', 1);
      for (let n = 0; n < 1_200; n += 1) await world.came(letter(n));
      expect(await world.work()).toBe(0);
      later(86_400_000);
      await world.work();
      return { did, truth: world.truth, waiting: world.waiting };
    };
    expect(await run(false)).toEqual({ did: [], truth: [], waiting: 0 });
    const [one, other] = [await run(true), await run(true)];
    expect(one).toEqual(other);
    expect(one.waiting).toBe(0);
    expect(one.truth).toHaveLength(1_200);
    const count = (what: string) => one.did.filter((line) => line.startsWith(what)).length;
    for (const [what, field] of [
      ['leave', 'left'],
      ['complain', 'complained'],
      ['answer', 'answered'],
    ] as const)
      expect(count(what), what).toBe(one.truth.filter((row) => row[field]).length);
    expect(count('answer')).toBeGreaterThan(0);
    expect(count('fetch https://go.example/c')).toBeGreaterThan(one.truth.filter(({ clicked }) => clicked).length);
    expect(one.truth.filter((row) => row.to.endsWith('@postbird.example') && row.read)).toEqual([]);
    const reading = one.truth.filter((row) => !row.to.endsWith('@postbird.example'));
    expect(reading.filter(({ read }) => read).length / reading.length).toBeGreaterThan(0.3);
    expect(count('fetch https://go.example/leave')).toBe(0);
  });

  it('has providers that trust a sender less with each complaint, and more with each reader', async () => {
    const { world, later } = living();
    world.wake(true);
    expect(world.junkNow('kestrel.example')).toBe(0);
    const some = async (from: number) => {
      for (let n = from; n < from + 1_500; n += 1) await world.came(letter(n, `Tides ${from}`));
      later(86_400_000);
      await world.work();
    };
    await some(0);
    const complained = world.truth.filter((row) => row.complained && row.to.endsWith('@kestrel.example')).length;
    const blamed = world.junkNow('kestrel.example');
    expect(complained > 0).toBe(blamed > 0);
    expect(
      Math.max(...['heronmail', 'postbird', 'kestrel', 'fjordbox'].map((name) => world.junkNow(`${name}.example`))),
    ).toBeGreaterThan(0);
    world.junkAt('kestrel.example', 0.5);
    expect(world.junkNow('kestrel.example')).toBeCloseTo(0.5 + 0.5 * blamed, 9);
    world.junkAt('kestrel.example', Number.NaN);
    expect(world.junkNow('kestrel.example')).toBeCloseTo(blamed, 9);
  });

  it('is nobody at other providers, and forgets what was to come when it goes to sleep', async () => {
    const { world, did, later } = living();
    world.wake(true);
    await world.came({ ...letter(1), to: 'x@elsewhere.example' });
    expect(world.truth).toEqual([]);
    for (let n = 0; n < 50; n += 1) await world.came(letter(n));
    expect(world.waiting).toBeGreaterThan(0);
    world.wake(false);
    later(86_400_000);
    await world.work();
    expect(did).toEqual([]);
  });
});

describe('the mailboxes', () => {
  it('answer by how the address begins', () => {
    expect(
      ['mara@a.example', 'nobody-x@a.example', 'Gone-x@a.example', 'full-x@a', 'slow-x@a', 'refuse-x@a'].map(mannerOf),
    ).toEqual(['takes', 'nobody', 'gone', 'full', 'slow', 'refuse']);
    expect(saidToRecipient('grey', 0)?.[0]).toBe(450);
    expect(saidToRecipient('grey', PUT_OFF_MS)).toBeNull();
    expect([saidToRecipient('nobody', 0)?.[0], saidToLetter('junk')?.[0], saidToLetter('takes')]).toEqual([550, 554, null]);
  });
  const of = {
    returnPath: 'b-1@bounce.example',
    recipient: 'gone-x@a.example',
    host: 'mx.a.example',
    date: new Date(0),
    original: 'To: gone-x@a.example\r\nSubject: s\r\n\r\nbody',
  };
  it('tell of a dead mailbox in five dialects, each address always in the same', () => {
    const told = [0, 1, 2, 3, 4].map((dialect) => goneNotice(of, dialect));
    expect(new Set(told).size).toBe(5);
    for (const notice of told) expect(notice).toContain('gone-x@a.example');
    expect(dialectOf('gone-x@a.example')).toBe(dialectOf('gone-x@a.example'));
    expect(new Set(Array.from({ length: 60 }, (_, n) => dialectOf(`gone-${n}@a.example`))).size).toBe(5);
  });
  it('report as junk without the reader’s address, and what a day brought as XML', () => {
    expect(junkReport(of)).not.toContain('gone-x@a.example');
    const seen = elsewhere('heronmail.example', 'a.example', '2026-11-24', 'reject', 180, 'ink1');
    expect(elsewhere('heronmail.example', 'a.example', '2026-11-24', 'reject', 180, 'ink1')).toEqual(seen);
    expect(seen.some(({ dkim, spf }) => dkim && !spf)).toBe(true);
    expect(
      aggregateReport({ reporter: 'heronmail.example', domain: 'a.example', policy: 'none', day: '2026-11-24', seen }),
    ).toMatch(/<count>2<\/count>/);
  });
});

describe('the hub of the blog', () => {
  const got: { method: string; url: string; headers: IncomingMessage['headers']; body: string }[] = [];
  let answers = (challenge: string | null) => challenge ?? '';
  const told: Subscription[] = [];
  let now = new Date('2026-11-24T09:00:00Z');
  const hub = new Hub(
    told,
    '/feed.xml',
    () => undefined,
    async () => now,
  );
  const server = createServer(async (request, response) => {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk as Buffer);
    const { method = '', url = '', headers } = request;
    response.end(answers(new URL(url, 'http://a.test').searchParams.get('hub.challenge')));
    got.push({ method, url, headers, body: Buffer.concat(chunks).toString() });
  });
  const topic = 'http://blog.localhost/feed.xml';
  let callback = '';
  beforeAll(async () => {
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    callback = `http://127.0.0.1:${(server.address() as AddressInfo).port}/told?x=1`;
  });
  afterAll(() => server.close());
  const wish = async (more: Record<string, string> = {}) => {
    const asked = got.length;
    const { status } = await hub.wish(
      new URLSearchParams({ 'hub.mode': 'subscribe', 'hub.topic': topic, 'hub.callback': callback, ...more }),
    );
    if (status === 202) await expect.poll(() => got.length).toBe(asked + 1);
    return status;
  };
  const tell = () => hub.tell((origin) => `what ${origin} has`);

  it('asks back, tells whoever meant it until their time is over, signed where that was agreed on', async () => {
    answers = () => 'something else';
    expect(await wish()).toBe(202);
    await tell();
    expect(told).toEqual([]);
    answers = (challenge) => challenge ?? '';
    expect(await wish({ 'hub.secret': 'between us', 'hub.lease_seconds': '86400' })).toBe(202);
    await expect.poll(() => told.length).toBe(1);
    const asked = new URL(got.at(-1)!.url, callback).searchParams;
    expect([asked.get('x'), asked.get('hub.topic'), asked.get('hub.lease_seconds')]).toEqual(['1', topic, '86400']);
    // Asked for again, it is one wish.
    await wish({ 'hub.secret': 'between us', 'hub.lease_seconds': '86400' });
    await expect.poll(() => told.length).toBe(1);
    await tell();
    const { method, headers, body } = got.at(-1)!;
    expect([method, body]).toEqual(['POST', 'what http://blog.localhost has']);
    expect(headers.link).toBe(`<http://blog.localhost/hub>; rel="hub", <${topic}>; rel="self"`);
    expect(headers['x-hub-signature']).toBe(`sha256=${createHmac('sha256', 'between us').update(body).digest('hex')}`);
    now = new Date('2026-11-25T09:00:01Z');
    const before = got.length;
    await tell();
    expect(got).toHaveLength(before);
    await wish();
    await expect.poll(() => told[0]?.secret).toBe('');
    await wish({ 'hub.mode': 'unsubscribe' });
    await expect.poll(() => told.length).toBe(0);
  });
  it('refuses what is no wish of its feed', async () => {
    const odd: Record<string, string>[] = [
      { 'hub.mode': 'publish' },
      { 'hub.topic': 'http://blog.localhost/other.xml' },
      { 'hub.callback': 'file:///etc/passwd' },
      { 'hub.secret': 'x'.repeat(200) },
    ];
    for (const more of odd) expect(await wish(more)).toBe(400);
  });
});

describe('the blog', () => {
  it('gives a feed whose tag changes with its posts', () => {
    const post = { slug: 'a', title: 'A & B', summary: 's', html: '<p>]]></p>', at: '2026-11-24T09:00:00Z' };
    const one = rss([post], 'http://blog.test', 'T');
    expect(one.body).toContain('<title>A &amp; B</title>');
    expect(one.body).toContain(']]]]><![CDATA[>');
    expect(rss([post, { ...post, slug: 'b' }], 'http://blog.test', 'T').etag).not.toBe(one.etag);
  });
});

import { createSocket, type RemoteInfo, type Socket } from 'node:dgram';
import * as dns from 'dns-packet';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { zoneFile } from '@/core/senders/zone-file';
import { askServer } from '@/server/dns/client';
import { dnsResolver, LookupFailed } from '@/server/dns/resolver';
import { addDomain, checkDomain, domainOf } from '@/server/senders/domains';
import { servedKey, switchAliases } from '@/server/senders/keys';
import { type DnsHost, startDnsHost } from '../../cli/dns-host';
import { TestWorld } from './world';

/*
 * Real look-ups: the Backlot's DNS host as a process of its own, asked over UDP and TCP, in each of its moods.
 */
let world: TestWorld;
let host: DnsHost;

beforeAll(async () => {
  world = await TestWorld.open();
  host = await startDnsHost();
  await put(
    'inkset.example',
    'spf IN TXT "v=spf1 ip4:198.51.100.5 -all"\nin IN A 127.0.0.1\nin IN TXT "v=spf1 include:spf.inkset.example -all"\n*._report._dmarc.in IN TXT "v=DMARC1"\n',
  );
});
afterEach(() => host.mood('normal'));
afterAll(async () => {
  host.close();
  await world.close();
});

const put = (domain: string, zone: string) => host.put(domain, zone);
const mood = (name: string) => host.mood(name);
const resolver = (timeoutMs = 400) => dnsResolver([`127.0.0.1:${host.port}`], host.port, timeoutMs);

describe('the resolver', () => {
  it('finds, tells "no such name" from "no such type", follows aliases and sorts mail hosts', async () => {
    await put(
      'a.example',
      '@ IN MX 20 b\n@ IN MX 10 c\nb IN A 127.0.0.1\nalias IN CNAME b\nx IN TXT "one" "two"\n@ IN TXT "s"\n',
    );
    const dns = resolver();
    expect(await dns.look('x.a.example', 'TXT')).toMatchObject({ kind: 'found', values: ['onetwo'] });
    expect(await dns.look('alias.a.example', 'A')).toMatchObject({
      kind: 'found',
      values: ['127.0.0.1'],
      aliases: ['b.a.example'],
    });
    expect(await dns.look('b.a.example', 'TXT')).toMatchObject({ kind: 'none', exists: true });
    expect(await dns.look('none.a.example', 'TXT')).toMatchObject({ kind: 'none', exists: false });
    expect(await dns.look('elsewhere.test', 'TXT')).toEqual({ kind: 'unanswered', fault: 'refused' });
    expect(await dns.mailHosts('a.example')).toEqual([
      { host: 'c.a.example', rank: 10 },
      { host: 'b.a.example', rank: 20 },
    ]);
    expect(await dns.mailHosts('b.a.example')).toEqual([{ host: 'b.a.example', rank: 0 }]);
    await expect(dns.mailHosts('none.a.example')).rejects.toBeInstanceOf(LookupFailed);
    await put('null.example', '@ IN MX 0 .\n');
    expect(await dns.mailHosts('null.example')).toEqual([]);
  });
  it('takes four kilobytes of TXT by TCP when UDP is cut off', async () => {
    const lines = Array.from({ length: 20 }, (_, n) => `@ IN TXT "${`${n}-`.padEnd(220, 'x')}"`);
    await put('large.example', `${lines.join('\n')}\n`);
    const answer = await resolver().look('large.example', 'TXT');
    expect(answer.kind === 'found' && answer.values.length).toBe(20);
  });
  it('asks every name server of the zone a domain lies in', async () => {
    await put('deep.example', 'bounce.post IN CNAME in.inkset.example.\n');
    const authority = await resolver().authority('post.deep.example');
    expect(authority).toMatchObject({ zone: 'deep.example', servers: ['ns1.dnshost.example', 'ns2.dnshost.example'] });
    expect(await authority.look('bounce.post.deep.example', 'TXT')).toMatchObject({
      values: ['v=spf1 include:spf.inkset.example -all'],
      aliases: ['in.inkset.example'],
    });
    expect(authority.disagreed()).toEqual([]);
  });
  it.each([
    ['silent', 'timeout'],
    ['failing', 'servfail'],
    ['bogus', 'bogus'],
  ])('a %s resolver is "%s", not "missing"', async (name, fault) => {
    await mood(name);
    expect(await resolver(150).look('a.example', 'TXT')).toEqual({ kind: 'unanswered', fault });
  });
  it('name servers that do not know the zone are lame', async () => {
    const authority = await resolver().authority('a.example');
    await mood('lame');
    expect(await authority.look('a.example', 'TXT')).toEqual({ kind: 'unanswered', fault: 'lame' });
  });
});

describe('one question over UDP', () => {
  const sockets: Socket[] = [];
  afterEach(() => {
    for (const socket of sockets.splice(0)) socket.close();
  });
  const bound = (address: string) =>
    new Promise<Socket>((resolve) => {
      const socket = createSocket('udp4');
      sockets.push(socket);
      socket.bind(0, address, () => resolve(socket));
    });
  const answer = (query: Buffer, value: string, more: { name?: string; question?: boolean } = {}) => {
    const asked = dns.decode(query);
    const question = asked.questions![0]!;
    const name = more.name ?? question.name;
    return dns.encode({
      type: 'response',
      id: asked.id,
      questions: more.question === false ? [] : [{ ...question, name }],
      answers: [{ type: 'TXT', name, ttl: 60, data: [value] }],
    });
  };
  /** A server that does this with each question. */
  async function server(reply: (query: Buffer, peer: RemoteInfo, socket: Socket) => void) {
    const socket = await bound('127.0.0.1');
    socket.on('message', (query, peer) => reply(query, peer, socket));
    return { address: '127.0.0.1', port: socket.address().port };
  }
  const ask = (at: { address: string; port: number }, name = 'a.example', ms = 400) =>
    askServer(at, { name, type: 'TXT', recursive: true }, ms);

  it('is understood in whatever case it is asked and answered', async () => {
    const at = await server((query, peer, socket) =>
      socket.send(answer(query, 'fine', { name: 'A.eXample' }), peer.port, peer.address),
    );
    expect(await ask(at, 'a.example')).toMatchObject({ kind: 'found', values: ['fine'] });
    expect(await ask(at, 'A.EXAMPLE.')).toMatchObject({ kind: 'found', values: ['fine'] });
  });
  it.each(['127.0.0.1', '127.0.0.2'])('is not answered by somebody else, at %s, however quick', async (address) => {
    const other = await bound(address);
    const at = await server((query, peer, socket) => {
      other.send(Buffer.from('rubbish'), peer.port, peer.address);
      other.send(answer(query, 'forged'), peer.port, peer.address, () =>
        setImmediate(() => socket.send(answer(query, 'true'), peer.port, peer.address)),
      );
    });
    expect(await ask(at)).toMatchObject({ kind: 'found', values: ['true'] });
  });
  it('waits for the answer where rubbish comes first, and says so where nothing else comes', async () => {
    const at = await server((query, peer, socket) => {
      socket.send(Buffer.from('rubbish'), peer.port, peer.address);
      if (dns.decode(query).questions![0]!.name === 'a.example') socket.send(answer(query, 'true'), peer.port, peer.address);
    });
    expect(await ask(at)).toMatchObject({ kind: 'found', values: ['true'] });
    expect(await ask(at, 'b.example', 100)).toEqual({ kind: 'unanswered', fault: 'malformed' });
  });
  it('believes no answer to another question, or to none', async () => {
    const at = await server((query, peer, socket) => {
      socket.send(answer(query, 'other', { name: 'other.example' }), peer.port, peer.address);
      socket.send(answer(query, 'none', { question: false }), peer.port, peer.address);
    });
    expect(await ask(at, 'a.example', 100)).toEqual({ kind: 'unanswered', fault: 'timeout' });
  });
});

describe('a domain check over real DNS', () => {
  it('goes from nothing to right, and a silent name server ends it and changes nothing', async () => {
    const newsletter = await world.newsletter();
    const ctx = { ...world.ctx, resolver: resolver(1_200) };
    await put('lanternfish.example', '');
    const { id } = await addDomain(ctx, newsletter, 'Lanternfish.Example.');
    expect((await checkDomain(ctx, id)).state).toBe('incomplete');
    await put('lanternfish.example', zoneFile('lanternfish.example', (await domainOf(ctx, newsletter, id)).records));
    const right = await checkDomain(ctx, id);
    expect(right.state).toBe('authenticated');
    expect(right.nameServers).toHaveLength(2);
    expect(right.facts.envelope?.result).toBe('pass');
    await mood('silent');
    // What nobody answers for says nothing: the check ends, and the domain stays what it was.
    const silent = await checkDomain(ctx, id);
    expect(silent.state).toBe('authenticated');
    expect(silent.records.filter((record) => record.needed).map((record) => record.judgement?.verdict)).toEqual(
      Array(4).fill('right'),
    );
  });

  it('serves keys behind aliases that belong to it, and nothing else', async () => {
    const newsletter = await world.newsletter('Aliases');
    const { id } = await addDomain(world.ctx, newsletter, 'alias.example');
    await switchAliases(world.ctx, newsletter, id, true);
    const { records } = await domainOf(world.ctx, newsletter, id);
    const [first, next] = records.filter((record) => record.purpose.startsWith('dkim'));
    expect([first?.type, next?.type]).toEqual(['CNAME', 'CNAME']);
    expect(await servedKey(world.ctx, first!.value)).toBe(first!.behind);
    expect(await servedKey(world.ctx, next!.value.toUpperCase())).toBe(next!.behind);
    expect(await servedKey(world.ctx, first!.value.replace('ink1', 'ink9'))).toBeNull();
    expect(await servedKey(world.ctx, 'ink1.x.keys.other.example')).toBeNull();
  });
});

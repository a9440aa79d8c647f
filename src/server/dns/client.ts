import { randomInt } from 'node:crypto';
import { createSocket } from 'node:dgram';
import { connect } from 'node:net';
import * as dns from 'dns-packet';
import ipaddr from 'ipaddr.js';
import type { DnsAnswer, DnsFault, RecordType } from '@/core/senders/dns';

export type Server = { address: string; port: number };
export type Query = { name: string; type: RecordType; recursive: boolean; checkingDisabled?: boolean };

const RECURSION_DESIRED = 0x100;
const CHECKING_DISABLED = 0x10;
const TRUNCATED = 0x200;
const AUTHORITATIVE = 0x400;
const MOST_BYTES = 65_535;

/** Thrown inside this file for a question that got no usable answer. */
class NoAnswer extends Error {
  constructor(readonly fault: DnsFault) {
    super(fault);
  }
}

/**
 * Asks one name server one question over UDP, and again over TCP when the answer did not fit (RFC 1035 4.2.1, RFC 7766). EDNS says that we
 * take 1,232 bytes (RFC 6891). Rejects never; what went wrong is the answer's fault. `servfail` from a validating resolver that answers
 * the same question with checking disabled is `bogus` (RFC 4035 3.2.2); an authoritative server that is not one is `lame`. Names are asked for, and
 * compared, in small letters (RFC 4343). Only what comes from the server that was asked, to the question that was asked, is believed (RFC 5452 section 9.1).
 */
export async function askServer(server: Server, asked: Query, timeoutMs: number): Promise<DnsAnswer> {
  const query = { ...asked, name: clean(asked.name) };
  try {
    const packet = await exchange(server, query, timeoutMs);
    const answer = read(packet, query);
    if (answer.kind === 'unanswered' && answer.fault === 'servfail' && query.recursive && !query.checkingDisabled) {
      const unchecked = await askServer(server, { ...query, checkingDisabled: true }, timeoutMs);
      return unchecked.kind === 'unanswered' ? answer : { kind: 'unanswered', fault: 'bogus' };
    }
    return answer;
  } catch (error) {
    return { kind: 'unanswered', fault: error instanceof NoAnswer ? error.fault : 'malformed' };
  }
}

async function exchange(server: Server, query: Query, timeoutMs: number): Promise<dns.DecodedPacket> {
  const id = randomInt(65_536);
  const message = dns.encode({
    type: 'query',
    id,
    flags: (query.recursive ? RECURSION_DESIRED : 0) | (query.checkingDisabled ? CHECKING_DISABLED : 0),
    questions: [{ name: query.name, type: query.type, class: 'IN' }],
    additionals: [
      {
        type: 'OPT',
        name: '.',
        udpPayloadSize: 1_232,
        extendedRcode: 0,
        ednsVersion: 0,
        flags: 0,
        flag_do: false,
        options: [],
      } as never,
    ],
  });
  const first = await overUdp(server, message, id, query, timeoutMs);
  return ((first.flags ?? 0) & TRUNCATED) === 0 ? first : overTcp(server, message, id, query, timeoutMs);
}

/** Is this the answer to our question? Anything else that arrives at the port is passed over. Only a server that failed may leave the question out. */
function belongs(packet: dns.DecodedPacket, id: number, query: Query): boolean {
  if (packet.id !== id || packet.type !== 'response') return false;
  const question = packet.questions?.[0];
  if (question === undefined) return ((packet.flags ?? 0) & 15) !== 0;
  return clean(question.name) === query.name && question.type === query.type;
}

/** Did it come from the very server that was asked? */
function isFrom(server: Server, peer: { address: string; port: number }): boolean {
  const address = (text: string) => ipaddr.process(text.replace(/%.*$/, '')).toNormalizedString();
  return peer.port === server.port && address(peer.address) === address(server.address);
}

function overUdp(server: Server, message: Buffer, id: number, query: Query, timeoutMs: number): Promise<dns.DecodedPacket> {
  return new Promise((resolve, reject) => {
    const socket = createSocket(server.address.includes(':') ? 'udp6' : 'udp4');
    const send = () =>
      socket.send(message, server.port, server.address, (error) => error && finish(() => reject(new NoAnswer('timeout'))));
    // A lost packet is sent once more halfway.
    const again = setTimeout(send, timeoutMs / 2);
    // What cannot be read may have been thrown in by somebody else: the real answer is waited for, and only then is it said.
    let malformed = false;
    const end = setTimeout(() => finish(() => reject(new NoAnswer(malformed ? 'malformed' : 'timeout'))), timeoutMs);
    let done = false;
    const finish = (report: () => void) => {
      if (done) return;
      done = true;
      clearTimeout(again);
      clearTimeout(end);
      socket.close();
      report();
    };
    socket.on('error', () => finish(() => reject(new NoAnswer('timeout'))));
    socket.on('message', (bytes, peer) => {
      if (!isFrom(server, peer)) return;
      try {
        const packet = dns.decode(bytes);
        if (belongs(packet, id, query)) finish(() => resolve(packet));
      } catch {
        malformed = true;
      }
    });
    send();
  });
}

function overTcp(server: Server, message: Buffer, id: number, query: Query, timeoutMs: number): Promise<dns.DecodedPacket> {
  return new Promise((resolve, reject) => {
    const socket = connect(server.port, server.address, () => {
      const length = Buffer.alloc(2);
      length.writeUInt16BE(message.length);
      socket.write(Buffer.concat([length, message]));
    });
    const fail = (fault: DnsFault) => {
      socket.destroy();
      reject(new NoAnswer(fault));
    };
    socket.setTimeout(timeoutMs, () => fail('timeout'));
    socket.on('error', () => fail('timeout'));
    socket.on('end', () => fail('malformed'));
    let pending: Buffer = Buffer.alloc(0);
    socket.on('data', (chunk) => {
      pending = Buffer.concat([pending, chunk]);
      if (pending.length > MOST_BYTES + 2) return fail('malformed');
      if (pending.length < 2 || pending.length < 2 + pending.readUInt16BE(0)) return;
      socket.removeAllListeners('end');
      socket.destroy();
      try {
        const packet = dns.decode(pending.subarray(2, 2 + pending.readUInt16BE(0)));
        if (!belongs(packet, id, query)) return fail('malformed');
        resolve(packet);
      } catch {
        fail('malformed');
      }
    });
  });
}

const clean = (name: string) => name.toLowerCase().replace(/\.$/, '');

function read(packet: dns.DecodedPacket, query: Query): DnsAnswer {
  const code = (packet.flags ?? 0) & 15;
  const none = (exists: boolean): DnsAnswer => {
    const soa = packet.authorities?.find((record) => record.type === 'SOA') as
      | { ttl?: number; data?: { minimum?: number } }
      | undefined;
    // How long "there is nothing" may be remembered (RFC 2308 section 5).
    return { kind: 'none', exists, ttl: Math.min(soa?.ttl ?? 60, soa?.data?.minimum ?? 60) };
  };
  if (code === 2) return { kind: 'unanswered', fault: 'servfail' };
  if (code !== 0 && code !== 3) return { kind: 'unanswered', fault: query.recursive ? 'refused' : 'lame' };
  if (!query.recursive && ((packet.flags ?? 0) & AUTHORITATIVE) === 0) return { kind: 'unanswered', fault: 'lame' };
  const answers = (packet.answers ?? []) as { name: string; type: string; ttl?: number; data: unknown }[];
  const aliases: string[] = [];
  let at = query.name;
  for (
    let alias = answers.find((r) => r.type === 'CNAME' && clean(r.name) === at);
    alias && query.type !== 'CNAME';
    alias = answers.find((r) => r.type === 'CNAME' && clean(r.name) === at)
  ) {
    at = clean(String(alias.data));
    if (aliases.includes(at)) return { kind: 'unanswered', fault: 'loop' };
    aliases.push(at);
  }
  const fits = answers.filter((record) => record.type === query.type && clean(record.name) === at);
  if (fits.length)
    return {
      kind: 'found',
      values: fits.map((record) => recordValue(query.type, record.data)),
      ttl: Math.min(...fits.map((record) => record.ttl ?? 0)),
      aliases,
    };
  // An alias out of the server's own zones: whoever asked follows it.
  if (aliases.length && !query.recursive) return { kind: 'found', values: [], ttl: 60, aliases };
  return none(code !== 3);
}

function recordValue(type: RecordType, data: unknown): string {
  if (type === 'TXT')
    return (Array.isArray(data) ? data : [data]).map((part) => Buffer.from(part as Buffer).toString('utf8')).join('');
  if (type === 'MX') {
    const { preference = 0, exchange } = data as { preference?: number; exchange: string };
    return `${preference} ${clean(exchange) || '.'}`;
  }
  return type === 'A' || type === 'AAAA' ? String(data) : clean(String(data));
}

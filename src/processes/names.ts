/*
 * names: the name server for keys behind aliases (keys.MAILDOMAIN), UDP and TCP. It needs PostgreSQL; it reports to the log; any number of
 * it may run. It answers TXT for keys it knows, "no such name" for others below its zone, refuses everything else, and says SERVFAIL while
 * the database is away, so that resolvers ask another one or come again instead of remembering an emptiness.
 */
import { createSocket } from 'node:dgram';
import { createServer } from 'node:net';
import * as dns from 'dns-packet';
import { openRuntime } from '@/server/runtime';
import { servedKey } from '@/server/senders/keys';
import { onStop, start } from './lifecycle';

const AUTHORITATIVE = 0x400;
const [SERVFAIL, NXDOMAIN, NOTIMP, REFUSED] = [2, 3, 4, 5];
const TTL_SECONDS = 300;

start(async () => {
  const ctx = await openRuntime('names', undefined, 4);
  const zone = `keys.${ctx.config.mailDomain}`;

  const respond = async (message: Buffer): Promise<Buffer | null> => {
    let query: dns.DecodedPacket;
    try {
      query = dns.decode(message);
    } catch {
      return null;
    }
    // An answer is not answered: two servers that do would never stop (RFC 1035 section 7.3).
    if (query.type !== 'query') return null;
    const question = query.questions?.[0];
    const reply = (code: number, answers: dns.Answer[] = []) =>
      dns.encode({
        type: 'response',
        id: query.id,
        flags: AUTHORITATIVE | ((query.flags ?? 0) & 0x100) | code,
        questions: query.questions ?? [],
        answers,
      });
    // Of all kinds of query the standard one is all we know (RFC 1035 section 4.1.1).
    if (((query.flags ?? 0) >> 11) & 15) return reply(NOTIMP);
    const name = question?.name.toLowerCase() ?? '';
    if (!question || (name !== zone && !name.endsWith(`.${zone}`))) return reply(REFUSED);
    try {
      const key = await servedKey(ctx, name);
      if (key === null) return reply(name === zone ? 0 : NXDOMAIN);
      // One string holds at most 255 bytes (RFC 1035 section 3.3.14).
      const data = (key.match(/.{1,255}/g) ?? []).map((part) => Buffer.from(part));
      return reply(0, question.type === 'TXT' ? [{ type: 'TXT', name: question.name, ttl: TTL_SECONDS, data }] : []);
    } catch (error) {
      ctx.log.warn({ reason: (error as Error).message }, 'a key could not be looked up');
      return reply(SERVFAIL);
    }
  };

  const udp = createSocket('udp4');
  udp.on('message', (message, from) => {
    void respond(message).then((answer) => answer && udp.send(answer, from.port, from.address));
  });
  udp.on('error', (error) => ctx.log.warn({ reason: error.message }, 'names'));
  const tcp = createServer((socket) => {
    let pending: Buffer = Buffer.alloc(0);
    socket.setTimeout(10_000, () => socket.destroy());
    socket.on('error', () => socket.destroy());
    socket.on('data', async (chunk) => {
      pending = Buffer.concat([pending, chunk]);
      while (pending.length >= 2 && pending.length >= 2 + pending.readUInt16BE(0)) {
        const message = pending.subarray(2, 2 + pending.readUInt16BE(0));
        pending = pending.subarray(2 + message.length);
        const answer = await respond(message);
        if (answer) socket.write(dns.streamEncode({ ...dns.decode(answer) } as dns.Packet));
      }
    });
  });
  await new Promise<void>((resolve, reject) => {
    udp.once('error', reject);
    udp.bind(ctx.config.namesPort, ctx.config.listen.names, resolve);
  });
  await new Promise<void>((resolve, reject) => {
    tcp.once('error', reject);
    tcp.listen(ctx.config.namesPort, ctx.config.listen.names, resolve);
  });
  ctx.log.info({ port: ctx.config.namesPort, zone }, 'names listens');
  onStop(ctx.log, async () => {
    udp.close();
    tcp.close();
    await ctx.close();
  });
});

import { authenticate } from 'mailauth';
import { afterEach, describe, expect, it } from 'vitest';
import { letterOf } from '@/server/sending/views';
import { TestWorld } from '../integration/world';
import { type MailServer, startCourier, startExim, startPostfix, unpack } from './servers';

const why = unpack();
if (why) console.log(`      skipped, no mail servers to meet: ${why}`);

let world: TestWorld | undefined;
let server: MailServer | undefined;
afterEach(async () => {
  server?.stop();
  await world?.close();
});

const READERS = 100;
const SERVERS: [string, (port: number) => Promise<MailServer>][] = [
  ['Postfix', startPostfix],
  ['Exim', startExim],
  ['Courier', startCourier],
];

describe.skipIf(why !== '')('a real mail server that takes two connections, or four', () => {
  it.each(SERVERS)(
    '%s gets every letter once, with bytes and signature as they left, and nobody is charged for its limits',
    async (_name, start) => {
      world = await TestWorld.open();
      server = await start(world.mail.port);
      const { address, domain } = server;
      world.dns.at.set(`mx.${domain}`, [address]);
      const newsletter = await world.newsletter();
      const { senderId } = await world.sender(newsletter);
      await world.readers(newsletter, [
        ...Array.from({ length: READERS }, (_, n) => `reader${n}@${domain}`),
        ...(domain.startsWith('exim') ? [`gone@${domain}`] : []),
      ]);
      const id = await world.letter(newsletter, senderId, {
        subject: 'Größe, Tiefe — “Licht”',
        nodes: [{ kind: 'paragraph', inline: [{ kind: 'text', text: `From the deep\u00a0…\n.\n${'long '.repeat(400)}` }] }],
      });
      await world.work();
      const { counts } = await letterOf(world.ctx, newsletter, id);
      expect(counts).toMatchObject({ delivered: READERS, refused: 0, givenUp: 0, bounced: domain.startsWith('exim') ? 1 : 0 });
      const tried = await world.ctx.db.selectFrom('deliveries').select('attempts').where('attempts', '<>', 1).execute();
      expect(tried).toEqual([]);
      const stands = await world.ctx.db
        .selectFrom('readers')
        .select('address_state')
        .where('address_state', '<>', 'fine')
        .execute();
      expect(stands).toHaveLength(domain.startsWith('exim') ? 1 : 0);
      await expect.poll(() => server!.stored().length, { timeout: 30_000 }).toBe(READERS);
      const stored = server.stored();
      expect(new Set(stored.map((mail) => mail.to)).size).toBe(READERS);
      for (const { source } of stored.slice(0, 12)) {
        const { dkim } = await authenticate(Buffer.from(source.replace(/\r?\n/g, '\r\n'), 'latin1'), {
          ip: '127.0.0.1',
          sender: 'b@lanternfish.example',
          disableArc: true,
          disableBimi: true,
          resolver: async (name: string) =>
            (world!.dns.records.get(name) ?? Promise.reject(Object.assign(new Error(), { code: 'ENOTFOUND' }))) as never,
        });
        expect((dkim as unknown as { results: { status: { result: string } }[] }).results[0]?.status.result).toBe('pass');
      }
    },
    120_000,
  );
});

/*
 * A worker's post office in a process of its own, as it is measured: it starts when told to and hands over whatever is due, or sends the same letter
 * without any database on as many connections (the lean limit). It reports over IPC.
 */
import pino from 'pino';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import { connect } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { postOffice, standBack } from '@/server/jobs/post-office';
import { beat, tick } from '@/server/jobs/tick';
import { MailLine } from '@/server/mail/smtp';
import { messageFor, prepare } from '@/server/sending/prepared';
import { outsideResolver } from './outside';

const config = readConfig(process.env);
const { db } = connect(config.databaseUrl, () => {}, 24, { prepares: true });
const ctx: Context = { db, clock: systemClock, config, log: pino({ level: config.logLevel }), resolver: outsideResolver() };
standBack(ctx);
const workerId = newId();
await beat(ctx, workerId);
const office = postOffice(ctx, workerId);

async function lean(letterId: string, letters: number, lines: number): Promise<void> {
  const letter = await prepare(ctx, letterId);
  let left = letters;
  const target = { host: 'sink.test', address: '127.0.0.1', port: config.mxPort };
  await Promise.all(
    Array.from({ length: lines }, async () => {
      const line = await MailLine.open(target, { heloName: 'out.inkset.example', tls: 'offered', verify: false });
      while (left > 0) {
        left -= 1;
        const id = String(1_000_000 + left);
        const to = {
          id,
          sentOn: '2026-11-24',
          readerId: '01a2153e-f122-7695-8f3f-469c1599522d',
          address: `reader${left}@heronmail.example`,
          variant: 0,
          chips: null,
        };
        const { envelope, message } = await messageFor(letter, to);
        await line.send(envelope, message);
      }
      line.close();
    }),
  );
}

process.on(
  'message',
  async (message: { start?: true; stop?: true; lean?: { letterId: string; letters: number; lines: number }; tick?: true }) => {
    if (message.start) {
      const beats = setInterval(() => void beat(ctx, workerId, office.held()), 2_000);
      beats.unref();
      office.start();
    }
    if (message.lean) {
      const began = performance.now();
      await lean(message.lean.letterId, message.lean.letters, message.lean.lines);
      process.send?.({ ms: performance.now() - began });
    }
    if (message.tick) {
      const began = performance.now();
      await tick(ctx, async () => {});
      process.send?.({ ms: performance.now() - began, rss: process.memoryUsage().rss });
    }
    if (message.stop) {
      await office.stop();
      await db.destroy();
      process.exit(0);
    }
  },
);
process.send?.('ready');

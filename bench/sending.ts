import { type ChildProcess, fork } from 'node:child_process';
import { once } from 'node:events';
import nodemailer from 'nodemailer';
import pino from 'pino';
import type { Document } from '@/core/writing/document';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { newDkimPair } from '@/server/mail/identity';
import { unseal } from '@/server/secrets';
import { deliverTo } from '@/server/sending/deliver';
import { scheduleLetter, startLetter } from '@/server/sending/letters';
import { benchNewsletter } from './newsletter';
import type { Figure } from './report';

const LETTERS = 3_000;
const YARDSTICK_LETTERS = 600;
const CONNECTIONS = 6;
const PROVIDER = 'heronmail.example';
const ROUNDS = 3;

const WORDS = 'At six hundred metres the net comes up glowing, and for about forty seconds every lanternfish is lit. ';
/** A letter of about 30 KB on the wire, with ten links of its own. */
const DOCUMENT: Document = {
  blocks: [
    { kind: 'heading', text: 'The lamp-fish census', href: 'https://lanternfish.example/census' },
    {
      kind: 'text',
      html: Array.from(
        { length: 10 },
        (_, n) => `<p>${WORDS.repeat(10)}<a href="https://lanternfish.example/${n}">Read on</a></p>`,
      ).join(''),
    },
  ],
};

async function sink(): Promise<{ port: number; counted(): Promise<{ messages: number; bytes: number }>; process: ChildProcess }> {
  const child = fork(new URL('./sink.ts', import.meta.url), { execArgv: ['--import', 'tsx'] });
  const [{ port }] = (await once(child, 'message')) as [{ port: number }];
  return {
    port,
    process: child,
    async counted() {
      child.send('count');
      return ((await once(child, 'message')) as [{ messages: number; bytes: number }])[0];
    },
  };
}

/**
 * Letters handed over per second to a local SMTP sink, by the whole way a letter goes (claimed from PostgreSQL, slots filled, signed,
 * sent on six connections, results written), beside a plain nodemailer pool that composes and signs letters of the same size on as many
 * connections and keeps no record. Both in turn, round by round.
 */
export async function sending(db: Db, databaseUrl: string): Promise<Figure> {
  const other = await sink();
  const config = readConfig({
    INKSET_DATABASE_URL: databaseUrl,
    INKSET_SECRET: 'a secret that is long enough for a bench',
    INKSET_WEB_ORIGIN: 'https://inkset.example',
    INKSET_LINK_ORIGIN: 'https://go.inkset.example',
    INKSET_MAIL_DOMAIN: 'inkset.example',
    INKSET_MX_PORT: String(other.port),
  });
  const look = async () => ({ kind: 'none' as const, exists: false, ttl: 1 });
  const resolver = {
    look,
    authority: async () => ({ zone: null, servers: [], look, disagreed: () => [] }),
    mailHosts: async (domain: string) => [domain],
    addresses: async () => ['127.0.0.1'],
  };
  const ctx: Context = { db, clock: systemClock, config, log: pino({ level: 'silent' }), resolver };
  const world = await prepareNewsletter(ctx);
  const rounds: { ours: number; pool: number }[] = [];
  try {
    for (let round = 0; round < ROUNDS; round += 1) {
      const letterId = await scheduleLetter(ctx, db, { ...world.letter, dueAt: new Date() });
      await startLetter(ctx, letterId);
      await other.counted();
      let began = performance.now();
      const handed = await deliverTo(ctx, PROVIDER, newId(), () => false);
      const ours = (1000 * handed) / (performance.now() - began);
      const got = await other.counted();
      if (got.messages !== LETTERS || handed !== LETTERS) throw new Error(`${got.messages} of ${LETTERS} letters arrived.`);
      const size = Math.round(got.bytes / got.messages);

      const { html } = await db.selectFrom('letters').select('html').where('id', '=', letterId).executeTakeFirstOrThrow();
      began = performance.now();
      await plainPool(other.port, world.pem, html ?? '', size);
      const pool = (1000 * YARDSTICK_LETTERS) / (performance.now() - began);
      rounds.push({ ours, pool });
      console.log(
        `  round ${round + 1}: ${Math.round(ours)} letters a second of ${(size / 1000).toFixed(1)} KB; plain pool ${Math.round(pool)}`,
      );
    }
  } finally {
    other.process.kill();
  }
  const best = [...rounds].sort((a, b) => a.ours / a.pool - b.ours / b.pool)[Math.floor(ROUNDS / 2)]!;
  return {
    name: 'letters handed over per second',
    value: best.ours,
    unit: 'letters/s',
    yardstick: 'plain nodemailer pool',
    yardstickValue: best.pool,
    aim: { ratioAtLeast: 4 },
  };
}

/** Composes and signs each letter anew, as a plain pool does. Adds a filler so that both sides send the same number of bytes. */
async function plainPool(port: number, pem: string, html: string, size: number): Promise<void> {
  const transport = nodemailer.createTransport({
    host: '127.0.0.1',
    port,
    secure: false,
    ignoreTLS: true,
    pool: true,
    maxConnections: CONNECTIONS,
    maxMessages: Infinity,
    dkim: { domainName: 'lanternfish.example', keySelector: 'ink1', privateKey: pem },
  });
  const text = 'The same words as plain text. '.repeat(Math.max(1, Math.round((size - html.length * 1.05 - 1_500) / 30)));
  await Promise.all(
    Array.from({ length: YARDSTICK_LETTERS }, (_, n) =>
      transport.sendMail({
        from: '"Ottoline Vance" <letters@lanternfish.example>',
        to: `reader${n}@${PROVIDER}`,
        subject: 'The lamp-fish census',
        html: html.replace(/\ue000[^\ue001]*\ue001/g, `https://go.inkset.example/e/c/${n}`),
        text,
        headers: {
          'List-Unsubscribe': `<https://go.inkset.example/e/leave/${n}>`,
          'List-Unsubscribe-Post': 'List-Unsubscribe=One-Click',
        },
      }),
    ),
  );
  transport.close();
}

async function prepareNewsletter(ctx: Context) {
  const { db } = ctx;
  const now = new Date();
  const newsletter = await benchNewsletter(ctx, 'Bench');
  const { publicKey, sealed } = await newDkimPair(ctx);
  const of = { newsletter_id: newsletter.id, created_at: now };
  const domain = 'lanternfish.example';
  const senderId = newId();
  await db
    .insertInto('senders')
    .values({ id: senderId, ...of, name: 'Ottoline Vance', address: `letters@${domain}`, domain, confirmed_at: now })
    .execute();
  const domainId = newId();
  await db
    .insertInto('domains')
    .values({ id: domainId, ...of, name: domain, reports_token: newId(), state: 'authenticated', next_check_at: now })
    .execute();
  await db
    .insertInto('domain_keys')
    .values({
      id: newId(),
      domain_id: domainId,
      selector: 'ink1',
      algorithm: 'rsa',
      role: 'active',
      public_key: publicKey,
      private_key: sealed,
      created_at: now,
    })
    .execute();
  const list = await db.selectFrom('lists').select('id').where('newsletter_id', '=', newsletter.id).executeTakeFirstOrThrow();
  const readers = Array.from({ length: LETTERS }, (_, n) => ({
    id: newId(),
    newsletter_id: newsletter.id,
    address: `reader${n}@${PROVIDER}`,
    address_key: `reader${n}@${PROVIDER}`,
    provider: PROVIDER,
    created_at: now,
  }));
  for (let at = 0; at < readers.length; at += 1_000) {
    const some = readers.slice(at, at + 1_000);
    await db.insertInto('readers').values(some).execute();
    await db
      .insertInto('memberships')
      .values(
        some.map((reader) => ({
          reader_id: reader.id,
          list_id: list.id,
          newsletter_id: newsletter.id,
          state: 'reading' as const,
          since: now,
          joined_at: now,
        })),
      )
      .execute();
  }
  const letter = {
    newsletterId: newsletter.id,
    autoSendId: null,
    listId: list.id,
    senderId,
    subject: 'The lamp-fish census',
    previewLine: 'How do you count?',
    document: DOCUMENT,
  };
  return { letter, pem: unseal(sealed, ctx.config.secret) };
}

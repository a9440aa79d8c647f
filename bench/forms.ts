import { Agent, request } from 'node:http';
import type { Db } from '@/server/db/connection';
import { createForm, formsOf } from '@/server/forms/forms';
import { DOMAIN, withEdge } from './edge';
import { benchNewsletter } from './newsletter';
import { type Figure, median } from './report';

const NEWSLETTERS = 25;
const FORMS_EACH = 5;
const AT_ONCE = 96;
const POSTS = 2_500;
const ROUNDS = 3;
const STEADY = { aSecond: 300, seconds: 8 };

const agent = new Agent({ keepAlive: true, maxSockets: 200 });
let count = 0;

/** Posts one sign-up and returns how long the answer took, in milliseconds. Throws on anything but a thanks. */
function post(port: number, path: string): Promise<number> {
  count += 1;
  const body = `email=bench${count}%40${DOMAIN}&page=https%3A%2F%2Flanternfish.example%2Fdim-map`;
  const headers = {
    'content-type': 'application/x-www-form-urlencoded',
    'content-length': body.length,
    accept: 'application/json',
    // Each visitor comes from a network of their own; one network alone would be slowed down.
    'x-forwarded-for': `10.${(count >> 16) & 255}.${(count >> 8) & 255}.${count & 255}`,
  };
  const began = performance.now();
  return new Promise((resolve, reject) => {
    const sent = request({ host: '127.0.0.1', port, path, method: 'POST', headers, agent }, (response) => {
      let text = '';
      response.on('data', (chunk) => {
        text += chunk;
      });
      response.on('end', () =>
        response.statusCode === 200 && text.includes('"ok":true')
          ? resolve(performance.now() - began)
          : reject(new Error(`A form answered ${response.statusCode}: ${text.slice(0, 200)}`)),
      );
    });
    sent.on('error', reject);
    sent.end(body);
  });
}

/** Posts so many from a fixed number of visitors at once; returns posts per second. */
async function burst(port: number, paths: string[]): Promise<number> {
  let left = POSTS;
  const began = performance.now();
  await Promise.all(
    Array.from({ length: AT_ONCE }, async () => {
      while (left > 0) {
        left -= 1;
        await post(port, paths[left % paths.length]!);
      }
    }),
  );
  return (POSTS * 1000) / (performance.now() - began);
}

/** Posts at a steady pace whatever the answers take, and returns the time that 99 of 100 answers stay under. */
async function steady(port: number, paths: string[]): Promise<number> {
  const times: Promise<number>[] = [];
  const began = performance.now();
  for (let n = 0; n < STEADY.aSecond * STEADY.seconds; n += 1) {
    const due = began + (n * 1000) / STEADY.aSecond;
    const wait = due - performance.now();
    if (wait > 1) await new Promise((resolve) => setTimeout(resolve, wait));
    times.push(post(port, paths[n % paths.length]!));
  }
  const all = (await Promise.all(times)).sort((a, b) => a - b);
  return all[Math.floor(all.length * 0.99)]!;
}

/**
 * Sign-ups per second through the edge as a process of its own, everything durable before it is answered (reader, wish, consent, counts,
 * confirmation letter), beside a bare Node server that does one INSERT a request. Both in turn, round by round; the medians count. Then the
 * time of an answer at a steady 300 sign-ups a second.
 */
export const forms = (db: Db, databaseUrl: string): Promise<Figure> =>
  withEdge(db, databaseUrl, new URL('./bare-insert.ts', import.meta.url), async (ctx, ports) => {
    const paths: string[] = [];
    // So many forms that none of them counts as under attack.
    for (let n = 0; n < NEWSLETTERS; n += 1) {
      const newsletter = await benchNewsletter(ctx, `Busy ${n}`);
      for (let more = 1; more < FORMS_EACH; more += 1) await createForm(ctx, newsletter, { name: `Form ${more}` });
      for (const form of await formsOf(ctx, newsletter)) paths.push(`/e/form/${form.publicId}`);
    }
    await db.schema
      .createTable('bare')
      .addColumn('id', 'bigserial', (c) => c.primaryKey())
      .addColumn('email', 'text')
      .execute();
    const own: number[] = [];
    const plain: number[] = [];
    for (let round = 0; round <= ROUNDS; round += 1) {
      const rates = [await burst(ports.edge, paths), await burst(ports.bare, ['/'])] as const;
      // The first round warms both up.
      if (round > 0) {
        own.push(rates[0]);
        plain.push(rates[1]);
      }
    }
    const p99 = await steady(ports.edge, paths);
    console.log(
      `  at ${STEADY.aSecond} sign-ups a second 99 of 100 answers come within ${p99.toFixed(0)} ms; under 100 ms is wanted`,
    );
    agent.destroy();
    return {
      name: 'sign-ups through the edge',
      value: median(own),
      unit: 'a second',
      yardstick: 'bare server with one INSERT',
      yardstickValue: median(plain),
      aim: { ratioAtLeast: 0.25 },
    };
  });

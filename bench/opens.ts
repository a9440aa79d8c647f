import { Agent, get } from 'node:http';
import { sql } from 'kysely';
import { deliveryToken } from '@/core/sending/token';
import type { Db } from '@/server/db/connection';
import { foldCounts } from '@/server/jobs/tick';
import { withEdge } from './edge';
import { deliveredLetter } from './letter';
import { type Figure, median } from './report';

const OPENS = 15_000;
const ROUNDS = 3;
const AT_ONCE = 96;
const AGENT = 'Mozilla/5.0 (X11; Linux x86_64) A browser';

/**
 * Opened letters through the edge as a process of its own, each by another reader: from the first request until every one is kept, judged and counted on its letter,
 * its copy and its reader; beside a bare Node server with the same batching, in turn, round by round. Then how far the counts that screens show lag behind.
 */
export const opens = (db: Db, databaseUrl: string): Promise<Figure[]> =>
  withEdge(db, databaseUrl, new URL('./bare-opens.ts', import.meta.url), async (ctx, ports) => {
    await sql`create table bare_opens (id bigserial primary key, path text, at timestamptz, agent text)`.execute(db);
    const { letterId, rows } = await deliveredLetter(ctx, OPENS * (ROUNDS + 1));
    // Long enough ago that nobody takes them for a provider's program.
    await sql`update deliveries set delivered_at = delivered_at - interval '1 hour' where letter_id = ${letterId}::uuid`.execute(
      db,
    );
    await sql`vacuum analyze deliveries`.execute(db);
    const paths = rows.map(
      ({ id, sent_on }) => `/e/o/${deliveryToken({ id: BigInt(id), sentOn: sent_on }, 'open', ctx.config.keys)}.gif`,
    );
    const agent = new Agent({ keepAlive: true, maxSockets: AT_ONCE });
    const counted = async () => {
      const { rows: found } = await sql<{
        n: number;
      }>`select opened_people as n from letter_counts where letter_id = ${letterId}::uuid`.execute(db);
      return found[0]?.n ?? 0;
    };
    const kept = async () => Number((await sql<{ n: string }>`select count(*) as n from bare_opens`.execute(db)).rows[0]!.n);
    const round = async (port: number, some: string[], until: () => Promise<number>, wanted: number) => {
      let next = 0;
      const began = performance.now();
      await Promise.all(
        Array.from({ length: AT_ONCE }, async () => {
          for (let path = some[next++]; path; path = some[next++]) await opened(port, path, agent);
        }),
      );
      const answered = performance.now();
      while ((await until()) < wanted) await new Promise((resolve) => setTimeout(resolve, 20));
      return { rate: (1_000 * some.length) / (performance.now() - began), lag: performance.now() - answered };
    };
    const [own, bare, lags]: number[][] = [[], [], []];
    for (let n = 0; n <= ROUNDS; n += 1) {
      const some = paths.slice(n * OPENS, (n + 1) * OPENS);
      const mine = await round(ports.edge, some, counted, (n + 1) * OPENS);
      const plain = await round(ports.bare, some, kept, (n + 1) * OPENS);
      await foldCounts(ctx);
      // The first round warms both up.
      if (n === 0) continue;
      own!.push(mine.rate);
      bare!.push(plain.rate);
      lags!.push(mine.lag);
    }
    agent.destroy();
    return [
      {
        name: 'opened letters taken in, judged and counted',
        value: median(own!),
        unit: 'a second',
        yardstick: 'bare server with the same batching',
        yardstickValue: median(bare!),
        aim: { ratioAtLeast: 0.3 },
      },
      {
        name: 'counts on the screens behind the last answer',
        value: Math.max(...lags!),
        unit: 'ms',
        yardstick: 'wait for a batch',
        yardstickValue: 50,
        aim: { atMost: 10_000 },
      },
    ];
  });

function opened(port: number, path: string, agent: Agent): Promise<void> {
  return new Promise((resolve, reject) => {
    get({ host: '127.0.0.1', port, path, agent, headers: { 'user-agent': AGENT } }, (response) => {
      response.resume();
      response.on('end', () =>
        response.statusCode === 200 ? resolve() : reject(new Error(`It answered ${response.statusCode}.`)),
      );
    }).on('error', reject);
  });
}

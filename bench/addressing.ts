import { sql } from 'kysely';
import { pino } from 'pino';
import type { Audience } from '@/core/sending/audience';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { reachOf, reachSoon, willGet } from '@/server/sending/reach';
import { fillReaders } from './million-readers';
import { benchEnv, outsideResolver } from './outside';
import { type Figure, p95 } from './report';

const RUNS = 21;

/** Whom a letter reaches, at a million readers: three rows that say who, two that take out; beside the same count as somebody writes it who knows the tables. */
export async function addressing(db: Db, url: string): Promise<Figure[]> {
  const config = readConfig(benchEnv(url));
  const ctx: Context = { db, clock: systemClock, config, log: pino({ level: 'silent' }), resolver: outsideResolver() };
  let began = performance.now();
  const { newsletter, lists } = await fillReaders(ctx);
  const said = (what: string) => {
    console.log(`  ${what}: ${((performance.now() - began) / 1_000).toFixed(0)} s`);
    began = performance.now();
  };
  said('a million readers');
  await sql`select recount_people(${newsletter.id}::uuid)`.execute(db);
  await sql`vacuum analyze`.execute(db);
  said('counts, and what the planner wants to know');
  const [all, some] = lists as [string, string];
  const audience: Audience = {
    to: [
      { kind: 'list', id: some },
      { kind: 'tag', tag: 'tag4' },
      {
        kind: 'those',
        condition: {
          kind: 'all',
          of: [
            { kind: 'list', id: all, state: 'reading' },
            { kind: 'read within', days: 30 },
          ],
        },
      },
    ],
    without: [
      { kind: 'tag', tag: 'tag3' },
      { kind: 'those', condition: { kind: 'came by', what: 'source', is: 'reefboard.example' } },
    ],
  };
  const since = new Date(Date.now() - 30 * 86_400_000);
  const byHand = async () =>
    (
      await sql<{ n: number }>`
        select count(*)::int as n from (
          select reader_id as id from memberships where list_id = ${some} and state = 'reading' union select reader_id from reader_tags where tag = 'tag4'
          union select id from readers where newsletter_id = ${newsletter.id} and last_read_at >= ${since}) x
        join readers r on r.id = x.id where r.newsletter_id = ${newsletter.id} and standing = 'reading' and source_name is distinct from 'reefboard.example'
          and not exists (select 1 from reader_tags t where t.reader_id = r.id and t.tag = 'tag3')`.execute(db)
    ).rows[0]!.n;
  const people = await willGet(ctx, db, newsletter, audience);
  const { will } = await reachOf(ctx, newsletter, audience);
  if (people === 0 || people !== (await byHand()) || people !== will) throw new Error('The counts differ, or nobody is counted.');
  const about = await reachSoon(ctx, newsletter, audience, undefined, 1);
  console.log(`  ${people} people; in a hurry it says about ${about.will}`);
  const yardstick = { yardstick: 'same count by hand', yardstickValue: await p95(byHand, RUNS), unit: 'ms' };
  return [
    {
      name: 'how many a letter reaches, as somebody chooses, p95',
      value: await p95(() => reachSoon(ctx, newsletter, audience), RUNS),
      ...yardstick,
      aim: { atMost: 300 },
    },
    {
      name: 'the same exactly, p95',
      value: await p95(() => willGet(ctx, db, newsletter, audience), RUNS),
      ...yardstick,
      aim: { atMost: 1_000 },
    },
    {
      name: 'who is left out and why, p95',
      value: await p95(() => reachOf(ctx, newsletter, audience), RUNS),
      ...yardstick,
      aim: { atMost: 3_000 },
    },
  ];
}

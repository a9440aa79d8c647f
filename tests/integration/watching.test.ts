import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { eachDay } from '@/core/growth/periods';
import { growthOf } from '@/server/growth/growth';
import { listsGrown, sourcesOf } from '@/server/growth/sources';
import { warningsNow, watch, watchesDue } from '@/server/growth/watch';
import { tellWeek, weekOf, weeksDue } from '@/server/growth/week';
import { foldCounts, recount } from '@/server/jobs/tick';
import { keepList } from '@/server/keeping/things';
import { letterOf } from '@/server/sending/views';
import { chance } from '../../backlot/public/chance';
import { DAY, MINUTE, TestWorld } from './world';

const HOUR = 60 * MINUTE;
let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let owner: string;

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  owner = (await world.ctx.db.selectFrom('user').select('email').where('id', '=', newsletter.owner).executeTakeFirstOrThrow())
    .email;
});
afterEach(() => world.close());

const at = (name: string, provider = 'heronmail') => `${name}@${provider}.example`;
/** What the owner was told, each mail by its subject. */
const told = () =>
  world.mail.to(owner).map(({ source }) => /^Subject: (.*(?:\r\n .*)*)/m.exec(source)![1]!.replace(/\r\n /g, ' '));
const wordsOf = async (n: number) => (await simpleParser(world.mail.to(owner)[n]!.source)).text!.replace(/\s+/g, ' ');
const set = (values: Record<string, unknown>) =>
  world.ctx.db.updateTable('newsletters').set(values).where('id', '=', newsletter.id).execute();
/** So many joined on each of these days, by the counts that are kept. */
const joinedOn = async (daysAgo: number[], each: number) => {
  for (const ago of daysAgo)
    await sql`insert into day_changes (day, newsletter_id, joined) values (${new Date(world.clock.now().getTime() - ago * DAY).toISOString().slice(0, 10)}::date, ${newsletter.id}::uuid, ${each})`.execute(
      world.ctx.db,
    );
};
const days = (from: number, to: number) => Array.from({ length: from - to + 1 }, (_, n) => from - n);

describe('each Monday', () => {
  it('the owner reads the week that ended, in the figures of the screens, once', async () => {
    const { senderId } = await world.sender(newsletter);
    await world.readers(
      newsletter,
      ['a', 'b', 'c'].map((name) => at(name)),
    );
    const id = await world.letter(newsletter, senderId);
    await world.work();
    // What was put away since left all the same.
    await sql`update letters set archived_at = ${world.clock.now()} where id = ${id}::uuid`.execute(world.ctx.db);
    // Tuesday, 24 November; the Monday after it at eight, by the newsletter's clock.
    world.clock.advance(5 * DAY + 21 * HOUR);
    await world.work();
    expect(told()).toEqual([]);
    world.clock.advance(3 * HOUR);
    await world.work();
    await world.work();
    expect(told()).toEqual(['The week to 29 Nov: 3 joined, 0 left']);
    const words = await wordsOf(0);
    const week = await weekOf(world.ctx, newsletter);
    const { now, reading } = await growthOf(world.ctx, newsletter, { from: '2026-11-23', to: '2026-11-29' });
    const { counts, subject } = await letterOf(world.ctx, newsletter, id);
    expect(week).toMatchObject({ from: '2026-11-23', to: '2026-11-29', reading, now });
    expect(now).toEqual({ joined: 3, left: 0 });
    expect(words).toContain('3 people read now. From Monday, 23 Nov, to Sunday, 29 Nov, 3 joined and 0 left');
    expect(words).toContain(`“${subject}”: ${counts.delivered} of ${counts.recipients} delivered (100%)`);
    expect(words).toContain('/growth?from=2026-11-23&to=2026-11-29');
    // Nobody asked for it.
    expect(words).toContain('You get this because you own Lanternfish Letters. Switch it off under Settings.');
  });

  it('is told once where two look at once, once where weeks went by, and not where nobody wants it or there is nothing', async () => {
    await world.work();
    expect(told()).toEqual([]);
    await world.readers(newsletter, [at('a')]);
    world.clock.advance(40 * DAY);
    await Promise.all([tellWeek(world.ctx, newsletter.id), tellWeek(world.ctx, newsletter.id)]);
    await world.work();
    expect(told()).toHaveLength(1);
    expect(told()[0]).toMatch(/^The week to 27 Dec/);
    await set({ weekly_summary: false });
    world.clock.advance(7 * DAY);
    await world.work();
    expect(told()).toHaveLength(1);
    // Wanted again, it does not tell of weeks that nobody asked about.
    await set({ weekly_summary: true });
    await world.work();
    expect(told()).toHaveLength(1);
    world.clock.advance(7 * DAY);
    await world.work();
    expect(told()).toHaveLength(2);
  });

  it('comes at eight of the newsletter’s clock, and again in time after the clock went back', async () => {
    await set({ time_zone: 'Pacific/Auckland' });
    await world.readers(newsletter, [at('a')]);
    await world.work();
    const due = async () =>
      (
        await world.ctx.db
          .selectFrom('newsletters')
          .select('summary_due_at')
          .where('id', '=', newsletter.id)
          .executeTakeFirstOrThrow()
      ).summary_due_at!;
    expect((await due()).toISOString()).toBe('2026-11-29T19:00:00.000Z');
    world.clock.advance(-60 * DAY);
    await world.work();
    expect((await due()).toISOString()).toBe('2026-09-27T19:00:00.000Z');
    expect(told()).toEqual([]);
  });

  it('of one newsletter that cannot be told, or looked at, holds up no other', async () => {
    await world.readers(newsletter, [at('a')]);
    await world.work();
    world.clock.advance(7 * DAY);
    const db = world.ctx.db.withPlugin({
      transformQuery: ({ node }) => node,
      transformResult: async ({ result }) => {
        if (result.rows.some((row) => 'reader_goal' in row && !('slug' in row))) throw new Error('A row that cannot be read');
        return result;
      },
    });
    await expect(tellWeek({ ...world.ctx, db }, newsletter.id)).rejects.toThrow('cannot be read');
    await expect(watch(world.brokenAfter(3), newsletter.id)).rejects.toThrow();
    const due = async () => [...(await weeksDue(world.ctx)), ...(await watchesDue(world.ctx))];
    expect(await due()).toEqual([]);
    world.clock.advance(HOUR);
    expect(await due()).toHaveLength(2);
    await world.work();
    expect(told()).toHaveLength(1);
  });

  it('loses no week to a process that dies: told once, or told by the next', async () => {
    await world.readers(newsletter, [at('a')]);
    await world.work();
    for (let statements = 0; ; statements += 1) {
      world.clock.advance(7 * DAY);
      const before = told().length;
      const died = await tellWeek(world.brokenAfter(statements), newsletter.id).then(
        () => false,
        () => true,
      );
      await world.work();
      expect(told()).toHaveLength(before + 1);
      if (!died) break;
    }
  });
});

describe('what is out of the usual', () => {
  it('is told once for as long as it lasts, and stands on the screens until it is over', async () => {
    await set({ created_at: new Date(world.clock.now().getTime() - 400 * DAY), weekly_summary: false });
    await joinedOn(days(180, 15), 3);
    await Promise.all([watch(world.ctx, newsletter.id), watch(world.ctx, newsletter.id)]);
    await world.work();
    expect(told()).toEqual(['Nobody joined in the two weeks to yesterday']);
    expect(await wordsOf(0)).toContain('0 people joined in the two weeks to yesterday. Usual for you are about 42');
    expect(await warningsNow(world.ctx, newsletter)).toMatchObject([{ kind: 'few join', about: '', path: '/growth' }]);
    for (let hour = 0; hour < 3; hour += 1) {
      world.clock.advance(HOUR);
      await world.work();
    }
    expect(told()).toHaveLength(1);
    // They come again, and it is over; within days it is so again, which is the same trouble.
    await joinedOn(days(14, 1), 3);
    await watch(world.ctx, newsletter.id);
    expect(await warningsNow(world.ctx, newsletter)).toEqual([]);
    await joinedOn(days(14, 1), -3);
    world.clock.advance(HOUR);
    await world.work();
    expect(await warningsNow(world.ctx, newsletter)).toHaveLength(1);
    expect(told()).toHaveLength(1);
    // Weeks later it is another.
    await joinedOn(days(14, 1), 3);
    await watch(world.ctx, newsletter.id);
    await joinedOn(days(14, 1), -3);
    await sql`update warnings set ended_at = ended_at - interval '20 days'`.execute(world.ctx.db);
    await watch(world.ctx, newsletter.id);
    await world.work();
    expect(told()).toHaveLength(2);
  });

  it('is not told to who does not want it, nor of a newsletter that has just begun', async () => {
    await watch(world.ctx, newsletter.id);
    expect(await warningsNow(world.ctx, newsletter)).toEqual([]);
    await set({ created_at: new Date(world.clock.now().getTime() - 400 * DAY), tell_unusual: false });
    await joinedOn(days(180, 15), 3);
    await watch(world.ctx, newsletter.id);
    await world.work();
    expect(told()).toEqual([]);
    expect(await warningsNow(world.ctx, newsletter)).toHaveLength(1);
    expect(await warningsNow(world.ctx, newsletter, ['complaints'])).toEqual([]);
    const other = await world.newsletter('Another one');
    expect(await warningsNow(world.ctx, other)).toEqual([]);
  });

  it('is told once by whoever comes after a process that died', async () => {
    await set({ created_at: new Date(world.clock.now().getTime() - 400 * DAY), weekly_summary: false });
    await joinedOn(days(180, 15), 3);
    for (let statements = 0; ; statements += 1) {
      const died = await watch(world.brokenAfter(statements), newsletter.id).then(
        () => false,
        () => true,
      );
      if (!died) break;
      expect(await warningsNow(world.ctx, newsletter)).toEqual([]);
    }
    await world.work();
    expect(told()).toHaveLength(1);
  });

  it('is a provider that began to turn letters away, in its own figures', async () => {
    await set({ weekly_summary: false });
    const { senderId } = await world.sender(newsletter);
    const names = Array.from({ length: 25 }, (_, n) => at(`r${n}`, 'kestrel'));
    await world.readers(newsletter, names);
    for (let week = 0; week < 14; week += 1) {
      if (week >= 12)
        for (const name of names.slice(0, 10)) world.mail.answers.set(name, [554, '5.7.1 Blocked: poor reputation']);
      await world.letter(newsletter, senderId);
      await world.work();
      world.clock.advance(7 * DAY);
    }
    await world.work();
    expect(told()).toEqual(['kestrel.example does not take letters as it used to']);
    expect(await wordsOf(0)).toContain('copies that went there in the last four weeks');
    expect(await warningsNow(world.ctx, newsletter, ['refuses'])).toMatchObject([{ about: 'kestrel.example' }]);
  });
});

describe('any days', () => {
  it('have in every dimension what their days have, month by month or not', async () => {
    const random = chance(7);
    const first = Date.parse('2025-06-01T12:00:00Z');
    for (let n = 0; n < 150; n += 1) {
      const day = new Date(first + Math.floor(random() * 560) * DAY).toISOString().slice(0, 10);
      await sql`insert into source_changes (newsletter_id, day, dimension, name, asked, confirmed, reading)
        values (${newsletter.id}::uuid, ${day}::date, 'form', 'x', ${1 + (n % 3)}, ${n % 2}, 0), (${newsletter.id}::uuid, ${day}::date, 'medium', ${`m${n % 3}`}, 1, 1, 1)`.execute(
        world.ctx.db,
      );
      if (n === 100) await foldCounts(world.ctx);
    }
    const { rows } = await sql<{ day: string; asked: number }>`
      select to_char(day, 'YYYY-MM-DD') as day, sum(asked)::int as asked from source_parts where dimension = 'form' group by 1`.execute(
      world.ctx.db,
    );
    const of = new Map(rows.map((row) => [row.day, row.asked]));
    for (let n = 0; n < 60; n += 1) {
      const [a, b] = [random(), random()]
        .map((at) => new Date(first + Math.floor(at * 560) * DAY).toISOString().slice(0, 10))
        .sort() as [string, string];
      // Whole months too, which have edges of their own.
      const span = n % 3 === 0 ? { from: `${a.slice(0, 8)}01`, to: b } : { from: a, to: b };
      const found = await sourcesOf(world.ctx, newsletter, span);
      expect(found.asked, JSON.stringify(span)).toBe(eachDay(span).reduce((sum, day) => sum + (of.get(day) ?? 0), 0));
    }
  });

  it('count people of each list by the day on which they came to it, or left it', async () => {
    const list = await world.list(newsletter);
    await keepList(world.ctx, newsletter, null, {
      name: 'Diving',
      publicName: 'On diving',
      description: '',
      public: 'yes',
      doubleOptIn: 'yes',
    });
    const ids = await world.readers(
      newsletter,
      ['a', 'b', 'c'].map((name) => at(name)),
    );
    const before = new Date(world.clock.now().getTime() - 40 * DAY);
    await sql`update memberships set since = ${before} where reader_id = ${ids[0]!}::uuid`.execute(world.ctx.db);
    await sql`update memberships set state = 'left' where reader_id = ${ids[1]!}::uuid`.execute(world.ctx.db);
    const found = await listsGrown(world.ctx, newsletter, 28);
    expect(found.map(({ name, joined, left, reading }) => [name, joined, left, reading])).toEqual([
      [expect.any(String), 1, 1, 2],
      ['Diving', 0, 0, 0],
    ]);
    expect(found[0]!.id).toBe(list);
    const earlier = { from: before.toISOString().slice(0, 10), to: before.toISOString().slice(0, 10) };
    for (let fold = 0; fold < 2; fold += 1) {
      expect((await listsGrown(world.ctx, newsletter, earlier))[0]).toMatchObject({ joined: 1, left: 0 });
      await foldCounts(world.ctx);
    }
    // A count that went wrong is found and mended.
    expect(await recount(world.ctx, newsletter)).toBe(0);
    await sql`update list_sums set reading = reading + 5 where newsletter_id = ${newsletter.id}::uuid and reading > 0`.execute(
      world.ctx.db,
    );
    expect(await recount(world.ctx, newsletter)).toBeGreaterThan(0);
    expect((await listsGrown(world.ctx, newsletter, 28))[0]).toMatchObject({ joined: 1, left: 1 });
  });
});

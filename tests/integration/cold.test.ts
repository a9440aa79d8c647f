import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { ANSWER_DAYS, shareOf } from '@/core/readers/cold';
import { leaveToken } from '@/core/sending/token';
import { MarkBook, writeMarks } from '@/server/delivery/marks';
import { bulksOf, undoBulk } from '@/server/keeping/bulk';
import { askCold, askingOf, endAsking, letGo } from '@/server/keeping/cold';
import { coldShare, keepCold } from '@/server/keeping/cold-counts';
import { overFetch } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { readerProfile, totalsOf } from '@/server/readers/readers';
import { warmReaders } from '@/server/readers/warming';
import { leave } from '@/server/sending/leave';
import { letterOf } from '@/server/sending/views';
import { DAY, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;
/** Ten of them cold for long, and one of each who is not. */
let cold: string[];
let others: Record<'warm' | 'young' | 'hidden' | 'few' | 'clicked', string>;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
  cold = await world.readers(
    newsletter,
    Array.from({ length: 10 }, (_, n) => `cold${n}@heronmail.example`),
  );
  const names = ['warm', 'young', 'hidden', 'few', 'clicked'] as const;
  const ids = await world.readers(
    newsletter,
    names.map((name) => `${name}@postbird.example`),
  );
  others = Object.fromEntries(names.map((name, n) => [name, ids[n]])) as typeof others;
  const now = world.clock.now();
  const set = (which: string[], what: Record<string, unknown>) =>
    world.ctx.db
      .updateTable('readers')
      .set({
        letters_got: 12,
        last_sent_at: new Date(now.getTime() - DAY),
        created_at: new Date(now.getTime() - 400 * DAY),
        ...what,
      })
      .where('id', 'in', which)
      .execute();
  await set(cold, {});
  await set([others.warm], { recent_read: '4095', last_read_at: now });
  await set([others.young], { created_at: new Date(now.getTime() - 100 * DAY) });
  await set([others.hidden], { recent_hidden: '4095' });
  await set([others.few], { letters_got: 5 });
  // A link followed before what is remembered of single letters.
  await set([others.clicked], { last_clicked_at: new Date(now.getTime() - 100 * DAY) });
  await warmReaders(world.ctx, newsletter.id);
});
afterEach(() => world.close());

const BY = { name: 'Ottoline Vance' };
const ASK = {
  days: 180,
  subject: 'Shall these go on?',
  words: 'You have not opened it.\n\nPress, and it goes on.',
  button: 'Yes, let it come',
  get senderId() {
    return senderId;
  },
};
const handle = (request: Request) => overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)))(request);
const stayLink = (id: string) =>
  `https://go.inkset.example/e/stay/${leaveToken({ readerId: id, delivery: null }, 'stay', world.ctx.config.keys)}`;
const asked = async () => {
  const { letterId } = await askCold(world.ctx, newsletter, BY, ASK);
  await world.work();
  return letterId;
};
const listsOf = async (id: string) =>
  (await world.ctx.db.selectFrom('memberships').select('state').where('reader_id', '=', id).execute()).map((row) => row.state);

const HOUR = 60 * MINUTE;

describe('readers who have been cold for long', () => {
  it('are told from those of whom one cannot know, with what letting them go would do', async () => {
    const { all, cold: some, rest } = await coldShare(world.ctx, newsletter, 180);
    expect(some).toEqual({ people: 10, letters: 100, read: 0 });
    expect(all).toEqual({ people: 15, letters: 145, read: 10 });
    expect(rest).toEqual({ people: 5, letters: 45, read: 10 });
    expect(shareOf(rest)).toBeCloseTo(10 / 45);
    expect((await coldShare(world.ctx, newsletter, 90)).cold.people).toBe(12);
    expect((await coldShare(world.ctx, newsletter, 365)).cold.people).toBe(10);
    const empty = await world.newsletter('Harbour Notes');
    expect(await coldShare(world.ctx, empty, 180)).toMatchObject({ all: { people: 0, letters: 0, read: 0 } });
    await expect(askCold(world.ctx, empty, BY, ASK)).rejects.toMatchObject({ code: 'conflict' });
  });

  it('are shown as last counted where they are many: with when that was, for a day at most, and anew once people were let go', async () => {
    const { ctx, clock } = world;
    const live = await coldShare(ctx, newsletter, 180);
    expect(live.countedAt).toBeNull();
    await keepCold(ctx, newsletter.id);
    expect((await coldShare(ctx, newsletter, 180)).countedAt).toBeNull();
    const keep = () => keepCold(ctx, newsletter.id, 15);
    const shown = () => coldShare(ctx, newsletter, 180);
    await keep();
    const at = clock.now();
    expect(await shown()).toEqual({ ...live, countedAt: at });
    expect((await coldShare(ctx, newsletter, 90)).cold.people).toBe(12);
    // Somebody reads: what was counted says still when it was counted, until it is counted anew.
    await sql`update readers set last_read_at = ${at}, recent_read = 1 where address = 'cold0@heronmail.example'`.execute(ctx.db);
    clock.advance(HOUR);
    expect(await shown()).toEqual({ ...live, countedAt: at });
    await keep();
    expect(await shown()).toMatchObject({ cold: { people: 9 }, countedAt: clock.now() });
    await sql`update readers set last_read_at = null, recent_read = 0 where address = 'cold0@heronmail.example'`.execute(ctx.db);
    // A day later, and before it was counted by a clock that went back, it is not so any more.
    clock.advance(DAY);
    expect(await shown()).toMatchObject({ cold: { people: 10 }, countedAt: null });
    await keep();
    clock.advance(-HOUR);
    expect((await shown()).countedAt).toBeNull();
    await asked();
    clock.advance(ANSWER_DAYS * DAY + HOUR);
    await keep();
    expect((await shown()).cold.people).toBe(10);
    // Who said nothing is as old; whether anybody is let go hangs on how it is now.
    const counted = clock.now();
    await sql`update readers set last_clicked_at = ${counted}, recent_clicked = 1 where address = 'cold1@heronmail.example'`.execute(
      ctx.db,
    );
    expect(await askingOf(ctx, newsletter)).toMatchObject({ asked: 10, silent: 10, countedAt: counted });
    expect(await askingOf(ctx, newsletter, true)).toMatchObject({ asked: 10, silent: 9, countedAt: null });
    await letGo(ctx, newsletter, BY);
    await world.work();
    expect(await shown()).toMatchObject({ all: { people: 6 }, cold: { people: 0 }, countedAt: null });
  });

  it('are asked once by a letter of its own; who answers stays, who says nothing goes after two weeks, when the writer says so', async () => {
    const letterId = await asked();
    await expect(askCold(world.ctx, newsletter, BY, ASK)).rejects.toMatchObject({ code: 'conflict' });
    expect((await letterOf(world.ctx, newsletter, letterId)).state).toBe('sent');
    expect(world.mail.taken.map((mail) => mail.to).sort()).toEqual(cold.map((_, n) => `cold${n}@heronmail.example`).sort());
    const mail = await simpleParser(world.mail.to('cold0@heronmail.example')[0]!.source);
    const [link] = /https:\/\/go\S*\/e\/stay\/[a-z2-7]+/.exec(String(mail.html))!;
    expect(mail.text).toContain(`Yes, let it come:\n${link}`);
    expect(await askingOf(world.ctx, newsletter)).toMatchObject({ asked: 10, silent: 10, ready: false });
    await expect(letGo(world.ctx, newsletter, BY)).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('14 days'),
    });

    // A scanner fetches it, and nothing happens; a person presses.
    expect(await (await handle(new Request(link))).text()).toContain('Go on reading Lanternfish Letters?');
    expect(await askingOf(world.ctx, newsletter)).toMatchObject({ silent: 10 });
    for (const _ of [1, 2]) {
      const answer = await handle(
        new Request(link, { method: 'POST', headers: { 'user-agent': 'Mozilla/5.0 (X11; Linux x86_64) A browser' } }),
      );
      expect(await answer.text()).toContain('Thank you. The letters go on.');
    }
    // Another only opens it.
    const copy = await world.ctx.db
      .selectFrom('deliveries')
      .select(['id', 'sent_on'])
      .where('reader_id', '=', cold[1]!)
      .executeTakeFirstOrThrow();
    world.clock.advance(60_000);
    await writeMarks(world.ctx, [
      {
        ref: { sentOn: copy.sent_on, id: BigInt(copy.id) as never },
        kind: 'open',
        at: world.clock.now(),
        agent: 'Mozilla/5.0 (X11; Linux x86_64) A browser',
        method: 'GET',
        link: null,
      },
    ]);
    expect(await askingOf(world.ctx, newsletter)).toMatchObject({ asked: 10, silent: 8 });
    const profile = await readerProfile(world.ctx, newsletter, cold[0]!);
    expect(JSON.stringify(profile)).toContain('want to go on reading');

    world.clock.advance(14 * DAY);
    await world.work();
    await world.work();
    const told = world.mail
      .to(`${newsletter.owner}@postbird.example`)
      .filter(({ source }) => !/^Subject: The week/m.test(source));
    expect(told).toHaveLength(1);
    expect(told[0]!.source).toContain('8 people of 10 said nothing');
    await letGo(world.ctx, newsletter, BY);
    await world.work();
    expect(await totalsOf(world.ctx, newsletter)).toMatchObject({ reading: 7, left: 8 });
    expect(await askingOf(world.ctx, newsletter)).toBeNull();
    await expect(letGo(world.ctx, newsletter, BY)).rejects.toMatchObject({ code: 'conflict' });

    // Late, one of them answers after all, and comes back; who left by themselves does not.
    expect(await listsOf(cold[5]!)).toEqual(['left']);
    expect(await (await handle(new Request(stayLink(cold[5]!), { method: 'POST' }))).text()).toContain('The letters go on.');
    expect(await listsOf(cold[5]!)).toEqual(['reading']);
    await leave(world.ctx, leaveToken({ readerId: cold[0]!, delivery: null }, 'leave', world.ctx.config.keys), {
      network: '',
      agent: '',
    });
    const gone = await handle(new Request(stayLink(cold[0]!), { method: 'POST' }));
    expect([gone.status, await gone.text()]).toEqual([409, expect.stringContaining('Sign up again')]);
    expect(await listsOf(cold[0]!)).toEqual(['left']);

    // Taken back, everybody who has not moved since stands as before.
    const [act] = await bulksOf(world.ctx, newsletter);
    expect(act).toMatchObject({ act: 'let go', changed: 8, undo: true });
    await undoBulk(world.ctx, newsletter, act!.id);
    await world.work();
    expect(await totalsOf(world.ctx, newsletter)).toMatchObject({ reading: 14, left: 1 });
  });

  it('are left alone where the question is ended, and where its letter never left', async () => {
    await sql`update domains set state = 'incomplete'`.execute(world.ctx.db);
    const letterId = await asked();
    expect(await askingOf(world.ctx, newsletter)).toMatchObject({ asked: 0, silent: 0, readyAt: null, ready: false });
    world.clock.advance(30 * DAY);
    await expect(letGo(world.ctx, newsletter, BY)).rejects.toMatchObject({ code: 'conflict' });
    await endAsking(world.ctx, newsletter);
    expect(await askingOf(world.ctx, newsletter)).toBeNull();
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(15);
    expect((await letterOf(world.ctx, newsletter, letterId)).state).toBe('draft');
  });

  it('pressed twice, one question leaves', async () => {
    const results = await Promise.allSettled([0, 1, 2].map(() => askCold(world.ctx, newsletter, BY, ASK)));
    expect(results.filter((one) => one.status === 'fulfilled')).toHaveLength(1);
    await world.work();
    expect(world.mail.to('cold3@heronmail.example')).toHaveLength(1);
  });
});

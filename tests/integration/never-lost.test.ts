import { sql } from 'kysely';
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest';
import { HONEYPOT } from '@/core/forms/answers';
import { solve } from '@/core/forms/work';
import { leaveToken } from '@/core/sending/token';
import { openAuth } from '@/server/auth/auth';
import { MarkBook } from '@/server/delivery/marks';
import { dropHeld, heldBack, heldCounts, MOST_HELD, MOST_HELD_OF_NETWORK } from '@/server/forms/held';
import { letIn } from '@/server/forms/sign-ups';
import { stamp } from '@/server/forms/stamp';
import { newId } from '@/server/ids';
import { housekeeping } from '@/server/jobs/tick';
import { overFetch, type PublicHandler } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { readerProfile } from '@/server/readers/readers';
import { DAY, formPoster, TestWorld } from './world';

/* Nobody is told a false thanks, and nobody who left, or waits for a mail, is without a way on. */
let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let handle: PublicHandler;

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  handle = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
});
afterAll(() => world.close());
afterEach(() => void vi.useRealTimers());

let count = 0;
const someone = () => `person${++count}@heronmail.example`;
const newForm = () => world.newForm(newsletter);
const post: ReturnType<typeof formPoster> = (...sent) => formPoster(handle)(...sent);
const letters = async (address: string) =>
  (await sql`select 1 from mails where to_address = ${address}`.execute(world.ctx.db)).rows.length;

describe('what looks like a machine’s', () => {
  it.each([
    ['quick', () => ({ stamp: stamp(world.ctx) })],
    ['trap', () => ({ [HONEYPOT]: 'https://lanternfish.example' })],
  ])('%s: is never thanked for nothing; its browser shows work unseen, and it is kept', async (reason, signs) => {
    const { id, publicId } = await newForm();
    const email = someone();
    const asked = await post(publicId, { email, ...signs() });
    const { error } = await asked.json();
    expect([asked.status, error.code, error.sentence]).toEqual([428, 'proof', expect.stringContaining('nothing was lost')]);
    expect(await letters(email)).toBe(0);
    expect(await heldBack(world.ctx, newsletter, id)).toMatchObject([{ address: email, reason }]);
    const done = await post(publicId, { email, ...signs(), proof: await solve(error.challenge) });
    expect([done.status, await letters(email)]).toEqual([200, 1]);
    expect(await heldBack(world.ctx, newsletter, id)).toEqual([]);
  });

  it('is counted once with the work that it shows: whoever goes back and sends again, in two tabs, is not told to wait', async () => {
    const { publicId } = await newForm();
    const email = someone();
    const send = async () => {
      const asked = await post(publicId, { email, stamp: stamp(world.ctx) }, { from: '203.0.113.92' });
      if (asked.status !== 428) return asked.status;
      const proof = await solve((await asked.json()).error.challenge);
      return (await post(publicId, { email, stamp: stamp(world.ctx), proof }, { from: '203.0.113.92' })).status;
    };
    const statuses: number[] = [];
    for (let n = 0; n < 6; n += 1) statuses.push(await send());
    expect([statuses, await letters(email)]).toEqual([[200, 200, 200, 200, 200, 200], 1]);
    expect(await send()).toBe(429);
  });

  it('where no script works it comes back with what was typed, and pressing again after the wait is enough', async () => {
    vi.useFakeTimers({ toFake: ['Date'], now: Date.now() });
    const { publicId } = await newForm();
    const email = someone();
    const page = await post(publicId, { email, stamp: stamp(world.ctx) }, { accept: 'text/html' });
    const html = await page.text();
    expect([page.status, html]).toEqual([428, expect.stringContaining(`value="${email}"`)]);
    const ticket = /name="ticket" value="([^"]+)"/.exec(html)![1]!;
    vi.setSystemTime(Date.now() + 16_000);
    expect((await post(publicId, { email, ticket }, { accept: 'text/html' })).status).toBe(200);
    expect(await letters(email)).toBe(1);
    // To a page that cannot work, the script gets the same ticket.
    const { error } = await (await post(publicId, { email: someone(), stamp: stamp(world.ctx) })).json();
    expect(error.next.ticket).toMatch(/\S+\.\S+/);
  });

  it('is held back where nothing more comes: counted, shown, and let in by a writer, whom no list is opened without a confirmation', async () => {
    const { id, publicId } = await newForm();
    const email = someone();
    const page = 'https://lanternfish.example/essays/';
    for (let n = 0; n < 3; n += 1) await post(publicId, { email, page, stamp: stamp(world.ctx) });
    await post(publicId, { email: someone(), [HONEYPOT]: 'x' });
    expect((await heldCounts(world.ctx, newsletter)).get(id)).toBe(2);
    const held = await heldBack(world.ctx, newsletter, id);
    expect(held.find((one) => one.address === email)).toMatchObject({ reason: 'quick', page });
    await world.ctx.db.updateTable('lists').set({ double_opt_in: false }).where('newsletter_id', '=', newsletter.id).execute();
    await letIn(world.ctx, newsletter, id, email);
    await world.ctx.db.updateTable('lists').set({ double_opt_in: true }).where('newsletter_id', '=', newsletter.id).execute();
    const { rows } = await sql<{ state: string; page: string }>`
      select m.state, r.source_page as page from memberships m join readers r on r.id = m.reader_id where r.address = ${email}`.execute(
      world.ctx.db,
    );
    expect([rows, await letters(email)]).toEqual([[{ state: 'waiting', page }], 1]);
    await expect(letIn(world.ctx, newsletter, id, email)).rejects.toMatchObject({ code: 'not-found' });
    await dropHeld(world.ctx, newsletter, id);
    expect(await heldBack(world.ctx, newsletter, id)).toEqual([]);
  });

  it('cannot be looked at, let in or dropped by another newsletter', async () => {
    const { id, publicId } = await newForm();
    const email = someone();
    await post(publicId, { email, [HONEYPOT]: 'x' });
    const stranger = await world.newsletter('Another');
    expect(await heldBack(world.ctx, stranger, id)).toEqual([]);
    await expect(letIn(world.ctx, stranger, id, email)).rejects.toMatchObject({ code: 'not-found' });
    await dropHeld(world.ctx, stranger, id);
    expect(await heldBack(world.ctx, newsletter, id)).toHaveLength(1);
  });

  it('leaves room for others, and a network that keeps on is told to wait', async () => {
    const { id, publicId } = await newForm();
    const from = '203.0.113.91';
    const tally: Record<number, number> = {};
    for (let sent = 0; sent < 80; sent += 1) {
      const { status } = await post(publicId, { email: someone(), [HONEYPOT]: 'x' }, { from });
      tally[status] = (tally[status] ?? 0) + 1;
    }
    expect(tally).toEqual({ 428: 60, 429: 20 });
    expect((await heldCounts(world.ctx, newsletter)).get(id)).toBe(MOST_HELD_OF_NETWORK);
    const email = someone();
    await post(publicId, { email, stamp: stamp(world.ctx) });
    expect(await heldBack(world.ctx, newsletter, id)).toContainEqual(
      expect.objectContaining({ address: email, reason: 'quick' }),
    );
    // It did not use up the calm of the form either.
    expect((await post(publicId, { email: someone() })).status).toBe(200);
  });

  it('fills no disk, and is forgotten after a month', async () => {
    const { id, publicId } = await newForm();
    for (let n = 0; n < MOST_HELD + 20; n += 65)
      await Promise.all(Array.from({ length: 65 }, () => post(publicId, { email: someone(), [HONEYPOT]: 'x' })));
    expect((await heldBack(world.ctx, newsletter, id)).length).toBeLessThanOrEqual(MOST_HELD);
    expect((await heldBack(world.ctx, newsletter, id)).length).toBeGreaterThan(MOST_HELD - 130);
    world.clock.advance(31 * DAY);
    await housekeeping(world.ctx);
    expect(await heldBack(world.ctx, newsletter, id)).toEqual([]);
  });
});

describe('a reader of two lists', () => {
  const setUp = async () => {
    const mine = await world.newsletter(`Two lists ${++count}`);
    const first = await world.list(mine);
    await world.ctx.db.updateTable('lists').set({ public_name: 'Thursday letters' }).where('id', '=', first).execute();
    const second = newId();
    await world.ctx.db
      .insertInto('lists')
      .values({
        id: second,
        newsletter_id: mine.id,
        name: 'Field notes',
        public_name: 'Field notes',
        double_opt_in: true,
        position: 2,
        created_at: world.clock.now(),
      })
      .execute();
    const { senderId } = await world.sender(mine);
    const address = someone();
    const [id] = await world.readers(mine, [address]);
    const now = world.clock.now();
    await world.ctx.db
      .insertInto('memberships')
      .values({ reader_id: id!, list_id: second, newsletter_id: mine.id, state: 'reading', since: now, joined_at: now })
      .execute();
    await world.letter(mine, senderId, { subject: 'For the first list', nodes: [] });
    await world.work();
    const source = world.mail.to(address).at(-1)!.source.replace(/=\r\n/g, '');
    const path = new URL(/https:\/\/go\S*\/e\/leave\/[a-z2-7]+/.exec(source)![0]).pathname;
    const states = async () =>
      Object.fromEntries(
        (
          await sql<{ name: string; state: string }>`
            select l.public_name as name, m.state from memberships m join lists l on l.id = m.list_id where m.reader_id = ${id} order by l.position`.execute(
            world.ctx.db,
          )
        ).rows.map((row) => [row.name, row.state]),
      );
    const send = async (fields?: Record<string, string | string[]>) => {
      const body = new URLSearchParams();
      for (const [name, value] of Object.entries(fields ?? {})) for (const one of [value].flat()) body.append(name, one);
      const response = await handle(new Request(`https://go.inkset.example${path}`, fields ? { method: 'POST', body } : {}));
      return { status: response.status, text: await response.text() };
    };
    return { mine, first, second, id: id!, states, send, path };
  };

  it('who leaves one is told what goes on, can leave that too, and take each back', async () => {
    const { mine, first, second, id, states, send } = await setUp();
    const [one, other] = Object.keys(await states());
    const asks = await send();
    expect(asks.text).toContain(`You also get ${other}`);
    const left = await send({});
    expect(left.text).toContain(`No more letters of ${one}`);
    expect(left.text).toContain(`You still get ${other}`);
    expect(left.text).not.toContain(`No more letters of ${mine.name}`);
    expect(await states()).toEqual({ [one!]: 'left', [other!]: 'reading' });
    const all = await send({ act: 'all' });
    expect(all.text).toContain(`No more letters of ${other}`);
    expect(await states()).toEqual({ [one!]: 'left', [other!]: 'left' });
    expect(/name="lists" value="([^"]+)"/.exec(all.text)![1]).toBe(second);
    const back = await send({ act: 'return', lists: [first, second] });
    expect(back.text).toContain('You are back on the list');
    expect(await states()).toEqual({ [one!]: 'reading', [other!]: 'reading' });
    expect((await send({ act: 'return', lists: [first, second] })).status).toBe(200);
    const { history } = await readerProfile(world.ctx, mine, id);
    expect(history.filter((entry) => entry.text.startsWith('Took back'))).toHaveLength(2);
  });

  it('can take nothing back after a day, nor what a complaint or somebody else ended, nor a list never read', async () => {
    const { first, second, id, states, send } = await setUp();
    await send({ act: 'all' });
    const before = await states();
    await sql`insert into consents (newsletter_id, reader_id, list_id, act, state, at, actor)
      select newsletter_id, reader_id, list_id, 'complaint', 'left', ${world.clock.now()}, 'mail' from memberships where reader_id = ${id} and list_id = ${first}`.execute(
      world.ctx.db,
    );
    await sql`update memberships set joined_at = null where reader_id = ${id} and list_id = ${second}`.execute(world.ctx.db);
    expect((await send({ act: 'return', lists: [first, second, 'x', newId()] })).status).toBe(410);
    await sql`update memberships set joined_at = since where reader_id = ${id} and list_id = ${second}`.execute(world.ctx.db);
    world.clock.advance(DAY + 1);
    expect((await send({ act: 'return', lists: [second] })).status).toBe(410);
    expect(await states()).toEqual(before);
    // Nor is there a way with the link of somebody else.
    const other = leaveToken({ readerId: newId(), delivery: null }, 'leave', world.ctx.config.keys);
    const forged = await handle(
      new Request(`https://go.inkset.example/e/leave/${other}`, {
        method: 'POST',
        body: new URLSearchParams({ act: 'return', lists: second }),
      }),
    );
    expect([forged.status, await states()]).toEqual([404, before]);
  });
});

describe('an address that has an account', () => {
  it('is answered like any other, and learns from the mail what is so', async () => {
    const auth = openAuth({ ...world.ctx, config: { ...world.ctx.config, signUp: 'open' } }, world.pool);
    const body = (email: string) => ({ name: 'Ottoline Vance', email, password: 'six hundred metres down' });
    const mails = async (email: string) =>
      (
        await sql<{ subject: string }>`select subject from mails where to_address = ${email} order by id`.execute(world.ctx.db)
      ).rows.map((row) => row.subject);
    const [open, waiting, fresh] = ['open@kestrel.example', 'waiting@kestrel.example', 'fresh@kestrel.example'];
    for (const email of [open, waiting]) await auth.api.signUpEmail({ body: body(email!) });
    await sql`update "user" set "emailVerified" = true where email = ${open}`.execute(world.ctx.db);
    const answers = [];
    for (const email of [open, waiting, fresh]) {
      const { token, user } = await auth.api.signUpEmail({ body: body(email!) });
      answers.push({ token, verified: user.emailVerified, keys: Object.keys(user).sort() });
    }
    expect(new Set(answers.map((answer) => JSON.stringify(answer))).size).toBe(1);
    expect(await mails(open!)).toEqual(['Confirm your address', 'You have an account already']);
    expect(await mails(waiting!)).toEqual(['Confirm your address', 'Confirm your address']);
    expect(await mails(fresh!)).toEqual(['Confirm your address']);
  });
});

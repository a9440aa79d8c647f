import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { ofList } from '@/core/sending/audience';
import type { Departure } from '@/core/sending/departure';
import type { Node } from '@/core/writing/document';
import { newId } from '@/server/ids';
import { dropLayout, makeLayout } from '@/server/newsletters/layouts';
import { removeSender } from '@/server/senders/senders';
import {
  addressLetter,
  audiencesOf,
  forgetAudience,
  keepAudience,
  lastAudience,
  peopleBehind,
  peopleIn,
} from '@/server/sending/address';
import { lastLook, letGo } from '@/server/sending/departing';
import { beginLetter, saveDraftLetter } from '@/server/sending/drafts';
import { callBack, stopLetter } from '@/server/sending/letters';
import { calendarAddress, calendarFor, openCalendar } from '@/server/sending/runway-calendar';
import { startLetter } from '@/server/sending/start';
import { saveTest } from '@/server/sending/versions';
import { letterOf } from '@/server/sending/views';
import { DAY, TestWorld } from './world';

const OTTO = { name: 'Ottoline Vance' };
const HOUR = 3_600_000;
const p = (text: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text }] });

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let listId: string;
let ids: string[];
const NOW: Departure = { when: 'now', local: '', zone: 'Europe/Lisbon', fold: 'first', pace: { kind: 'at once' } };
const at = (local: string, more: Partial<Departure> = {}): Departure => ({ ...NOW, when: 'at', local, ...more });

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  await world.sender(newsletter);
  listId = await world.list(newsletter);
  ids = await world.readers(newsletter, [
    'ada@heronmail.example',
    'bo@heronmail.example',
    'cy@heronmail.example',
    'di@postbird.example',
  ]);
});
afterEach(() => world.close());

async function written(title = 'What the tide leaves', nodes: Node[] = [p('Glasswort, mostly.')]): Promise<string> {
  const { id } = await beginLetter(world.ctx, newsletter);
  await saveDraftLetter(world.ctx, newsletter, OTTO, id, {
    key: newId(),
    leave: true,
    revision: 1,
    change: { at: 0, remove: 0, insert: nodes },
    title,
  });
  return id;
}
const look = (id: string, departure: unknown = NOW) => lastLook(world.ctx, newsletter, id, departure);
const go = async (id: string, departure: Departure = NOW) =>
  letGo(world.ctx, newsletter, OTTO, id, { departure, stamp: (await look(id, departure)).stamp });
const state = async (id: string) => (await letterOf(world.ctx, newsletter, id)).state;
const copies = async (id: string) => {
  const { rows } = await sql<{ address: string; due: Date }>`
    select address, due_at as due from deliveries where letter_id = ${id} order by due_at, address`.execute(world.ctx.db);
  return rows.map((row) => [row.address.split('@')[0], row.due.toISOString()]);
};

describe('a letter is addressed', () => {
  it('to whom its writer says, until it begins to leave, and never by a stranger', async () => {
    const id = await written();
    await addressLetter(world.ctx, newsletter, id, { to: [{ kind: 'readers', ids: [ids[0]] }], without: [] });
    expect((await look(id)).will).toBe(1);
    for (const none of [null, {}, { to: [] }, { to: [{ kind: 'all' }] }, { to: [{ kind: 'list', id: 'x' }] }])
      await expect(addressLetter(world.ctx, newsletter, id, none)).rejects.toMatchObject({ code: 'invalid' });
    const stranger = await world.newsletter('Another');
    await expect(addressLetter(world.ctx, stranger, id, ofList(listId))).rejects.toMatchObject({ code: 'not-found' });
    // A list of somebody else's holds nobody, and stops it.
    await addressLetter(world.ctx, newsletter, id, ofList(await world.list(stranger)));
    expect((await look(id)).stops[0]?.title).toBe('Whom it is for is not all there');
    await addressLetter(world.ctx, newsletter, id, ofList(listId));
    await go(id);
    world.clock.advance(31_000);
    await world.work();
    expect(await state(id)).toBe('sent');
    await expect(addressLetter(world.ctx, newsletter, id, ofList(listId))).rejects.toMatchObject({ code: 'conflict' });
  });
  it('by audiences that are kept, the last one among them, and people by their addresses', async () => {
    expect(await lastAudience(world.ctx, newsletter)).toBeNull();
    const some = { to: [{ kind: 'readers' as const, ids: [ids[1]!] }], without: [] };
    await keepAudience(world.ctx, newsletter, { name: 'Bo alone', audience: ofList(listId) });
    await keepAudience(world.ctx, newsletter, { name: 'bo ALONE', audience: some });
    const [kept, ...more] = await audiencesOf(world.ctx, newsletter);
    expect([kept?.name, kept?.audience, more]).toEqual(['bo ALONE', some, []]);
    expect(await peopleIn(world.ctx, newsletter, [some])).toEqual({ [ids[1]!]: 'bo@heronmail.example' });
    for (const name of ['', '   ', 'a'.repeat(81)])
      await expect(keepAudience(world.ctx, newsletter, { name, audience: some })).rejects.toMatchObject({ code: 'invalid' });
    const stranger = await world.newsletter('Another');
    await forgetAudience(world.ctx, stranger, kept!.id);
    expect(await audiencesOf(world.ctx, newsletter)).toHaveLength(1);
    await forgetAudience(world.ctx, newsletter, kept!.id);
    expect(await audiencesOf(world.ctx, newsletter)).toEqual([]);

    expect(await peopleBehind(world.ctx, newsletter, 'ADA@heronmail.example, nobody@heronmail.example;\n no-address')).toEqual({
      people: [{ id: ids[0], address: 'ada@heronmail.example' }],
      unknown: ['nobody@heronmail.example', 'no-address'],
    });
    expect((await peopleBehind(world.ctx, stranger, 'ada@heronmail.example')).people).toEqual([]);
    await expect(peopleBehind(world.ctx, newsletter, ' ,; ')).rejects.toMatchObject({ code: 'invalid' });
    const id = await written();
    await addressLetter(world.ctx, newsletter, id, some);
    await go(id);
    world.clock.advance(31_000);
    await world.work();
    expect((await lastAudience(world.ctx, newsletter))?.audience).toEqual(some);
  });
});

describe('a letter is let go', () => {
  it('and can be called back whole for half a minute, or as long as its newsletter says', async () => {
    const id = await written();
    const now = world.clock.now().getTime();
    expect((await go(id)).due.getTime()).toBe(now + 30_000);
    world.clock.advance(29_000);
    await world.work();
    expect(await state(id)).toBe('scheduled');
    await callBack(world.ctx, newsletter, id, OTTO.name);
    world.clock.advance(DAY);
    await world.work();
    expect([await state(id), await copies(id)]).toEqual(['draft', []]);
    newsletter = { ...newsletter, call_back_seconds: 0 };
    await go(id);
    await world.work();
    expect(await state(id)).toBe('sent');
  });
  it('once: pressed twice, in two windows, side by side, or after somebody changed it', async () => {
    const id = await written();
    const { stamp } = await look(id);
    const press = () => letGo(world.ctx, newsletter, OTTO, id, { departure: NOW, stamp });
    const pressed = await Promise.allSettled([press(), press(), press()]);
    expect(pressed.map((one) => one.status).sort()).toEqual(['fulfilled', 'rejected', 'rejected']);
    await expect(press()).rejects.toMatchObject({ code: 'conflict', sentence: expect.stringContaining('on the runway already') });
    // One window looked before the other addressed it anew.
    const other = await written('Another');
    const before = (await look(other)).stamp;
    await addressLetter(world.ctx, newsletter, other, { to: [{ kind: 'readers', ids: [ids[0]!] }], without: [] });
    await expect(letGo(world.ctx, newsletter, OTTO, other, { departure: NOW, stamp: before })).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('changed since you looked'),
    });
    const third = await written('A third');
    const seen = (await look(third)).stamp;
    await saveDraftLetter(world.ctx, newsletter, OTTO, third, {
      key: newId(),
      leave: true,
      revision: 2,
      change: null,
      subtitle: 'New',
    });
    await expect(letGo(world.ctx, newsletter, OTTO, third, { departure: NOW, stamp: seen })).rejects.toMatchObject({
      code: 'conflict',
    });
    world.clock.advance(HOUR);
    await world.work();
    expect([await state(id), (await copies(id)).length, await state(other), await state(third)]).toEqual([
      'sent',
      4,
      'draft',
      'draft',
    ]);
    await expect(press()).rejects.toMatchObject({ code: 'conflict', sentence: expect.stringContaining('begun to leave') });
    const stranger = await world.newsletter('Another');
    await expect(letGo(world.ctx, stranger, OTTO, other, { departure: NOW, stamp })).rejects.toMatchObject({ code: 'not-found' });
  });
  it('whole or not at all, whenever the process is killed', async () => {
    const id = await written();
    const { stamp } = await look(id);
    let n = 0;
    for (; n < 40; n += 1) {
      const ended = await letGo(world.brokenAfter(n), newsletter, OTTO, id, { departure: NOW, stamp }).then(
        () => true,
        () => false,
      );
      const row = await world.ctx.db
        .selectFrom('letters')
        .select(['state', 'departure'])
        .where('id', '=', id)
        .executeTakeFirstOrThrow();
      expect([row.state, row.departure === null]).toEqual(ended ? ['scheduled', false] : ['draft', true]);
      if (ended) break;
    }
    expect(n).toBeGreaterThan(3);
    expect(n).toBeLessThan(40);
  });
  it('as it was seen: what it looks like and who it is from are not let go of meanwhile', async () => {
    const id = await written();
    const { id: layout } = await makeLayout(world.ctx, newsletter, null);
    const { sender_id } = await world.ctx.db
      .selectFrom('letters')
      .select('sender_id')
      .where('id', '=', id)
      .executeTakeFirstOrThrow();
    const { id: other } = await world.ctx.db
      .insertInto('senders')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        name: 'Otto',
        address: 'otto@lanternfish.example',
        domain: 'lanternfish.example',
        confirmed_at: world.clock.now(),
        created_at: world.clock.now(),
      })
      .returning('id')
      .executeTakeFirstOrThrow();
    await world.ctx.db.updateTable('letters').set({ layout_id: layout }).where('id', '=', id).execute();
    await saveTest(world.ctx, newsletter, id, {
      by: 'sender',
      share: 50,
      decides: 'clicks',
      hours: 4,
      rest: 'goes',
      versions: [{ senderId: other }],
    });
    await world.lets(newsletter, id, '2026-11-24T20:00');
    await expect(dropLayout(world.ctx, newsletter, layout)).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('“What the tide leaves” will leave with “A layout”'),
    });
    for (const sender of [sender_id!, other])
      await expect(removeSender(world.ctx, newsletter, sender)).rejects.toMatchObject({ code: 'conflict' });
    await callBack(world.ctx, newsletter, id, 'Ottoline Vance');
    await dropLayout(world.ctx, newsletter, layout);
  });
  it('not while something stops it, which is said', async () => {
    const stops = async (id: string) => (await look(id)).stops.map((one) => one.title);
    const empty = (await beginLetter(world.ctx, newsletter)).id;
    expect((await stops(empty)).length).toBeGreaterThan(0);
    const id = await written();
    expect(await stops(id)).toEqual([]);
    await addressLetter(world.ctx, newsletter, id, { to: [{ kind: 'tag', tag: 'nobody' }], without: [] });
    const { stamp } = await look(id);
    await expect(letGo(world.ctx, newsletter, OTTO, id, { departure: NOW, stamp })).rejects.toMatchObject({ code: 'invalid' });
    await addressLetter(world.ctx, newsletter, id, ofList(listId));
    await world.ctx.db.updateTable('senders').set({ confirmed_at: null }).where('newsletter_id', '=', newsletter.id).execute();
    expect(await stops(id)).toEqual(['Its sender is not confirmed']);
    expect(await state(id)).toBe('draft');
  });
  it('not without what every letter has to carry, whatever was seen a moment before', async () => {
    const id = await written();
    const { stamp, stops } = await look(id);
    expect(stops).toEqual([]);
    await world.ctx.db
      .updateTable('newsletters')
      .set({ postal_address: '', reason_line: '' })
      .where('id', '=', newsletter.id)
      .execute();
    newsletter = { ...newsletter, postal_address: '', reason_line: '' };
    expect((await look(id)).stops.map((one) => one.title)).toEqual(['Nothing says why it comes', 'There is no postal address']);
    await expect(letGo(world.ctx, newsletter, OTTO, id, { departure: NOW, stamp })).rejects.toMatchObject({ code: 'invalid' });
    expect(await state(id)).toBe('draft');
  });
  it('not with words that were saved while it was being let go', async () => {
    const id = await written();
    const { stamp } = await look(id);
    const waits = async () =>
      (
        await sql`select 1 from pg_locks l join pg_stat_activity a using (pid) where not l.granted and a.datname = current_database()`.execute(
          world.ctx.db,
        )
      ).rows.length;
    const pressed = await world.ctx.db.transaction().execute(async (trx) => {
      // A save under way: the letter is held, and its words are written before it ends.
      const { post_id } = await trx
        .selectFrom('letters')
        .select('post_id')
        .where('id', '=', id)
        .forUpdate()
        .executeTakeFirstOrThrow();
      const press = letGo(world.ctx, newsletter, OTTO, id, { departure: NOW, stamp }).catch((fault) => fault);
      await expect.poll(waits, { timeout: 20_000 }).toBeGreaterThan(0);
      await trx.updateTable('posts').set({ revision: sql`revision + 1` }).where('id', '=', post_id).execute();
      return { press };
    });
    expect(await pressed.press).toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('changed since you looked'),
    });
    expect(await state(id)).toBe('draft');
  });
  it('at no hour that is none or over, and by no clock that is none', async () => {
    const id = await written();
    for (const [departure, said] of [
      [at('2020-01-01T09:00'), 'over'],
      [at('2027-02-30T09:00'), 'no such day'],
      [at(''), 'no such day'],
      [{ ...NOW, pace: { kind: 'local hour' } }, 'needs an hour'],
    ] as const)
      await expect(look(id, departure)).rejects.toMatchObject({ code: 'invalid', sentence: expect.stringContaining(said) });
    for (const none of [
      null,
      {},
      { ...NOW, zone: 'Mars/Olympus' },
      { ...NOW, pace: { kind: 'over hours', hours: 0 } },
      { ...NOW, when: 'soon' },
    ])
      await expect(look(id, none)).rejects.toMatchObject({ code: 'invalid' });
    const skipped = await look(id, at('2027-03-28T01:30'));
    expect([skipped.hour, skipped.from.toISOString()]).toEqual([
      expect.stringContaining('when they show 02:30'),
      '2027-03-28T01:30:00.000Z',
    ]);
    const twice = at('2027-10-31T01:30');
    expect((await look(id, twice)).twice).toBe(true);
    expect((await look(id, { ...twice, fold: 'second' })).from.toISOString()).toBe('2027-10-31T01:30:00.000Z');
  });
});

describe('a letter leaves', () => {
  it('to somebody, or is held: its segment was emptied, or all of them are out of reach meanwhile', async () => {
    const id = await written();
    await go(id, at('2026-11-26T08:00'));
    await world.ctx.db
      .updateTable('readers')
      .set({ address_state: 'suppressed' })
      .where('newsletter_id', '=', newsletter.id)
      .execute();
    world.clock.advance(4 * DAY);
    await world.work();
    expect(await letterOf(world.ctx, newsletter, id)).toMatchObject({
      state: 'held',
      cause: expect.stringContaining('Nobody would get it'),
    });
    expect(await copies(id)).toEqual([]);
    // It leaves by itself once there is somebody.
    await world.ctx.db.updateTable('readers').set({ address_state: 'fine' }).where('id', '=', ids[0]!).execute();
    world.clock.advance(6 * 60_000);
    await world.work();
    expect([await state(id), (await copies(id)).map(([who]) => who)]).toEqual(['sent', ['ada']]);
  });
  it('at an hour of each reader’s own clock, the first of them before its writer’s', async () => {
    const zones = ['Pacific/Auckland', 'America/New_York', 'Not/AZone', null];
    for (const [n, zone] of zones.entries())
      await world.ctx.db.updateTable('readers').set({ zone }).where('id', '=', ids[n]!).execute();
    const id = await written();
    const departure = at('2026-11-26T08:00', { pace: { kind: 'local hour' } });
    const seen = await look(id, departure);
    expect([seen.from.toISOString(), seen.until.toISOString(), seen.clocks]).toEqual([
      '2026-11-25T19:00:00.000Z',
      '2026-11-26T13:00:00.000Z',
      { known: 3, zones: 3 },
    ]);
    await go(id, departure);
    world.clock.advance(new Date('2026-11-25T19:00:01Z').getTime() - world.clock.now().getTime());
    await world.work();
    expect(await state(id)).toBe('sending');
    expect(await copies(id)).toEqual([
      ['ada', expect.stringMatching(/^2026-11-25T19:00/)],
      ['cy', '2026-11-26T08:00:00.000Z'],
      ['di', '2026-11-26T08:00:00.000Z'],
      ['bo', '2026-11-26T13:00:00.000Z'],
    ]);
    const delivered = async () => (await letterOf(world.ctx, newsletter, id)).counts.delivered;
    expect(await delivered()).toBe(1);
    world.clock.advance(13 * HOUR + 60_000);
    await world.work();
    expect(await delivered()).toBe(3);
    world.clock.advance(5 * HOUR);
    await world.work();
    expect([await delivered(), await state(id)]).toEqual([4, 'sent']);
  });
  it('to nobody where it is stopped while it starts', async () => {
    const id = await written();
    await world.lets(newsletter, id, '2026-11-24T20:00');
    world.clock.advance(DAY);
    // As a worker leaves it that dies between looking whether it may leave and fixing who gets it.
    await startLetter(world.brokenAfter(14), id).catch(() => undefined);
    const state = async () =>
      (await world.ctx.db.selectFrom('letters').select('state').where('id', '=', id).executeTakeFirstOrThrow()).state;
    await world.ctx.db.updateTable('letters').set({ state: 'starting' }).where('id', '=', id).execute();
    await stopLetter(world.ctx, newsletter, id, 'Ottoline Vance');
    await startLetter(world.ctx, id);
    await world.work();
    expect(await state()).toBe('stopped');
    expect(world.mail.taken).toHaveLength(0);
    await expect(world.lets(newsletter, id, '2026-11-26T20:00')).rejects.toMatchObject({ code: 'conflict' });
  });

  it('evenly over some hours', async () => {
    const id = await written();
    const departure = at('2026-11-26T08:00', { pace: { kind: 'over hours', hours: 4 } });
    await go(id, departure);
    world.clock.advance(new Date('2026-11-26T08:00:00Z').getTime() - world.clock.now().getTime());
    await world.work();
    expect((await copies(id)).map(([, due]) => due)).toEqual([
      '2026-11-26T08:00:00.000Z',
      '2026-11-26T09:00:00.000Z',
      '2026-11-26T10:00:00.000Z',
      '2026-11-26T11:00:00.000Z',
    ]);
    world.clock.advance(3 * HOUR);
    await world.work();
    expect(await state(id)).toBe('sent');
  });
});

describe('the runway as a calendar', () => {
  const own = () => world.ctx.db.selectFrom('newsletters').selectAll().where('id', '=', newsletter.id).executeTakeFirstOrThrow();
  it('is read by its private address alone, which can be made anew and closed', async () => {
    const id = await written('Krill; lamps');
    await go(id, at('2026-11-26T08:00'));
    await written('A draft that nobody is told of');
    expect(calendarAddress(world.ctx, newsletter)).toBeNull();
    await openCalendar(world.ctx, newsletter, true);
    const address = calendarAddress(world.ctx, await own())!;
    const token = address.split('/').at(-1)!;
    const calendar = await calendarFor(world.ctx, token);
    expect(calendar).toContain('SUMMARY:Krill\\; lamps');
    expect(calendar).toContain('DTSTART:20261126T080000Z');
    expect(calendar).not.toContain('nobody is told');
    expect(calendar).not.toContain('heronmail');
    // Called back, it is on the runway no more.
    await callBack(world.ctx, newsletter, id, OTTO.name);
    expect(await calendarFor(world.ctx, token)).not.toContain('SUMMARY');
    const stranger = await world.newsletter('Another');
    for (const none of [
      '',
      'x.ics',
      token.replace(newsletter.id, stranger.id),
      token.replace('.1.', '.2.'),
      `${token}x`,
      'a'.repeat(5_000),
    ])
      await expect(calendarFor(world.ctx, none), none.slice(0, 80)).rejects.toMatchObject({ code: 'not-found' });
    await openCalendar(world.ctx, newsletter, true);
    await expect(calendarFor(world.ctx, token)).rejects.toMatchObject({ code: 'not-found' });
    const next = calendarAddress(world.ctx, await own())!
      .split('/')
      .at(-1)!;
    expect(await calendarFor(world.ctx, next)).toContain('BEGIN:VCALENDAR');
    await openCalendar(world.ctx, newsletter, false);
    await expect(calendarFor(world.ctx, next)).rejects.toMatchObject({ code: 'not-found' });
    expect(calendarAddress(world.ctx, await own())).toBeNull();
  });
});

describe('the last look', () => {
  it('tells what is not as the last time, and of two letters to the same people within a day', async () => {
    const first = await written('The lamp-fish census');
    expect(await look(first)).toMatchObject({ first: true, differences: [] });
    await go(first);
    world.clock.advance(60_000);
    await world.work();
    world.clock.advance(3 * DAY);
    const id = await written('The lamp-fish census');
    expect((await look(id)).differences.map((one) => one.title)).toEqual(['These words were sent lately']);
    await addressLetter(world.ctx, newsletter, id, { to: [{ kind: 'readers', ids: [ids[0]!] }], without: [] });
    expect((await look(id)).differences.map((one) => one.title)).toEqual([
      '1 person this time, 4 the last',
      'Not the lists of the last letter',
      'These words were sent lately',
    ]);
    const other = await written('Notes from the pier');
    await go(other, at('2026-11-28T18:00'));
    expect((await look(id, at('2026-11-28T09:00'))).differences.at(-1)).toEqual({
      title: '1 person gets two letters within a day',
      words: expect.stringContaining('“Notes from the pier” leaves'),
    });
    expect((await look(id, at('2026-11-30T09:00'))).differences.some((one) => one.title.includes('within a day'))).toBe(false);
    // However many others leave about then, which meet nobody of it.
    for (let n = 0; n < 6; n += 1) {
      const apart = await written(`To somebody else ${n}`, [p(`Words ${n}`)]);
      await addressLetter(world.ctx, newsletter, apart, { to: [{ kind: 'readers', ids: [ids[3]!] }], without: [] });
      await go(apart, at(`2026-11-28T1${n}:00`));
    }
    expect((await look(id, at('2026-11-28T09:00'))).differences.filter((one) => one.title.includes('within a day'))).toHaveLength(
      1,
    );
    // Once it has left it is met all the same.
    world.clock.advance(new Date('2026-11-28T18:01:00Z').getTime() - world.clock.now().getTime());
    await world.work();
    expect((await look(id, at('2026-11-29T09:00'))).differences.at(-1)?.words).toContain('left today 18:01');
  });
});

import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { Condition } from '@/core/readers/condition';
import { isOnlyUnread, ofList, onlyUnread } from '@/core/sending/audience';
import type { Node } from '@/core/writing/document';
import { writeMarks } from '@/server/delivery/marks';
import { newId } from '@/server/ids';
import { recount } from '@/server/jobs/tick';
import { howMany } from '@/server/readers/table';
import { addressLetter } from '@/server/sending/address';
import { againOf, sendAgain } from '@/server/sending/again';
import { lastLook } from '@/server/sending/departing';
import { beginLetter, discardLetter, duplicateLetter, saveDraftLetter } from '@/server/sending/drafts';
import { letIn } from '@/server/sending/joining';
import { pauseLetter, resumeLetter, stopLetter } from '@/server/sending/letters';
import { progressOf } from '@/server/sending/progress';
import { sendProof } from '@/server/sending/proof';
import { willGet } from '@/server/sending/reach';
import { curveOf, keepFigures, recipientsOf, usualRates } from '@/server/sending/results';
import { chooseVersion, decideTest, releaseRest, saveTest } from '@/server/sending/versions';
import { DAY, TestWorld } from './world';

const OTTO = { name: 'Ottoline Vance' };
const [MINUTE, HOUR] = [60_000, 3_600_000];
const PERSON = 'Mozilla/5.0 (X11; Linux x86_64) A browser';
const p = (text: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text }] });
const link = (href: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text: 'More', href }] });

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
});
afterEach(() => world.close());

const people = (n: number, host = 'heronmail.example') => Array.from({ length: n }, (_, k) => `r${k}@${host}`);
async function written(
  title = 'What the tide leaves',
  nodes: Node[] = [p('Glasswort, mostly.'), link('https://reef.example/more')],
) {
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
/** Lets it go, and has it leave. */
async function leaves(id: string): Promise<void> {
  await world.lets(newsletter, id, '2026-11-24T10:00');
  world.clock.advance(61 * MINUTE);
  await world.work();
}
type Copy = { id: string; sent_on: string; reader_id: string; address: string; variant: number; state: string };
const copies = async (id: string): Promise<Copy[]> =>
  (
    await sql<Copy>`select id, sent_on, reader_id, address, variant, state from deliveries where letter_id = ${id} order by id`.execute(
      world.ctx.db,
    )
  ).rows;
const row = (id: string) => world.ctx.db.selectFrom('letters').selectAll().where('id', '=', id).executeTakeFirstOrThrow();
async function did(some: Copy[], kind: 'open' | 'click', agent = PERSON): Promise<void> {
  if (some.length)
    await writeMarks(
      world.ctx,
      some.map((copy) => ({
        ref: { sentOn: copy.sent_on, id: BigInt(copy.id) },
        kind,
        at: world.clock.now(),
        agent,
        method: 'GET',
        link: kind === 'click' ? 0 : null,
      })),
    );
}
const TEST = { by: 'subject', share: 30, decides: 'clicks', hours: 4, rest: 'goes' } as const;
const subjects = (...all: string[]) => all.map((subject) => ({ subject }));
const counts = (id: string) =>
  world.ctx.db.selectFrom('letter_counts').selectAll().where('letter_id', '=', id).executeTakeFirstOrThrow();
const mailsToOwner = async () => {
  const mails = await Promise.all(world.mail.to(`${newsletter.owner}@postbird.example`).map((mail) => simpleParser(mail.source)));
  return mails.map((mail) => mail.subject);
};

describe('a test of subjects', () => {
  it('goes to a part of its readers, is decided, and the rest gets the better one: each reader one copy', async () => {
    await world.readers(newsletter, people(40));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Glasswort, and nothing else', 'The third one') });
    await leaves(id);
    const all = await copies(id);
    expect(all).toHaveLength(40);
    // Three groups of four; the others wait.
    const tried = all.filter((copy) => copy.state !== 'kept');
    expect([0, 1, 2].map((n) => tried.filter((copy) => copy.variant === n).length)).toEqual([4, 4, 4]);
    expect(tried.every((copy) => copy.state === 'delivered')).toBe(true);
    expect(world.mail.taken.filter((mail) => /^Subject: Glasswort, and nothing else/m.test(mail.source))).toHaveLength(4);
    expect((await row(id)).state).toBe('sending');
    world.clock.advance(HOUR);
    await did(
      tried.filter((copy) => copy.variant === 1),
      'click',
    );
    await did(
      tried.filter((copy) => copy.variant !== 1),
      'open',
    );
    world.clock.advance(3 * HOUR);
    await world.work();
    const ended = await row(id);
    expect(ended).toMatchObject({ state: 'sent', winner: 1 });
    expect(ended.verdict).toMatchObject({
      winner: 1,
      by: null,
      arms: [
        { got: 4, did: 0 },
        { got: 4, did: 4 },
        { got: 4, did: 0 },
      ],
    });
    const after = await copies(id);
    expect(after.filter((copy) => copy.state === 'delivered')).toHaveLength(40);
    for (const reader of people(40)) expect(world.mail.to(reader)).toHaveLength(1);
    expect(world.mail.taken.filter((mail) => /^Subject: Glasswort, and nothing else/m.test(mail.source))).toHaveLength(4 + 28);
    expect(await mailsToOwner()).toEqual(['The test of “What the tide leaves” is decided']);
    expect(await counts(id)).toMatchObject({ recipients: 40, delivered: 40 });
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('says that none is clear, and waits for its writer if it was asked to; who left meanwhile gets nothing', async () => {
    await world.readers(newsletter, people(30));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, rest: 'waits', versions: subjects('Another') });
    await leaves(id);
    world.clock.advance(5 * HOUR);
    await world.work();
    expect(await row(id)).toMatchObject({ state: 'sending', winner: null, verdict: { winner: null, leader: 0 } });
    expect(await mailsToOwner()).toEqual(['“What the tide leaves” waits for you']);
    // Longer than any letter is tried.
    world.clock.advance(3 * DAY);
    await world.work();
    expect((await row(id)).state).toBe('sending');
    const waiting = (await copies(id)).filter((copy) => copy.state === 'kept');
    expect(waiting).toHaveLength(22);
    await world.ctx.db
      .updateTable('readers')
      .set({ address_state: 'suppressed' })
      .where('id', '=', waiting[0]!.reader_id)
      .execute();
    await expect(chooseVersion(world.ctx, newsletter, id, 7, 'Ottoline Vance')).rejects.toMatchObject({ code: 'invalid' });
    const stranger = await world.newsletter('Elsewhere');
    await expect(chooseVersion(world.ctx, stranger, id, 1, 'A stranger')).rejects.toMatchObject({ code: 'not-found' });
    await chooseVersion(world.ctx, newsletter, id, 1, 'Ottoline Vance');
    await expect(chooseVersion(world.ctx, newsletter, id, 0, 'Ottoline Vance')).rejects.toMatchObject({ code: 'conflict' });
    await world.work();
    expect(await row(id)).toMatchObject({ state: 'sent', verdict: { by: 'Ottoline Vance' } });
    expect(await counts(id)).toMatchObject({ delivered: 29, cancelled: 1 });
  });

  it('is stopped whole, waits while it is paused, and is chosen before its time', async () => {
    await world.readers(newsletter, people(20));
    const first = await written('One');
    await saveTest(world.ctx, newsletter, first, { ...TEST, versions: subjects('Two') });
    await leaves(first);
    await pauseLetter(world.ctx, newsletter, first, 'Ottoline Vance');
    world.clock.advance(6 * HOUR);
    await world.work();
    expect(await row(first)).toMatchObject({ state: 'paused', verdict: null, winner: null });
    await chooseVersion(world.ctx, newsletter, first, 1, 'Ottoline Vance');
    await world.work();
    expect((await copies(first)).filter((copy) => copy.state === 'kept')).toHaveLength(14);
    await resumeLetter(world.ctx, newsletter, first, 'Ottoline Vance');
    await world.work();
    expect((await row(first)).state).toBe('sent');
    const second = await written('Three');
    await saveTest(world.ctx, newsletter, second, { ...TEST, versions: subjects('Four') });
    await world.lets(newsletter, second, '2026-11-24T20:00');
    world.clock.advance(DAY);
    await world.work();
    await stopLetter(world.ctx, newsletter, second, 'Ottoline Vance');
    await world.work();
    expect(await counts(second)).toMatchObject({ recipients: 20, delivered: 6, cancelled: 14 });
    await expect(chooseVersion(world.ctx, newsletter, second, 0, 'Ottoline Vance')).rejects.toMatchObject({ code: 'conflict' });
  });

  it('is decided and let go once, wherever the process is killed', async () => {
    await world.readers(newsletter, people(20));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Another') });
    await leaves(id);
    world.clock.advance(5 * HOUR);
    const through = async (act: (ctx: typeof world.ctx) => Promise<unknown>) => {
      for (let n = 0; n < 60; n += 1) {
        const ended = await act(world.brokenAfter(n)).then(
          () => true,
          () => false,
        );
        if (ended) return n;
      }
      throw new Error('never');
    };
    expect(await through((ctx) => decideTest(ctx, id))).toBeGreaterThan(3);
    expect(await through((ctx) => releaseRest(ctx, id))).toBeGreaterThan(2);
    await Promise.all([decideTest(world.ctx, id), releaseRest(world.ctx, id), releaseRest(world.ctx, id)]);
    await world.work();
    for (const reader of people(20)) expect(world.mail.to(reader)).toHaveLength(1);
    expect(await mailsToOwner()).toHaveLength(1);
  });

  it('tries senders and beginnings too, each with its own links', async () => {
    await world.readers(newsletter, people(12));
    const id = await written('One', [link('https://reef.example/own'), p('The rest.')]);
    await saveTest(world.ctx, newsletter, id, {
      ...TEST,
      by: 'beginning',
      share: 100,
      versions: [{ beginning: 'It began with a lamp.' }],
    });
    // A proof of each.
    await sendProof(world.ctx, newsletter, OTTO, id, { to: 'proof@heronmail.example' });
    await world.work();
    const proofs = await Promise.all(world.mail.to('proof@heronmail.example').map((mail) => simpleParser(mail.source)));
    expect(proofs.map((mail) => mail.text?.includes('It began with a lamp.'))).toEqual([false, true]);
    expect(proofs[1]!.text).toContain('It is version 2 of 2.');
    world.mail.taken.length = 0;
    await leaves(id);
    const other = world.mail.taken.filter((mail) => mail.source.includes('It began with a lamp.'));
    expect(other).toHaveLength(6);
    expect(other[0]!.source).not.toContain('reef.example%2Fown');
    const links = await world.ctx.db.selectFrom('letter_links').select('url').where('letter_id', '=', id).execute();
    expect(links.map((one) => one.url)).toContain('https://reef.example/own');
    expect((await row(id)).state).toBe('sent');
    const second = await world.ctx.db
      .insertInto('senders')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        name: 'Otto',
        address: `otto@${(await row(id)).from_address!.split('@')[1]}`,
        domain: (await row(id)).from_address!.split('@')[1]!,
        confirmed_at: world.clock.now(),
        created_at: world.clock.now(),
      })
      .returning(['id', 'address'])
      .executeTakeFirstOrThrow();
    const next = await written('Two');
    await saveTest(world.ctx, newsletter, next, { ...TEST, by: 'sender', share: 100, versions: [{ senderId: second.id }] });
    world.clock.advance(DAY);
    await world.lets(newsletter, next, '2026-11-25T20:00');
    world.clock.advance(DAY);
    await world.work();
    expect(world.mail.taken.filter((mail) => mail.source.includes(`From: "Otto" <${second.address}>`))).toHaveLength(6);
  });

  it('is refused where it could not be decided or sent, and held where that comes later, which its owners are told once', async () => {
    await world.readers(newsletter, people(4));
    const id = await written();
    const refused = (more: object, words: string) =>
      expect(saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Another'), ...more })).rejects.toMatchObject({
        code: 'invalid',
        sentence: expect.stringContaining(words),
      });
    await refused({ versions: subjects(' ') }, 'Say each subject');
    await refused({ versions: subjects('What the tide leaves') }, 'the same');
    await refused({ versions: subjects('A', 'B', 'C', 'D') }, '');
    await refused({ share: 1 }, 'Share');
    await refused({ by: 'sender', versions: [{ senderId: newId() }] }, 'not there any more');
    await expect(
      saveTest(world.ctx, { ...newsletter, count_clicks: false }, id, { ...TEST, versions: subjects('B') }),
    ).rejects.toMatchObject({
      sentence: expect.stringContaining('Clicks are not counted'),
    });
    const { senderId: other } = await world.sender(newsletter, 'second.example');
    await refused({ by: 'sender', versions: [{ senderId: other }] }, 'one domain');
    const strange = await world.newsletter('Elsewhere');
    await expect(saveTest(world.ctx, strange, id, { ...TEST, versions: subjects('B') })).rejects.toMatchObject({
      code: 'not-found',
    });
    // What is changed after it was looked at is not what was let go.
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Another') });
    const { stamp } = await lastLook(world.ctx, newsletter, id, {
      when: 'now',
      local: '',
      zone: 'Europe/Lisbon',
      pace: { kind: 'at once' },
    });
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Yet another') });
    const again = await lastLook(world.ctx, newsletter, id, {
      when: 'now',
      local: '',
      zone: 'Europe/Lisbon',
      pace: { kind: 'at once' },
    });
    expect(again.stamp).not.toBe(stamp);
    const clocks = await lastLook(world.ctx, newsletter, id, {
      when: 'at',
      local: '2026-11-26T08:00',
      zone: 'Europe/Lisbon',
      pace: { kind: 'local hour' },
    });
    expect(clocks.stops.map((one) => one.title)).toContain('Versions are tried at one moment');
    await world.ctx.db.updateTable('letter_versions').set({ subject: '' }).where('letter_id', '=', id).execute();
    await world.ctx.db
      .updateTable('letters')
      .set({ state: 'scheduled', due_at: world.clock.now() })
      .where('id', '=', id)
      .execute();
    await world.work();
    expect(await row(id)).toMatchObject({
      state: 'held',
      cause: expect.stringContaining('subjects that it is tried with is empty'),
    });
    world.clock.advance(HOUR);
    await world.work();
    world.clock.advance(HOUR);
    await world.work();
    expect(await mailsToOwner()).toEqual(['“What the tide leaves” is held back']);
    await saveTest(world.ctx, newsletter, id, null);
    world.clock.advance(HOUR);
    await world.work();
    expect((await row(id)).state).toBe('sent');
  });

  it('is not decided while its copies are still on their way, however late it is', async () => {
    await world.readers(newsletter, people(20));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Another') });
    for (const reader of people(20)) world.mail.answers.set(reader, [421, '4.3.2 Come back later']);
    await leaves(id);
    world.clock.advance(5 * HOUR);
    await world.work();
    expect(await row(id)).toMatchObject({ verdict: null, winner: null });
    expect(await mailsToOwner()).toEqual([]);
    world.mail.answers.clear();
    for (let n = 0; n < 4; n += 1) {
      world.clock.advance(2 * HOUR);
      await world.work();
    }
    expect(await row(id)).toMatchObject({ state: 'sent', winner: 0 });
    for (const reader of people(20)) expect(world.mail.to(reader)).toHaveLength(1);
  });

  it('comes first in a ramp-up, and is decided after the last of its own', async () => {
    await world.readers(newsletter, people(60));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, share: 50, versions: subjects('Another') });
    const ramp = { startedOn: '2026-11-24', first: 20, days: 10, volume: 1_000 };
    await world.ctx.db
      .updateTable('domains')
      .set({ ramp: JSON.stringify(ramp) })
      .where('newsletter_id', '=', newsletter.id)
      .execute();
    await leaves(id);
    const { rows } = await sql<{ state: string; day: string; n: number }>`
      select state, due_at::date::text as day, count(*)::int as n from deliveries where letter_id = ${id} group by 1, 2 order by 2, 1`.execute(
      world.ctx.db,
    );
    const days = [...new Set(rows.map((one) => one.day))];
    expect(days.length).toBeGreaterThan(1);
    // Nobody who only waits for the test takes a place of those on whom it is tried.
    const lastTried = rows.filter((one) => one.state !== 'kept').at(-1)!.day;
    expect(rows.filter((one) => one.state === 'kept').every((one) => one.day >= lastTried)).toBe(true);
    expect((await row(id)).decide_at!.toISOString().slice(0, 10) >= lastTried).toBe(true);
  });

  it('is held where two of its versions have become the same meanwhile', async () => {
    await world.readers(newsletter, people(4));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('Another') });
    await world.ctx.db.updateTable('letters').set({ subject: 'Another' }).where('id', '=', id).execute();
    const looked = await lastLook(world.ctx, newsletter, id, {
      when: 'now',
      local: '',
      zone: 'Europe/Lisbon',
      pace: { kind: 'at once' },
    });
    expect(looked.stops).toContainEqual(expect.objectContaining({ title: 'Its versions cannot be tried' }));
  });

  it('is decided too where everybody tries it, and says that none is ahead where all did alike', async () => {
    await world.readers(newsletter, people(6));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, share: 100, versions: subjects('Another') });
    await leaves(id);
    expect(await row(id)).toMatchObject({ state: 'sent', verdict: null });
    world.clock.advance(5 * HOUR);
    await world.work();
    // Nobody is left who could get the better one.
    expect(await row(id)).toMatchObject({ state: 'sent', verdict: { winner: null }, winner: null });
    const [told] = await Promise.all(
      world.mail.to(`${newsletter.owner}@postbird.example`).map((mail) => simpleParser(mail.source)),
    );
    expect(told!.text).toContain('No clear winner: so far they did alike.');
    expect(told!.text).toContain('Everybody had got one of them already.');
    await world.work();
    expect(await mailsToOwner()).toHaveLength(1);
  });

  it('is none where there are fewer people than versions', async () => {
    await world.readers(newsletter, people(2));
    const id = await written();
    await saveTest(world.ctx, newsletter, id, { ...TEST, versions: subjects('B', 'C') });
    await leaves(id);
    expect(await row(id)).toMatchObject({ state: 'sent', test: null });
    expect((await copies(id)).map((copy) => copy.variant)).toEqual([0, 0]);
  });
});

describe('a letter sent again', () => {
  it('goes once, by another subject, to those who did not open it and whose reading can be seen', async () => {
    await world.readers(newsletter, people(6));
    const id = await written();
    expect(await againOf(world.ctx, newsletter, id)).toMatchObject({ can: false });
    await leaves(id);
    const all = await copies(id);
    world.clock.advance(MINUTE);
    await did([all[0]!], 'open');
    await did([all[1]!], 'click');
    await did([all[2]!], 'open', 'ReefProxy/1.0 image proxy');
    await world.ctx.db.updateTable('readers').set({ text_alone: true }).where('id', '=', all[3]!.reader_id).execute();
    expect(await againOf(world.ctx, newsletter, id)).toEqual({ can: true });
    expect(await willGet(world.ctx, world.ctx.db, newsletter, onlyUnread((await row(id)).audience, id))).toBe(2);
    const subject = 'In case it was lost in the reeds';
    await expect(sendAgain(world.ctx, newsletter, id, { subject: ' what the TIDE leaves' })).rejects.toMatchObject({
      code: 'invalid',
    });
    await expect(sendAgain(world.ctx, newsletter, id, { subject: '' })).rejects.toMatchObject({ code: 'invalid' });
    const stranger = await world.newsletter('Elsewhere');
    await expect(sendAgain(world.ctx, stranger, id, { subject })).rejects.toMatchObject({ code: 'conflict' });
    // Pressed twice, side by side: one letter comes of it.
    const pressed = await Promise.allSettled([1, 2].map(() => sendAgain(world.ctx, newsletter, id, { subject })));
    expect(pressed.map((one) => one.status).sort()).toEqual(['fulfilled', 'rejected']);
    const drafts = await world.ctx.db.selectFrom('letters').select('id').where('state', '=', 'draft').execute();
    expect(drafts).toHaveLength(1);
    const again = drafts[0]!.id;
    await expect(sendAgain(world.ctx, newsletter, id, { subject: 'Once more' })).rejects.toMatchObject({ code: 'conflict' });
    const audience = (await row(again)).audience;
    expect(isOnlyUnread(audience, id)).toBe(true);
    await expect(addressLetter(world.ctx, newsletter, again, ofList(await world.list(newsletter)))).rejects.toMatchObject({
      code: 'invalid',
    });
    // Who reads it before it leaves gets nothing.
    await did([all[4]!], 'open');
    const looked = await lastLook(world.ctx, newsletter, again, {
      when: 'now',
      local: '',
      zone: 'Europe/Lisbon',
      pace: { kind: 'at once' },
    });
    expect(looked).toMatchObject({ will: 1 });
    expect(looked.differences.map((one) => one.title)).toContain('These words were sent lately');
    await world.lets(newsletter, again, '2026-11-24T20:00');
    world.clock.advance(DAY);
    await world.work();
    expect((await copies(again)).map((copy) => copy.address)).toEqual([all[5]!.address]);
    expect(world.mail.to(all[5]!.address)).toHaveLength(2);
    expect(await againOf(world.ctx, newsletter, again)).toMatchObject({ can: false, letter: id });
    // A copy of it is a letter like any other, for everybody.
    const copy = await duplicateLetter(world.ctx, newsletter, again);
    expect(isOnlyUnread((await row(copy.id)).audience, id)).toBe(false);
  });
  it('can be thrown away and begun anew, and not where openings are not counted', async () => {
    await world.readers(newsletter, people(2));
    const id = await written();
    await leaves(id);
    const { id: again } = await sendAgain(world.ctx, newsletter, id, { subject: 'Once more' });
    await discardLetter(world.ctx, newsletter, again);
    await sendAgain(world.ctx, newsletter, id, { subject: 'Once more' });
    const unread: Condition = { kind: 'letter', id, what: 'unread' };
    expect(await howMany(world.ctx, newsletter, { find: '', condition: unread })).toBe(2);
    await world.ctx.db.updateTable('letters').set({ counts_opens: false }).where('id', '=', id).execute();
    // Nobody was seen not to open it.
    expect(await howMany(world.ctx, newsletter, { find: '', condition: unread })).toBe(0);
    await world.ctx.db.deleteFrom('letters').where('again_of', '=', id).execute();
    expect(await againOf(world.ctx, newsletter, id)).toMatchObject({ can: false, why: expect.stringContaining('not counted') });
  });
});

describe('who joined since a letter began', () => {
  it('gets it only if its writer lets them in while it is on its way, and nobody gets it twice', async () => {
    await world.readers(newsletter, people(3));
    const id = await written();
    world.mail.answers.set('r0@heronmail.example', [421, '4.3.2 Come back later']);
    await leaves(id);
    world.clock.advance(MINUTE);
    await world.readers(newsletter, ['late@heronmail.example']);
    world.clock.advance(MINUTE);
    await world.work();
    expect(world.mail.to('late@heronmail.example')).toHaveLength(0);
    expect(await letIn(world.ctx, newsletter, id)).toEqual({ people: 1 });
    expect(await letIn(world.ctx, newsletter, id)).toEqual({ people: 0 });
    const stranger = await world.newsletter('Elsewhere');
    await expect(letIn(world.ctx, stranger, id)).rejects.toMatchObject({ code: 'not-found' });
    world.mail.answers.clear();
    world.clock.advance(HOUR);
    await world.work();
    expect(world.mail.to('late@heronmail.example')).toHaveLength(1);
    expect(world.mail.to('r0@heronmail.example')).toHaveLength(1);
    expect(await counts(id)).toMatchObject({ recipients: 4, delivered: 4 });
    expect((await row(id)).state).toBe('sent');
    await expect(letIn(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });
});

describe('a letter’s result', () => {
  it('is counted by the hour and by what hides, the same by rows, and stands beside one’s usual', async () => {
    await world.readers(newsletter, people(6));
    const ids: string[] = [];
    for (let n = 0; n < 4; n += 1) {
      const id = await written(`Letter ${n}`, [p(`Number ${n}`), link('https://reef.example/more')]);
      const due = new Date(world.clock.now().getTime() + HOUR);
      await world.ctx.db.updateTable('letters').set({ state: 'scheduled', due_at: due }).where('id', '=', id).execute();
      world.clock.advance(HOUR + 1_000);
      await world.work();
      const all = await copies(id);
      world.clock.advance(10 * MINUTE);
      // A machine for four of them, of whom one is then seen to read; a click of another.
      await did(all.slice(0, 4), 'open', 'ReefProxy/1.0 image proxy');
      await did([all[0]!], 'open');
      world.clock.advance(2 * HOUR);
      await did([all[5]!], 'click');
      await did([all[5]!], 'open', 'ReefProxy/1.0 image proxy');
      ids.push(id);
      world.clock.advance(3 * DAY);
      await world.work();
    }
    const last = ids.at(-1)!;
    expect(await counts(last)).toMatchObject({ opened_people: 2, opened_machines: 5, hidden: 3, clicked: 1 });
    expect(await recount(world.ctx, newsletter)).toBe(0);
    const curve = await curveOf(world.ctx, newsletter, last);
    expect(curve.figures?.reads.slice(0, 4)).toEqual([1, 0, 1, 0]);
    expect(curve.figures?.clicks.slice(0, 4)).toEqual([0, 0, 1, 0]);
    expect(curve.figures?.versions).toEqual([{ got: 6, back: 0, read: 2, clicked: 1 }]);
    expect(curve.usual?.slice(0, 4)).toEqual([1 / 6, 1 / 6, 2 / 6, 2 / 6]);
    expect((await curveOf(world.ctx, newsletter, ids[1]!)).usual).toBeNull();
    expect(await usualRates(world.ctx, newsletter)).toEqual({ opens: 2 / 6, clicks: 1 / 6 });
    // Made anew, they are the same.
    await keepFigures(world.ctx, last);
    expect((await curveOf(world.ctx, newsletter, last)).figures).toEqual(curve.figures);
  });

  it('names each recipient with what became of theirs, page by page, and tells a stranger nothing', async () => {
    await world.readers(newsletter, people(5));
    const id = await written();
    expect(await recipientsOf(world.ctx, newsletter, id, {})).toEqual({ rows: [], more: null });
    world.mail.answers.set('r3@heronmail.example', [550, '5.1.1 No such lamp']);
    await leaves(id);
    const all = await copies(id);
    world.clock.advance(MINUTE);
    await did([all[0]!], 'click');
    const first = await recipientsOf(world.ctx, newsletter, id, { most: 3 });
    expect(first.rows.map((one) => one.address)).toEqual(people(5).slice(0, 3));
    const rest = await recipientsOf(world.ctx, newsletter, id, { most: 3, after: first.more });
    expect(rest.rows.map((one) => one.address)).toEqual(people(5).slice(3));
    expect(rest.more).toBeNull();
    const of = async (shelf: Parameters<typeof recipientsOf>[3]['shelf']) =>
      (await recipientsOf(world.ctx, newsletter, id, { shelf })).rows.map((one) => one.address);
    expect(await of('clicked')).toEqual(['r0@heronmail.example']);
    expect(await of('read')).toEqual(['r0@heronmail.example']);
    expect(await of('unread')).toEqual(people(5).filter((_, n) => n !== 0 && n !== 3));
    expect(await of('back')).toEqual(['r3@heronmail.example']);
    expect((await recipientsOf(world.ctx, newsletter, id, { shelf: 'back' })).rows[0]!.response).toContain('No such lamp');
    expect((await recipientsOf(world.ctx, newsletter, id, { find: 'R4@' })).rows).toHaveLength(1);
    expect((await recipientsOf(world.ctx, newsletter, id, { find: '%' })).rows).toHaveLength(0);
    const stranger = await world.newsletter('Elsewhere');
    expect(await recipientsOf(world.ctx, stranger, id, {})).toEqual({ rows: [], more: null });
  });

  it('says while it leaves how it gets on, by way, and how long it still takes', async () => {
    await world.readers(newsletter, [...people(4), ...people(2, 'postbird.example')]);
    const id = await world.letter(newsletter, senderId);
    world.mail.answers.set('r0@heronmail.example', [421, '4.3.2 Come back later']);
    await world.work();
    const progress = await progressOf(world.ctx, newsletter, id);
    expect(progress).toMatchObject({ deferred: 1, lastDue: null });
    expect(progress!.ways.reduce((sum, way) => sum + way.recipients, 0)).toBe(6);
    expect(progress!.ways.reduce((sum, way) => sum + way.deferred, 0)).toBe(1);
    expect(progress!.ways.reduce((sum, way) => sum + way.waiting, 0)).toBe(1);
    // Nothing of its pace is known yet.
    expect(progress!.left).toBeNull();
    const stranger = await world.newsletter('Elsewhere');
    expect(await progressOf(world.ctx, stranger, id)).toBeNull();
  });
});

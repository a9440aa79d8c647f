import { sql } from 'kysely';
import { authenticate } from 'mailauth';
import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { Node } from '@/core/writing/document';
import { totalsOf } from '@/server/readers/readers';
import { leave } from '@/server/sending/leave';
import { chooseSender } from '@/server/sending/letters';
import { findRoutes } from '@/server/sending/routing';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { answer, comesBack, notice } from './notices';
import { DAY, MailSink, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
});
afterEach(() => world.close());

const NODES: Node[] = [
  {
    kind: 'paragraph',
    inline: [
      { kind: 'text', text: 'It waits – with a ' },
      { kind: 'text', text: 'lamp', href: 'https://lanternfish.example/lamp' },
      { kind: 'text', text: '.' },
    ],
  },
];
const schedule = (subject = 'Why the anglerfish waits') => world.letter(newsletter, senderId, { subject, nodes: NODES });
const counts = async (id: string) => (await letterOf(world.ctx, newsletter, id)).counts;
const names = (n: number, provider = 'heronmail.example') => Array.from({ length: n }, (_, k) => `reader${k}@${provider}`);
const stateOf = async (address: string) =>
  (await world.ctx.db.selectFrom('readers').select('address_state').where('address', '=', address).executeTakeFirst())
    ?.address_state;
/** The token of the leave link of a letter. */
const leaveTokenOf = (source: string) => /\/e\/leave\/([a-z2-7]{56})>/.exec(source.replace(/\r\n /g, ''))![1]!;
const leaveAddressOf = (source: string) => /<mailto:(leave-[^>]+)>/.exec(source.replace(/\r\n /g, ''))![1]!;

describe('who gets a letter', () => {
  it('is everyone reading, each once; not who waits, left, is suppressed or belongs to others', async () => {
    const [, waiting, left, dead, bouncing, silenced] = await world.readers(newsletter, names(6));
    const set = (id: string | undefined, state: 'waiting' | 'left') =>
      world.ctx.db.updateTable('memberships').set({ state }).where('reader_id', '=', id!).execute();
    await set(waiting, 'waiting');
    await set(left, 'left');
    await world.ctx.db.updateTable('readers').set({ address_state: 'suppressed' }).where('id', '=', dead!).execute();
    await world.ctx.db.updateTable('readers').set({ address_state: 'bouncing' }).where('id', '=', bouncing!).execute();
    await world.ctx.db
      .insertInto('suppressions')
      .values({
        newsletter_id: newsletter.id,
        address_key: 'reader5@heronmail.example',
        reason: 'erased',
        at: world.clock.now(),
        detail: null,
      })
      .execute();
    expect(silenced).toBeDefined();
    await world.readers(await world.newsletter('Another one'), ['other@heronmail.example']);
    const id = await schedule();
    await world.work();
    expect(world.mail.taken.map((mail) => mail.to)).toEqual(['reader0@heronmail.example']);
    expect(await counts(id)).toMatchObject({ recipients: 1, delivered: 1 });
    expect((await letterOf(world.ctx, newsletter, id)).state).toBe('sent');
  });

  it('is fixed once, however often the start is asked for', async () => {
    await world.readers(newsletter, names(3));
    const id = await schedule();
    await Promise.all([startLetter(world.ctx, id), startLetter(world.ctx, id), startLetter(world.ctx, id)]);
    await world.readers(newsletter, ['late@heronmail.example']);
    await world.work();
    expect(world.mail.taken).toHaveLength(3);
  });
});

describe('a letter', () => {
  it('carries everything a letter must, and passes DKIM with the published key', async () => {
    await world.readers(newsletter, ['mara@heronmail.example']);
    await schedule('Größe, Tiefe — “Licht”');
    await world.work();
    const mail = world.mail.to('mara@heronmail.example')[0]!;
    const parsed = await simpleParser(Buffer.from(mail.source, 'latin1'));
    expect(parsed.subject).toBe('Größe, Tiefe — “Licht”');
    expect(parsed.from?.text).toBe('"Ottoline Vance" <letters@lanternfish.example>');
    for (const part of [parsed.text ?? '', parsed.html || '']) {
      expect(part).toContain('You get this because you asked for Lanternfish Letters');
      expect(part).toContain('PO Box 600, Lisbon');
      expect(part).toContain('https://go.inkset.example/e/leave/');
    }
    expect(mail.source).toContain(`List-Unsubscribe-Post: List-Unsubscribe=One-Click`);
    expect(mail.source).toMatch(/^List-Id: "Lanternfish Letters" <lanternfish-letters\.lanternfish\.example>\r$/m);
    expect(mail.source).toMatch(/^Feedback-ID:\s+[0-9a-f-]+\.0:[0-9a-f-]+:post:inkset\r$/m);
    expect(parsed.messageId).toMatch(/^<n-[a-z2-7]{31}@lanternfish\.example>$/);
    expect(mail.from).toMatch(/^b-[a-z2-7]{31}@bounce\.lanternfish\.example$/);
    expect(parsed.html).toMatch(/\/e\/c\/[a-z2-7]{31}\/0\?u=https%3A%2F%2Flanternfish\.example%2Fa%3Fb%3D1%26c%3D2&amp;s=1\./);
    // One purpose, one key: what stands in one place of the letter opens no other.
    const tokens = [/\/e\/c\/(\w+)/, /\/e\/o\/(\w+)/].map((part) => part.exec(parsed.html || '')![1]!);
    expect(new Set([...tokens, mail.from.slice(2, 33)]).size).toBe(3);
    expect(parsed.text).toContain('Unsubscribe:\nhttps://go.inkset.example/e/leave/');
    expect(parsed.html).toMatch(/<a href="https:\/\/go\.inkset\.example\/e\/leave\/[^"]+"[^>]*>Unsubscribe<\/a>/);
    for (const line of (parsed.text ?? '').split('\n'))
      if (!line.includes('https://')) expect([...line].length).toBeLessThanOrEqual(78);
    for (const line of mail.source.split('\r\n\r\n')[0]!.split('\r\n'))
      if (!/https:|mailto:/.test(line)) expect(line.length).toBeLessThanOrEqual(78);
    const { dkim } = await authenticate(Buffer.from(mail.source, 'latin1'), {
      ip: '127.0.0.1',
      sender: mail.from,
      resolver: async (name: string) =>
        (world.dns.records.get(name) ?? Promise.reject(Object.assign(new Error(), { code: 'ENOTFOUND' }))) as never,
      disableArc: true,
      disableBimi: true,
    });
    expect((dkim as unknown as { results: { status: { result: string } }[] }).results[0]?.status.result).toBe('pass');
  });

  it('is held with the reason while its sender or domain may not send, and leaves by itself once it may', async () => {
    await world.readers(newsletter, names(1));
    await world.ctx.db.updateTable('domains').set({ state: 'incomplete' }).execute();
    const id = await schedule();
    await world.work();
    expect((await letterOf(world.ctx, newsletter, id)).cause).toMatch(/records of lanternfish\.example are not all right/);
    // Its owner is told, and nobody else.
    expect(world.mail.taken.map((mail) => mail.to)).toEqual([`${newsletter.owner}@postbird.example`]);
    await world.ctx.db.updateTable('domains').set({ state: 'authenticated' }).execute();
    await world.ctx.db.updateTable('senders').set({ confirmed_at: null }).execute();
    world.clock.advance(6 * MINUTE);
    await world.work();
    expect((await letterOf(world.ctx, newsletter, id)).cause).toMatch(/not confirmed yet/);
    await world.ctx.db.updateTable('senders').set({ confirmed_at: world.clock.now() }).execute();
    world.clock.advance(6 * MINUTE);
    await world.work();
    expect(world.mail.to(names(1)[0]!)).toHaveLength(1);
    // Once for each cause.
    expect(world.mail.to(`${newsletter.owner}@postbird.example`)).toHaveLength(2);
  });
});

describe('the sender of a letter', () => {
  it('may be any confirmed one until the letter leaves', async () => {
    const id = await schedule();
    const other = await world.sender(newsletter, 'second.example');
    await chooseSender(world.ctx, newsletter, id, other.senderId);
    await world.ctx.db.updateTable('senders').set({ confirmed_at: null }).where('id', '=', senderId).execute();
    await expect(chooseSender(world.ctx, newsletter, id, senderId)).rejects.toMatchObject({ code: 'conflict' });
    await expect(chooseSender(world.ctx, newsletter, id, newsletter.id)).rejects.toMatchObject({ code: 'invalid' });
    await world.readers(newsletter, ['mara@heronmail.example']);
    await world.work();
    expect(world.mail.to('mara@heronmail.example')[0]?.from).toMatch(/@bounce\.second\.example$/);
    await expect(chooseSender(world.ctx, newsletter, id, other.senderId)).rejects.toMatchObject({
      sentence: expect.stringContaining('has left already'),
    });
  });
});

describe('what the other side says', () => {
  it('dead, full, slow and refused each change what they should', async () => {
    await world.readers(newsletter, names(5));
    const at = (n: number) => `reader${n}@heronmail.example`;
    world.mail.answers.set(at(1), [550, '5.1.1 No such mailbox']);
    world.mail.answers.set(at(2), [452, '4.2.2 The mailbox is full']);
    world.mail.answers.set(at(3), [451, '4.7.1 Greylisted, come again']);
    world.mail.answers.set(at(4), [550, '5.7.1 Not wanted here']);
    const id = await schedule();
    await world.work();
    expect(await counts(id)).toMatchObject({ recipients: 5, delivered: 1, bounced: 1, refused: 1 });
    expect(await stateOf(at(1))).toBe('suppressed');
    // What was said of the letter says nothing of the mailbox.
    expect(await stateOf(at(4))).toBe('fine');
    world.mail.answers.delete(at(3));
    world.clock.advance(2 * MINUTE);
    await world.work();
    expect(world.mail.to(at(3))).toHaveLength(1);
    // A letter is stale after two days; the mailbox that was full all the time has a sign against it, and is written to again.
    for (let n = 0; n < 14; n += 1) {
      world.clock.advance(5 * 60 * MINUTE);
      await world.work();
    }
    const letter = await letterOf(world.ctx, newsletter, id);
    expect(letter.state).toBe('sent');
    expect(letter.counts).toMatchObject({ delivered: 2, bounced: 1, refused: 1, givenUp: 1 });
    expect(await stateOf(at(2))).toBe('fine');
    for (let n = 0; n < 4; n += 1) {
      await schedule(`Another, ${n}`);
      for (let tries = 0; tries < 12; tries += 1) {
        world.clock.advance(5 * 60 * MINUTE);
        await world.work();
      }
    }
    expect(await stateOf(at(2))).toBe('bouncing');
    // A month later the mailbox gets a second chance, and a delivery takes what spoke against it away.
    world.mail.answers.delete(at(2));
    world.clock.advance(32 * DAY);
    await schedule('A month later');
    await world.work();
    expect(world.mail.to(at(2))).toHaveLength(1);
  });

  it('a week of refused connections counts on the way and on nobody: the next letter goes to everyone', async () => {
    await world.readers(newsletter, names(300));
    const { port } = world.mail;
    await world.mail.close();
    const id = await schedule();
    for (let hour = 0; hour < 7 * 24; hour += 12) {
      await world.work();
      world.clock.advance(12 * 60 * MINUTE);
    }
    const letter = await letterOf(world.ctx, newsletter, id);
    expect(letter.counts).toMatchObject({ recipients: 300, delivered: 0, bounced: 0, refused: 0, givenUp: 300 });
    expect(letter.problems[0]?.response).toMatch(/refused the connection/);
    const readers = await world.ctx.db.selectFrom('readers').select(['address_state', 'soft_evidence']).execute();
    expect(readers.every((reader) => reader.address_state === 'fine' && reader.soft_evidence === 0)).toBe(true);
    const sink = await new MailSink().open(port);
    const next = await schedule('The next one');
    world.clock.advance(31 * MINUTE);
    await world.work();
    // Its owner reads besides what the week was.
    expect(sink.taken.filter(({ to }) => !to.startsWith(newsletter.owner))).toHaveLength(300);
    expect(await counts(next)).toMatchObject({ recipients: 300, delivered: 300 });
    await sink.close();
  });

  it('a refused connection keeps every letter, with the reason, and they go when the door opens', async () => {
    await world.readers(newsletter, names(300));
    const { port } = world.mail;
    await world.mail.close();
    const id = await schedule();
    await world.work();
    expect(await counts(id)).toMatchObject({ recipients: 300, delivered: 0, bounced: 0, refused: 0 });
    const letter = await letterOf(world.ctx, newsletter, id);
    expect(letter.resting[0]?.reason).toMatch(/refused the connection/);
    const tried = await world.ctx.db.selectFrom('deliveries').select('attempts').where('attempts', '>', 0).execute();
    expect(tried).toEqual([]);
    const sink = await new MailSink().open(port);
    world.clock.advance(2 * MINUTE);
    await world.work();
    expect(sink.taken).toHaveLength(300);
    expect(await counts(id)).toMatchObject({ delivered: 300 });
    await sink.close();
  });

  it('a domain that is gone is asked for again for two days, and its readers come back with it', async () => {
    await world.readers(newsletter, ['a@gone.example', 'b@silent.example', 'c@null.example']);
    world.dns.noMail.set('gone.example', 'ENOTFOUND');
    world.dns.noMail.set('silent.example', 'EUNANSWERED');
    world.dns.noMail.set('null.example', 'null');
    const id = await schedule();
    await world.work();
    // A null MX is a word; a name that is missing may be a mistake that is being mended.
    expect(await counts(id)).toMatchObject({ bounced: 1, delivered: 0, givenUp: 0 });
    expect([await stateOf('a@gone.example'), await stateOf('c@null.example')]).toEqual(['fine', 'unreachable']);
    world.dns.noMail.delete('silent.example');
    for (let n = 0; n < 60; n += 1) {
      world.clock.advance(60 * MINUTE);
      await world.work();
    }
    expect(await counts(id)).toMatchObject({ bounced: 1, delivered: 1, givenUp: 1 });
    expect(await stateOf('a@gone.example')).toBe('unreachable');
    expect((await totalsOf(world.ctx, newsletter)).unreachable).toBe(2);
    world.dns.noMail.clear();
    world.clock.advance(DAY);
    await world.work();
    expect(await stateOf('a@gone.example')).toBe('fine');
    const next = await schedule('The next one');
    await world.work();
    expect(await counts(next)).toMatchObject({ recipients: 2, delivered: 2 });
  });

  it('many mailboxes refused in the same words in an hour are the way: nobody is suppressed, and it goes on by itself', async () => {
    await world.readers(newsletter, names(40));
    for (const address of names(40)) world.mail.answers.set(address, [550, 'No such user here']);
    const id = await schedule();
    await world.work();
    const states = await world.ctx.db.selectFrom('readers').select('address_state').execute();
    expect(states.every((row) => row.address_state === 'fine')).toBe(true);
    expect((await letterOf(world.ctx, newsletter, id)).resting[0]?.reason).toMatch(/same words: 550 No such user here/);
    world.mail.answers.clear();
    world.clock.advance(40 * MINUTE);
    await world.work();
    expect((await counts(id)).delivered).toBeGreaterThanOrEqual(30);
    // A few among many that are taken are what they say.
    world.clock.advance(2 * 60 * MINUTE);
    for (const address of names(3)) world.mail.answers.set(address, [550, 'No such user here']);
    await schedule('The next one');
    await world.work();
    expect(await Promise.all(names(4).map(stateOf))).toEqual(['suppressed', 'suppressed', 'suppressed', 'fine']);
  });
});

describe('a worker that dies', () => {
  it('leaves its claims to others, who send under the same Message-ID', async () => {
    await world.readers(newsletter, names(10));
    const id = await schedule();
    await startLetter(world.ctx, id);
    await findRoutes(world.ctx);
    // A worker that claimed and never came back.
    await world.ctx.db
      .updateTable('deliveries')
      .set({ state: 'claimed', claimed_by: '00000000-0000-7000-8000-000000000000' })
      .execute();
    await world.ctx.db.deleteFrom('route_jobs').execute();
    await sql`insert into workers (id, seen_at) values ('00000000-0000-7000-8000-000000000000', now())`.execute(world.ctx.db);
    await world.work(3600);
    expect(world.mail.taken).toHaveLength(0);
    await sql`update workers set seen_at = now() - interval '1 minute' where id = '00000000-0000-7000-8000-000000000000'`.execute(
      world.ctx.db,
    );
    await world.work(0.001);
    expect(world.mail.taken).toHaveLength(10);
    expect(await counts(id)).toMatchObject({ delivered: 10 });
  });
});

describe('what comes back', () => {
  it('a hard bounce to the return path suppresses the reader, once', async () => {
    await world.readers(newsletter, names(2));
    const id = await schedule();
    await world.work();
    const { from, to } = world.mail.taken[0]!;
    expect(await comesBack(world.ctx, from, notice(to))).toBe('bounce');
    expect(await comesBack(world.ctx, from.toUpperCase(), notice(to))).toBe('nothing');
    expect(await counts(id)).toMatchObject({ delivered: 1, bounced: 1 });
    await schedule('The next one');
    await world.work();
    expect(world.mail.to(to)).toHaveLength(1);
  });

  it('a notice that overtakes our own record of the delivery counts all the same', async () => {
    await world.readers(newsletter, names(1));
    const id = await schedule();
    // The server takes it; before we can write that down, its notice is here.
    world.mail.onTaken = async ({ from, to }) => {
      expect(await comesBack(world.ctx, from, notice(to))).toBe('bounce');
    };
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 0, bounced: 1 });
  });

  it('a notice that names somebody else says nothing of this one', async () => {
    await world.readers(newsletter, names(1));
    const id = await schedule();
    await world.work();
    const { from } = world.mail.taken[0]!;
    expect(await comesBack(world.ctx, from, notice('stranger@heronmail.example'))).toBe('nothing');
    expect(await counts(id)).toMatchObject({ delivered: 1, bounced: 0 });
  });

  it('a forged address, an auto reply and a delay notice change nothing', async () => {
    await world.readers(newsletter, names(1));
    const id = await schedule();
    await world.work();
    const { from, to } = world.mail.taken[0]!;
    const forged = from.replace(/^b-(.{9})(.)/, (_, before: string, c: string) => `b-${before}${c === 'a' ? 'b' : 'a'}`);
    expect(await comesBack(world.ctx, forged, notice(to))).toBe('nothing');
    expect(await comesBack(world.ctx, from, answer('I am away', ['Auto-Submitted: auto-replied']))).toBe('away');
    expect(await comesBack(world.ctx, from, notice(to, { status: '4.4.1', action: 'delayed' }))).toBe('delay');
    expect(await counts(id)).toMatchObject({ delivered: 1, bounced: 0 });
  });

  it('leaving by link and by mail works at once and twice, and counts once', async () => {
    await world.readers(newsletter, names(2));
    const id = await schedule();
    await world.work();
    const [first, second] = world.mail.taken.map((mail) => mail.source);
    const visitor = { network: '198.51.100.7', agent: 'A browser' };
    await leave(world.ctx, leaveTokenOf(first!), visitor);
    await leave(world.ctx, leaveTokenOf(first!), visitor);
    const to = leaveAddressOf(second!);
    // An out-of-office answer to the leave address is no wish to leave.
    expect(await comesBack(world.ctx, to, answer('I am away', ['Auto-Submitted: auto-replied']), 'mara@heronmail.example')).toBe(
      'nothing',
    );
    expect(await counts(id)).toMatchObject({ left: 1 });
    expect(await comesBack(world.ctx, to, answer('unsubscribe'), 'mara@heronmail.example')).toBe('leave');
    expect(await counts(id)).toMatchObject({ left: 2 });
    await schedule('The next one');
    await world.work();
    // Nobody is left who would get it, which its owner is told.
    expect(world.mail.taken.slice(2).map((mail) => mail.to)).toEqual([`${newsletter.owner}@postbird.example`]);
  });
});

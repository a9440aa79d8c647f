import { authenticate } from 'mailauth';
import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { deliveryToken } from '@/core/sending/token';
import { recordOutcomes } from '@/server/delivery/outcomes';
import { takeReturned } from '@/server/delivery/returned';
import { tick } from '@/server/jobs/tick';
import { leave } from '@/server/readers/leave';
import { deliverTo } from '@/server/sending/deliver';
import { chooseSender, letterOf, scheduleLetter, startLetter } from '@/server/sending/letters';
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

async function schedule(subject = 'Why the anglerfish waits'): Promise<string> {
  return scheduleLetter(world.ctx, world.ctx.db, {
    newsletterId: newsletter.id,
    autoSendId: null,
    listId: await world.list(newsletter),
    senderId,
    subject,
    previewLine: 'Patience',
    document: {
      blocks: [
        { kind: 'heading', text: subject, href: 'https://lanternfish.example/a?b=1&c=2' },
        { kind: 'text', html: '<p>It waits – with a <a href="https://lanternfish.example/lamp">lamp</a>.</p>' },
      ],
    },
    dueAt: world.clock.now(),
  });
}
const counts = async (id: string) => (await letterOf(world.ctx, newsletter, id)).counts;
const names = (n: number, provider = 'heronmail.example') => Array.from({ length: n }, (_, k) => `reader${k}@${provider}`);
const tokenOf = (from: string) => /^b-([0-9a-f]{36})@/.exec(from)![1]!;

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
    const token = tokenOf(mail.from);
    expect(mail.source).toContain(`List-Unsubscribe-Post: List-Unsubscribe=One-Click`);
    expect(parsed.messageId).toBe(`<${token}@lanternfish.example>`);
    expect(mail.from).toBe(`b-${token}@bounce.lanternfish.example`);
    expect(parsed.html).toContain(`/e/c/${token}/0?u=${encodeURIComponent('https://lanternfish.example/a?b=1&c=2')}&amp;s=`);
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
    expect((await letterOf(world.ctx, newsletter, id)).fault).toMatch(/records of lanternfish\.example are not all right/);
    expect(world.mail.taken).toHaveLength(0);
    await world.ctx.db.updateTable('domains').set({ state: 'authenticated' }).execute();
    await world.ctx.db.updateTable('senders').set({ confirmed_at: null }).execute();
    world.clock.advance(6 * MINUTE);
    await world.work();
    expect((await letterOf(world.ctx, newsletter, id)).fault).toMatch(/not confirmed yet/);
    await world.ctx.db.updateTable('senders').set({ confirmed_at: world.clock.now() }).execute();
    world.clock.advance(6 * MINUTE);
    await world.work();
    expect(world.mail.taken).toHaveLength(1);
  });
});

describe('the sender of a letter', () => {
  it('may be any confirmed one until the letter leaves', async () => {
    const id = await schedule();
    const other = await world.sender(newsletter, 'second.example');
    await chooseSender(world.ctx, newsletter, id, other.senderId);
    await world.ctx.db.updateTable('senders').set({ confirmed_at: null }).where('id', '=', senderId).execute();
    await expect(chooseSender(world.ctx, newsletter, id, senderId)).rejects.toMatchObject({ code: 'conflict' });
    await expect(chooseSender(world.ctx, newsletter, id, 'nonsense')).rejects.toMatchObject({ code: 'invalid' });
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
    world.mail.answers.set(at(3), [451, '4.7.1 Slow down']);
    world.mail.answers.set(at(4), [550, '5.7.1 Not wanted here']);
    const id = await schedule();
    await world.work();
    expect(await counts(id)).toMatchObject({ recipients: 5, delivered: 1, bounced: 1, refused: 1 });
    const reader = await world.ctx.db
      .selectFrom('readers')
      .select('address_state')
      .where('address', '=', at(1))
      .executeTakeFirst();
    expect(reader?.address_state).toBe('suppressed');
    world.mail.answers.delete(at(3));
    world.clock.advance(2 * MINUTE);
    await world.work();
    expect(world.mail.to(at(3))).toHaveLength(1);
    // The full mailbox is tried for about three days, then given up and marked as bouncing.
    for (let n = 0; n < 10; n += 1) {
      world.clock.advance(DAY);
      await world.work();
    }
    const letter = await letterOf(world.ctx, newsletter, id);
    expect(letter.state).toBe('sent');
    expect(letter.counts).toMatchObject({ delivered: 2, bounced: 1, refused: 2 });
    const full = await world.ctx.db.selectFrom('readers').select('address_state').where('address', '=', at(2)).executeTakeFirst();
    expect(full?.address_state).toBe('bouncing');
  });

  it('a refused connection keeps every letter, with the reason, and they go when the door opens', async () => {
    await world.readers(newsletter, names(300));
    const { port } = world.mail;
    await world.mail.close();
    const id = await schedule();
    await world.work();
    expect(await counts(id)).toMatchObject({ recipients: 300, delivered: 0, bounced: 0, refused: 0 });
    expect((await letterOf(world.ctx, newsletter, id)).problems[0]?.response).toMatch(/refused the connection/);
    const sink = await new MailSink().open(port);
    world.clock.advance(2 * MINUTE);
    await world.work();
    expect(sink.taken).toHaveLength(300);
    expect(await counts(id)).toMatchObject({ delivered: 300 });
    await sink.close();
  });

  it('no such domain buries the address; a silent name server only waits', async () => {
    await world.readers(newsletter, ['a@gone.example', 'b@silent.example', 'c@null.example']);
    world.dns.noMail.set('gone.example', 'ENOTFOUND');
    world.dns.noMail.set('silent.example', 'EUNANSWERED');
    world.dns.noMail.set('null.example', 'null');
    const id = await schedule();
    await world.work();
    expect(await counts(id)).toMatchObject({ bounced: 2, delivered: 0 });
    world.dns.noMail.delete('silent.example');
    world.clock.advance(5 * MINUTE);
    await world.work();
    expect(await counts(id)).toMatchObject({ bounced: 2, delivered: 1 });
  });
});

describe('a worker that dies', () => {
  it('leaves its claims to others, who send under the same Message-ID', async () => {
    await world.readers(newsletter, names(10));
    const id = await schedule();
    await startLetter(world.ctx, id);
    // A worker that claimed and never came back.
    await world.ctx.db
      .updateTable('deliveries')
      .set({ state: 'claimed', claimed_by: '00000000-0000-7000-8000-000000000000' })
      .execute();
    await world.work(3600);
    expect(world.mail.taken).toHaveLength(0);
    await world.work(0);
    expect(world.mail.taken).toHaveLength(10);
    expect(new Set(world.mail.taken.map((mail) => tokenOf(mail.from))).size).toBe(10);
  });

  it('and comes back does not write results over those of the one who took over', async () => {
    await world.readers(newsletter, names(1));
    const id = await schedule();
    await startLetter(world.ctx, id);
    await tick(world.ctx, world.worker, async () => {});
    await Promise.all([
      deliverTo(world.ctx, 'heronmail.example', world.worker, () => false),
      deliverTo(world.ctx, 'heronmail.example', world.worker, () => false),
    ]);
    expect(world.mail.taken).toHaveLength(1);
    expect(await counts(id)).toMatchObject({ delivered: 1 });
  });
});

describe('what comes back', () => {
  const notice = (address: string, status: string) =>
    `Reporting-MTA: dns; mx.heronmail.example\n\nFinal-Recipient: rfc822; ${address}\nAction: failed\nStatus: ${status}\nDiagnostic-Code: smtp; 550 ${status} gone\n`;

  it('a hard bounce to the return path suppresses the reader, once', async () => {
    await world.readers(newsletter, names(2));
    const id = await schedule();
    await world.work();
    const { from, to } = world.mail.taken[0]!;
    expect(await takeReturned(world.ctx, { to: from, deliveryStatus: notice(to, '5.1.1') })).toBe('bounce');
    expect(await takeReturned(world.ctx, { to: from.toUpperCase(), deliveryStatus: notice(to, '5.1.1') })).toBe('nothing');
    expect(await counts(id)).toMatchObject({ delivered: 1, bounced: 1 });
    await schedule('The next one');
    await world.work();
    expect(world.mail.to(to)).toHaveLength(1);
  });

  it('a notice that overtakes our own record of the delivery counts all the same', async () => {
    await world.readers(newsletter, names(1));
    const id = await schedule();
    await startLetter(world.ctx, id);
    const { rows } = await world.pool.query("update deliveries set state = 'claimed', claimed_by = $1 returning id, sent_on", [
      world.worker,
    ]);
    const token = deliveryToken({ id: BigInt(rows[0].id), sentOn: rows[0].sent_on }, world.ctx.config.secret);
    const to = `b-${token}@bounce.lanternfish.example`;
    expect(await takeReturned(world.ctx, { to, deliveryStatus: notice(names(1)[0]!, '5.1.1') })).toBe('bounce');
    const item = { ...rows[0], letter_id: id, newsletter_id: newsletter.id, reader_id: '', address: '', attempts: 0 };
    await recordOutcomes(world.ctx, [{ item, outcome: { kind: 'delivered', response: '250' }, again: null }], world.worker);
    expect(await counts(id)).toMatchObject({ delivered: 0, bounced: 1 });
  });

  it('a forged address, an auto reply and a delay notice change nothing', async () => {
    await world.readers(newsletter, names(1));
    const id = await schedule();
    await world.work();
    const { from, to } = world.mail.taken[0]!;
    const forged = from.replace(/^b-(.)/, (_, c: string) => `b-${c === '0' ? '1' : '0'}`);
    expect(await takeReturned(world.ctx, { to: forged, deliveryStatus: notice(to, '5.1.1') })).toBe('nothing');
    expect(await takeReturned(world.ctx, { to: from, deliveryStatus: null })).toBe('nothing');
    expect(await takeReturned(world.ctx, { to: from, deliveryStatus: notice(to, '4.4.1').replace('failed', 'delayed') })).toBe(
      'nothing',
    );
    expect(await counts(id)).toMatchObject({ delivered: 1, bounced: 0 });
  });

  it('leaving by link and by mail works at once and twice, and counts once', async () => {
    await world.readers(newsletter, names(2));
    const id = await schedule();
    await world.work();
    const [first, second] = world.mail.taken.map((mail) => mail.from);
    const visitor = { network: '198.51.100.7', agent: 'A browser' };
    await leave(world.ctx, tokenOf(first!), visitor);
    await leave(world.ctx, tokenOf(first!), visitor);
    expect(await takeReturned(world.ctx, { to: second!.replace(/^b-/, 'leave-'), deliveryStatus: null })).toBe('leave');
    expect(await counts(id)).toMatchObject({ left: 2 });
    await schedule('The next one');
    await world.work();
    expect(world.mail.taken).toHaveLength(2);
  });
});

import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { Audience } from '@/core/sending/audience';
import { leaveToken } from '@/core/sending/token';
import { writeMarks } from '@/server/delivery/marks';
import { sourcesOf } from '@/server/growth/sources';
import { today } from '@/server/growth/today';
import { newId } from '@/server/ids';
import { postOffice } from '@/server/jobs/post-office';
import { beat, foldCounts, housekeeping, mendWaits, recount } from '@/server/jobs/tick';
import { post } from '@/server/mail/post';
import { PostOffice } from '@/server/mail/post-office';
import { Singles } from '@/server/mail/singles';
import { totalsOf } from '@/server/readers/readers';
import { Copies } from '@/server/sending/copies';
import { leave } from '@/server/sending/leave';
import { pauseLetter, resumeLetter, stopLetter } from '@/server/sending/letters';
import { Taken } from '@/server/sending/mailboxes';
import { findRoutes } from '@/server/sending/routing';
import { silence } from '@/server/sending/silence';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { comesBack, notice } from './notices';
import { Peer } from './peers';
import { DAY, MailSink, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;
const peers: Peer[] = [];

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
});
afterEach(async () => {
  await Promise.all(peers.splice(0).map((peer) => peer.close()));
  await world.close();
});

/** A peer that takes the mail of a domain, at an address of its own and on the port of all mail servers here. */
async function peer(domain: string, manners: Peer['manners']): Promise<Peer> {
  const address = `127.0.${10 + peers.length}.1`;
  const made = await new Peer(address, manners).open(world.mail.port);
  peers.push(made);
  world.dns.at.set(`mx.${domain}`, [address]);
  return made;
}
const names = (n: number, domain = 'heronmail.example') => Array.from({ length: n }, (_, k) => `reader${k}@${domain}`);
const counts = async (id: string) => (await letterOf(world.ctx, newsletter, id)).counts;
const single = (to: string, more: { readerId?: string } = {}) =>
  post(world.ctx, world.ctx.db, {
    newsletterId: newsletter.id,
    kind: 'confirmation',
    to,
    subject: 'Please confirm',
    notice: { name: 'N', colour: '#17645c', heading: 'H', paragraphs: ['P'], footer: ['F'] },
    ...more,
  });
const mailOf = async (id: string) => world.ctx.db.selectFrom('mails').selectAll().where('id', '=', id).executeTakeFirstOrThrow();
const routeOf = async (name: string) =>
  world.ctx.db.selectFrom('routes').selectAll().where('name', '=', name).executeTakeFirstOrThrow();
/** Lets what is due leave while somebody else looks on, as a running worker does. */
async function running(work: () => Promise<void>): Promise<void> {
  await beat(world.ctx, world.worker);
  world.office.start();
  try {
    await work();
  } finally {
    await world.office.stop();
  }
}
const until = (what: () => Promise<unknown> | unknown, ms = 30_000) => expect.poll(what, { timeout: ms, interval: 20 });

describe('nothing from outside holds mail up', () => {
  it('a host that greets with a NUL byte, bidirectional marks and control characters', async () => {
    await peer('nul.example', { greeting: '554 a\u0000b\u202ec\u0007' });
    const bad = await single('somebody@nul.example');
    const good = await single('mara@heronmail.example');
    await world.work();
    expect((await mailOf(good)).state).toBe('delivered');
    const row = await mailOf(bad);
    expect(row.state).toBe('queued');
    expect(row.response).toMatch(/mx\.nul\.example said: 554 a b/);
    const { rows } = await sql<{ paused_for: string }>`select paused_for from routes where paused_until is not null`.execute(
      world.ctx.db,
    );
    expect(rows[0]?.paused_for).not.toMatch(/[\u0000-\u001f\u202e]/);
  });

  it('a reply of NUL bytes to a recipient is kept as plain text, and the others of its letter go', async () => {
    await peer('rude.example', {
      say: (command, line) => (command === 'RCPT' && line.includes('reader1@') ? '550 5.7.1 \u0000\u0000no\u0000' : undefined),
    });
    await world.readers(newsletter, names(5, 'rude.example'));
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 4, refused: 1 });
    expect((await letterOf(world.ctx, newsletter, id)).problems[0]?.response).toBe('550 5.7.1 no');
  });

  it('silent hosts: two confirmations and nine readers there, and everybody else’s confirmation leaves within a second', async () => {
    for (let n = 0; n < 9; n += 1) await peer(`silent${n}.example`, { greeting: null });
    await world.readers(newsletter, [...Array.from({ length: 9 }, (_, n) => `a@silent${n}.example`), ...names(200)]);
    await single('one@silent0.example');
    await single('two@silent0.example');
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await running(async () => {
      await until(() => peers.every((one) => one.lines > 0)).toBe(true);
      const confirmation = await single('mara@heronmail.example');
      await until(async () => (await mailOf(confirmation)).state).toBe('delivered');
      // The silent ones are silent still: nothing waited for them.
      expect(peers.every((one) => one.lines > 0 && one.taken.length === 0)).toBe(true);
      await until(async () => (await counts(id)).delivered).toBe(200);
      // The silent ones are let go of, so that the test ends.
      await Promise.all(peers.splice(0).map((one) => one.close()));
    });
  });

  it('name servers that say nothing: a confirmation to a domain that is new here leaves within a second all the same', async () => {
    const mute = Array.from({ length: 150 }, (_, n) => `mute${n}.example`);
    for (const domain of mute) world.dns.mute.add(domain);
    await world.readers(newsletter, [...mute.map((domain) => `a@${domain}`), ...names(20)]);
    for (const domain of mute.slice(0, 120)) await single(`b@${domain}`);
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await running(async () => {
      await until(async () => (await counts(id)).delivered).toBe(20);
      const confirmation = await single('mara@fresh.example');
      await until(async () => (await mailOf(confirmation)).state).toBe('delivered');
      // Nobody has answered for the mute ones: nothing waited for them.
      expect((await counts(id)).delivered).toBe(20);
      world.dns.speak();
      await until(async () => (await counts(id)).delivered).toBe(170);
    });
  });

  it('a domain of which nothing can be kept keeps nobody else’s mail', async () => {
    await sql`alter table routes add constraint odd check (name not like 'odd%')`.execute(world.ctx.db);
    world.dns.hosts.set('cursed.example', [{ host: 'mx.odd.example', rank: 10 }]);
    world.dns.hosts.set('nul.example', [
      { host: 'mx\u0000.nul.example', rank: 5 },
      { host: '../x', rank: 7 },
    ]);
    world.dns.hosts.set('half.example', [
      { host: '\u202emx.half.example', rank: 5 },
      { host: 'mx.half.example', rank: 10 },
    ]);
    const ids = await Promise.all(
      ['a@cursed.example', 'b@nul.example', 'c@half.example', 'd@fine.example'].map((to) => single(to)),
    );
    await world.work();
    expect(await Promise.all(ids.map(async (id) => (await mailOf(id)).state))).toEqual([
      'queued',
      'queued',
      'delivered',
      'delivered',
    ]);
    const { rows } = await sql<{ said: string }>`select said from mail_domains where name = 'cursed.example'`.execute(
      world.ctx.db,
    );
    expect(rows[0]?.said).toContain('on our side');
  });

  it('a mail that cannot be made is set aside with its reason after a few tries, and the rest goes on', async () => {
    const bad = await single('mara@heronmail.example');
    await sql`update mails set content = '{"kind":"notice","notice":{}}' where id = ${bad}`.execute(world.ctx.db);
    const good = await single('tomas@heronmail.example');
    for (let n = 0; n < 4; n += 1) {
      await world.work();
      world.clock.advance(MINUTE);
    }
    expect((await mailOf(good)).state).toBe('delivered');
    expect(await mailOf(bad)).toMatchObject({
      state: 'aside',
      response: expect.stringContaining('Something on our side failed'),
    });
  });

  it('mail hosts and name servers at private addresses are not met outside the demo', async () => {
    const outside = { ...world.ctx, config: { ...world.ctx.config, allowLoopback: false } };
    world.dns.at.set('mx.private.example', ['10.0.0.5', '169.254.1.1', '127.0.0.1']);
    await world.readers(newsletter, ['a@private.example']);
    const id = await world.letter(newsletter, senderId);
    await startLetter(outside, id);
    await findRoutes(outside);
    expect((await letterOf(world.ctx, newsletter, id)).problems[0]?.response).toMatch(/not on the public internet/);
  });
});

describe('what mail servers are like', () => {
  it('one that takes 2 connections is met on 2, and nobody is charged a try', async () => {
    const limited = await peer('narrow.example', { mostLines: 2 });
    await world.readers(newsletter, names(60, 'narrow.example'));
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 60, refused: 0, givenUp: 0 });
    expect(limited.taken).toHaveLength(60);
    expect(limited.mostOpen).toBe(2);
    const { rows } = await sql<{ most: number }>`select max(attempts) as most from deliveries`.execute(world.ctx.db);
    expect(rows[0]?.most).toBe(1);
    const before = limited.refused;
    await world.letter(newsletter, senderId, { subject: 'The next one' });
    await world.work();
    expect(limited.refused - before).toBeLessThanOrEqual(2);
    expect(limited.taken).toHaveLength(120);
  });

  it.each([false, true])(
    'one that says 421 after 50 mails of a connection (lingering: %s) gets the rest on the next, without a pause and a charge',
    async (lingers) => {
      const one = await peer('fifty.example', { mailsALine: 50, lingers });
      await world.readers(newsletter, names(300, 'fifty.example'));
      const id = await world.letter(newsletter, senderId);
      await world.work();
      expect(await counts(id)).toMatchObject({ delivered: 300 });
      expect(new Set(one.taken.map((mail) => mail.to)).size).toBe(300);
      expect(one.taken).toHaveLength(300);
      const route = await world.ctx.db.selectFrom('routes').selectAll().executeTakeFirstOrThrow();
      expect(route).toMatchObject({ paused_until: null, failing_since: null });
      const { rows } = await sql<{ most: number }>`select max(attempts) as most from deliveries`.execute(world.ctx.db);
      expect(rows[0]?.most).toBe(1);
    },
  );

  it('a definite answer is kept when the line closes right after it, with and without pipelining', async () => {
    for (const [n, hello] of ['250-mx\r\n250 PIPELINING', '250 mx'].entries()) {
      let said = false;
      await peer(`curt${n}.example`, {
        hello,
        say: (command) => {
          if (command === 'RCPT' && !said) {
            said = true;
            return '550 5.1.1 No such mailbox\r\n421 4.7.0 Bye';
          }
          return said && command !== 'MAIL' && command !== 'EHLO' ? null : undefined;
        },
      });
      await world.readers(newsletter, [`gone@curt${n}.example`]);
    }
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ bounced: 2 });
  });

  it('STARTTLS that fails leads to the same host in the clear, and that is remembered', async () => {
    const one = await peer('plain.example', {
      hello: '250-mx\r\n250 STARTTLS',
      say: (command) => (command === 'STARTTLS' ? '454 4.7.0 TLS not available' : undefined),
    });
    await world.readers(newsletter, names(3, 'plain.example'));
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 3 });
    const opened = one.opened;
    await world.letter(newsletter, senderId, { subject: 'The next one' });
    await world.work();
    expect(one.taken).toHaveLength(6);
    // In the clear at once: no further connection is lost on trying.
    expect(one.opened - opened).toBeLessThanOrEqual(5);
  });

  it('a mail host whose address is not answered for only waits; hosts of one rank are taken at random', async () => {
    world.dns.at.set('mx.quiet.example', 'unanswered');
    await world.readers(newsletter, ['a@quiet.example']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ bounced: 0, delivered: 0, givenUp: 0 });
    world.dns.at.delete('mx.quiet.example');
    world.clock.advance(5 * MINUTE);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 1 });
    const two = [await peer('x1.example', {}), await peer('x2.example', {})];
    world.dns.hosts.set('pair.example', [
      { host: 'mx.x1.example', rank: 5 },
      { host: 'mx.x2.example', rank: 5 },
    ]);
    for (let n = 0; n < 24; n += 1) {
      await single(`a${n}@pair.example`);
      await world.work();
    }
    expect(Math.min(...two.map((one) => one.taken.length))).toBeGreaterThan(0);
  });

  it('a size that is too much is said before anything is sent', async () => {
    const small = await peer('small.example', { hello: '250-mx\r\n250 SIZE 2000' });
    await world.readers(newsletter, ['a@small.example']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ refused: 1 });
    expect(small.taken).toHaveLength(0);
    expect((await letterOf(world.ctx, newsletter, id)).problems[0]?.response).toMatch(/takes at most 2000 bytes/);
  });

  it('one that hangs up after the dot is asked again later, at growing distances, under the same Message-ID', async () => {
    const ids: string[] = [];
    const deaf = await peer('deaf.example', { end: () => null });
    deaf.manners.say = (command) => {
      if (command === 'DATA') ids.push('x');
      return undefined;
    };
    await world.readers(newsletter, ['a@deaf.example']);
    const id = await world.letter(newsletter, senderId);
    for (let n = 0; n < 12; n += 1) {
      await world.work();
      world.clock.advance(10 * MINUTE);
    }
    expect(ids.length).toBeLessThanOrEqual(8);
    expect(await counts(id)).toMatchObject({ delivered: 0 });
    expect((await world.ctx.db.selectFrom('readers').select('soft_evidence').executeTakeFirst())?.soft_evidence).toBe(0);
  });

  it('one that minds the pace gets less at a time, and nobody is charged', async () => {
    let asked = 0;
    const slow = await peer('pace.example', {
      say: (command) => {
        if (command !== 'RCPT') return undefined;
        asked += 1;
        return asked > 25 && asked < 31 ? '450 4.7.0 Too fast, slow down' : undefined;
      },
    });
    await world.readers(newsletter, names(40, 'pace.example'));
    const id = await world.letter(newsletter, senderId);
    await world.work();
    const { rows } = await sql<{ lanes: number; per_minute: number }>`select lanes, per_minute from routes`.execute(world.ctx.db);
    expect(rows[0]!.per_minute).toBeGreaterThan(0);
    await sql`update routes set per_minute = 60000`.execute(world.ctx.db);
    for (let n = 0; n < 3; n += 1) {
      world.clock.advance(2 * MINUTE);
      await world.work();
    }
    expect(await counts(id)).toMatchObject({ delivered: 40 });
    expect(slow.taken).toHaveLength(40);
    const { rows: tried } = await sql<{ most: number }>`select max(attempts) as most from deliveries`.execute(world.ctx.db);
    expect(tried[0]?.most).toBe(1);
  });
});

describe('single mails', () => {
  it('that bounce say so on their reader, at once and by a notice that comes back', async () => {
    const [one, two] = await world.readers(newsletter, ['gone@heronmail.example', 'later@heronmail.example']);
    world.mail.answers.set('gone@heronmail.example', [550, '5.1.1 No such mailbox']);
    await single('gone@heronmail.example', { readerId: one! });
    await single('later@heronmail.example', { readerId: two! });
    await world.work();
    const { from, to } = world.mail.to('later@heronmail.example')[0]!;
    expect(await comesBack(world.ctx, from, notice('other@heronmail.example'))).toBe('nothing');
    expect(await comesBack(world.ctx, from, notice(to))).toBe('bounce');
    const states = await world.ctx.db.selectFrom('readers').select('address_state').execute();
    expect(states.map((row) => row.address_state)).toEqual(['suppressed', 'suppressed']);
  });

  it('that somebody waits for go before those that nobody does, however many there are', async () => {
    // The installation's own key is made with its first mail, which takes a while.
    await single('first@heronmail.example');
    await world.work();
    await Promise.all(names(400).map((to) => single(to)));
    await sql`update mails set waited_for = false`.execute(world.ctx.db);
    world.clock.advance(MINUTE);
    await single('mara@heronmail.example');
    await world.work();
    const place = world.mail.taken.findIndex((mail) => mail.to === 'mara@heronmail.example');
    expect(world.mail.taken).toHaveLength(402);
    expect(place).toBeLessThan(80);
  });

  it('go before letters on the same route', async () => {
    const order: string[] = [];
    // The installation's own key is made with its first mail, which takes a while.
    await single('first@heronmail.example');
    await world.work();
    let open = () => {};
    const opened = new Promise<void>((resolve) => {
      open = resolve;
    });
    // From the twentieth letter on the host answers none, until a lane has the confirmation before it.
    world.mail.onTaken = async ({ to }) => {
      order.push(to);
      if (order.length > 20 && to !== 'somebody@heronmail.example') await opened;
    };
    await world.readers(newsletter, names(400));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await running(async () => {
      await until(() => order.length).toBeGreaterThan(20);
      const at = order.length;
      const confirmation = await single('somebody@heronmail.example');
      await until(async () => (await mailOf(confirmation)).state).not.toBe('queued');
      open();
      await until(async () => (await mailOf(confirmation)).state).toBe('delivered');
      // Each of at most twenty lanes has one letter in hand, and may take a few more while the confirmation's own lane is slow; the other hundreds wait.
      expect(order.indexOf('somebody@heronmail.example') - at).toBeLessThan(100);
      await until(async () => (await counts(id)).delivered).toBe(400);
    });
  });
});

describe('looking again', () => {
  it('a reader who left, complained or was erased while a letter waited does not get it', async () => {
    const [left, complained, erased] = await world.readers(newsletter, names(5));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await sql`update deliveries set due_at = ${new Date(world.clock.now().getTime() + 4 * DAY)}`.execute(world.ctx.db);
    await sql`update route_jobs set next_due = ${new Date(world.clock.now().getTime() + 4 * DAY)}`.execute(world.ctx.db);
    const { leaveToken } = await import('@/core/sending/token');
    await leave(world.ctx, leaveToken({ readerId: left!, delivery: null }, 'leave', world.ctx.config.keys), {
      network: '',
      agent: '',
    });
    for (const [readerId, reason] of [
      [complained!, 'complaint'],
      [erased!, 'erased'],
    ] as const)
      await world.ctx.db
        .transaction()
        .execute((trx) => silence(world.ctx, trx, { readerId, newsletterId: newsletter.id, reason, detail: '' }));
    expect(await counts(id)).toMatchObject({ recipients: 5, cancelled: 3 });
    world.clock.advance(4 * DAY + MINUTE);
    await world.work();
    expect(world.mail.taken.map((mail) => mail.to).sort()).toEqual(['reader3@heronmail.example', 'reader4@heronmail.example']);
    expect((await letterOf(world.ctx, newsletter, id)).state).toBe('sent');
  });

  it('a claim looks once more, whatever the queue says', async () => {
    await world.readers(newsletter, names(2));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    // Somebody's standing changed behind everybody's back.
    await sql`update readers set address_state = 'bouncing' where address = 'reader0@heronmail.example'`.execute(world.ctx.db);
    await world.work();
    expect(world.mail.taken.map((mail) => mail.to)).toEqual(['reader1@heronmail.example']);
    expect(await counts(id)).toMatchObject({ cancelled: 1, delivered: 1 });
  });

  it('leaving one of two lists of a letter cancels nothing; leaving both does', async () => {
    const [reader] = await world.readers(newsletter, ['mara@heronmail.example']);
    const other = newId();
    const at = world.clock.now();
    await world.ctx.db
      .insertInto('lists')
      .values({ id: other, newsletter_id: newsletter.id, name: 'B', public_name: 'B', created_at: at })
      .execute();
    await world.ctx.db
      .insertInto('memberships')
      .values({ reader_id: reader!, list_id: other, newsletter_id: newsletter.id, state: 'reading', since: at, joined_at: at })
      .execute();
    const first = await world.list(newsletter);
    const both: Audience = {
      to: [
        { kind: 'list', id: first },
        { kind: 'list', id: other },
      ],
      without: [],
    };
    const alone = await world.letter(newsletter, senderId, { subject: 'To one' });
    const together = await world.letter(newsletter, senderId, { subject: 'To both', audience: both });
    await startLetter(world.ctx, alone);
    await startLetter(world.ctx, together);
    const { rows } = await sql<{
      id: string;
      sent_on: string;
    }>`select id, sent_on from deliveries where letter_id = ${alone}`.execute(world.ctx.db);
    const { leaveToken } = await import('@/core/sending/token');
    const token = leaveToken(
      { readerId: reader!, delivery: { id: BigInt(rows[0]!.id), sentOn: rows[0]!.sent_on } },
      'leave',
      world.ctx.config.keys,
    );
    const left = await leave(world.ctx, token, { network: '', agent: '' });
    expect(left).toMatchObject({ goesOn: ['B'], state: 'left' });
    expect((await counts(alone)).cancelled).toBe(1);
    expect((await counts(together)).cancelled).toBe(0);
    // The link goes on to work: what is left now is the rest.
    await leave(world.ctx, token, { network: '', agent: '' });
    expect((await counts(together)).cancelled).toBe(1);
  });

  it('pause, go on and stop hold at once, count, and say who did it', async () => {
    await world.readers(newsletter, names(300));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await running(async () => {
      await until(async () => (await counts(id)).delivered).toBeGreaterThan(20);
      await pauseLetter(world.ctx, newsletter, id, 'Ottoline Vance');
      const paused = await letterOf(world.ctx, newsletter, id);
      expect(paused).toMatchObject({ state: 'paused', cause: 'Paused by Ottoline Vance' });
      await until(async () =>
        Number(
          (await sql<{ n: string }>`select count(*) as n from deliveries where state = 'claimed'`.execute(world.ctx.db)).rows[0]!
            .n,
        ),
      ).toBe(0);
      const at = (await counts(id)).delivered;
      expect(at).toBeLessThan(300);
      await expect(pauseLetter(world.ctx, newsletter, id, 'x')).rejects.toMatchObject({ code: 'conflict' });
      await resumeLetter(world.ctx, newsletter, id, 'Ottoline Vance');
      await until(async () => (await counts(id)).delivered).toBeGreaterThan(at);
      await stopLetter(world.ctx, newsletter, id, 'Ottoline Vance');
    });
    const stopped = await letterOf(world.ctx, newsletter, id);
    expect(stopped.state).toBe('stopped');
    expect(stopped.counts.delivered + stopped.counts.cancelled).toBe(300);
    const { length } = world.mail.taken;
    await world.work();
    expect(world.mail.taken).toHaveLength(length);
    expect(new Set(world.mail.taken.map((mail) => mail.to)).size).toBe(length);
  });
});

describe('workers side by side', () => {
  it('two on one letter send nothing twice, and six letters mixed with opens and clicks never block each other', async () => {
    await world.readers(newsletter, names(150));
    const letters: string[] = [];
    for (let n = 0; n < 6; n += 1) {
      const id = await world.letter(newsletter, senderId, { subject: `Letter ${n}` });
      await startLetter(world.ctx, id);
      letters.push(id);
    }
    await findRoutes(world.ctx);
    const offices = [newId(), newId(), newId()].map((id) => ({ id, office: postOffice(world.ctx, id) }));
    for (const { id } of offices) await beat(world.ctx, id);
    let marked = 0;
    const marking = async () => {
      while (marked >= 0) {
        const { rows } = await sql<{
          id: string;
          sent_on: string;
        }>`select id, sent_on from deliveries where state = 'delivered' order by random() limit 60`.execute(world.ctx.db);
        const kinds = ['open', 'click'] as const;
        await writeMarks(
          world.ctx,
          rows.map((row, n) => ({
            ref: { id: BigInt(row.id), sentOn: row.sent_on },
            kind: kinds[n % 2]!,
            at: world.clock.now(),
            agent: 'A browser',
            method: 'GET',
            link: 0,
          })),
        );
        if (marked >= 0) marked += rows.length;
        await new Promise((resolve) => setTimeout(resolve, 1));
      }
    };
    const marks = [marking(), marking()];
    await Promise.all(offices.map(({ office }) => office.settle()));
    marked = -1;
    await Promise.all(marks);
    for (const { office } of offices) await office.stop();
    expect(world.mail.taken).toHaveLength(900);
    expect(new Set(world.mail.taken.map((mail) => `${mail.to} ${/^Message-ID: (.*)/m.exec(mail.source)?.[1]}`)).size).toBe(900);
    for (const id of letters) expect(await counts(id)).toMatchObject({ recipients: 150, delivered: 150 });
    const { rows } = await sql<{ state: string }>`select distinct state from deliveries`.execute(world.ctx.db);
    expect(rows).toEqual([{ state: 'delivered' }]);
  });

  it('groups of results that lock the same rows in other orders are all written', async () => {
    const copies = new Copies(world.ctx, world.worker, new Taken());
    await beat(world.ctx, world.worker);
    await world.readers(newsletter, names(40));
    const letters = [];
    for (let n = 0; n < 6; n += 1) {
      letters.push(await world.letter(newsletter, senderId, { subject: `Letter ${n}` }));
      await startLetter(world.ctx, letters.at(-1)!);
    }
    await findRoutes(world.ctx);
    const { id: routeId } = await routeOf('heronmail.example');
    const all = await copies.claim([{ routeId, room: 240 }]);
    expect(all).toHaveLength(240);
    const shuffled = [...all].sort((a, b) => (a.row.reader_id < b.row.reader_id ? -1 : 1));
    const groups = Array.from({ length: 24 }, (_, n) => shuffled.slice(n * 10, n * 10 + 10).sort(() => (n % 2 ? 1 : -1)));
    await Promise.all(
      groups.map((group) => copies.record(group.map((parcel) => ({ parcel, ending: { kind: 'delivered', response: '250' } })))),
    );
    for (const id of letters) expect(await counts(id)).toMatchObject({ delivered: 40 });
  });

  it('a letter to 300 never makes another newsletter’s letter to 20 wait', async () => {
    const other = await world.newsletter('Another');
    const sender = await world.sender(other, 'another.example');
    await world.readers(newsletter, names(300));
    await world.readers(other, names(20));
    const big = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, big);
    await findRoutes(world.ctx);
    const order: string[] = [];
    world.mail.onTaken = async ({ from }) => void order.push(from.slice(from.indexOf('@')));
    await running(async () => {
      await until(() => order.length).toBeGreaterThan(40);
      const small = await world.letter(other, sender.senderId);
      await startLetter(world.ctx, small);
      await until(() => order.length).toBe(320);
    });
    const begins = order.indexOf('@bounce.another.example');
    const ends = order.lastIndexOf('@bounce.another.example');
    expect(ends - begins).toBeLessThan(150);
    expect(order).toHaveLength(320);
  });

  it('nothing stays claimed by a living worker that does not work on it', async () => {
    await world.readers(newsletter, names(3));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await findRoutes(world.ctx);
    await sql`update deliveries set state = 'claimed', claimed_by = ${world.worker}`.execute(world.ctx.db);
    await sql`delete from route_jobs`.execute(world.ctx.db);
    const copies = new Copies(world.ctx, world.worker, new Taken());
    expect(await copies.reclaim([])).toBe(3);
    await world.work();
    expect(world.mail.taken).toHaveLength(3);
  });
});

describe('a mail at which every connection breaks', () => {
  it('lets the others of its host go, again and again the first in the queue as it is', async () => {
    const one = await peer('brittle.example', {
      say: (command, line) => (command === 'RCPT' && /reader[0-7]@/.test(line) ? null : undefined),
    });
    await world.readers(newsletter, names(400, 'brittle.example'));
    const id = await world.letter(newsletter, senderId);
    await world.work();
    for (let minute = 0; minute < 8; minute += 1) {
      world.clock.advance(MINUTE);
      await world.work();
    }
    expect(one.taken).toHaveLength(400 - 8);
    expect(await counts(id)).toMatchObject({ delivered: 392, refused: 0, bounced: 0, givenUp: 0 });
    const { rows } = await sql`select 1 from readers where address_state <> 'fine'`.execute(world.ctx.db);
    expect(rows).toEqual([]);
  });
});

describe('somebody leaves while a worker has their letter in hand', () => {
  it('and both want what the other holds: leaving is tried again and holds', async () => {
    await world.readers(newsletter, names(1));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    const reader = await world.ctx.db.selectFrom('readers').select('id').executeTakeFirstOrThrow();
    const token = leaveToken({ readerId: reader.id, delivery: null }, 'leave', world.ctx.config.keys);
    const left = await world.ctx.db.transaction().execute(async (trx) => {
      await sql`select 1 from deliveries where reader_id = ${reader.id} for update`.execute(trx);
      const leaving = leave(world.ctx, token, { network: 'n', agent: 'a' });
      await until(
        async () =>
          (
            await sql`select 1 from pg_locks l join pg_stat_activity a using (pid) where not l.granted and a.datname = current_database()`.execute(
              world.ctx.db,
            )
          ).rows.length,
      ).toBeGreaterThan(0);
      // The one that waits first is the one that is broken off.
      await sql`update readers set last_sent_at = now() where id = ${reader.id}`.execute(trx);
      return { leaving };
    });
    expect(await left.leaving).toMatchObject({ state: 'left' });
    expect(await counts(id)).toMatchObject({ cancelled: 1 });
  });
});

describe('sweeping', () => {
  it('never happens while something is being claimed', async () => {
    await world.readers(newsletter, names(20));
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await findRoutes(world.ctx);
    await beat(world.ctx, world.worker);
    const copies = new Copies(world.ctx, world.worker, new Taken());
    let claiming = false;
    const swept: boolean[] = [];
    const { claim, reclaim } = copies;
    copies.claim = async (wants) => {
      claiming = true;
      office.sweep();
      const got = await claim.call(copies, wants);
      await sql`select 1`.execute(world.ctx.db);
      claiming = false;
      return got;
    };
    copies.reclaim = async (inHand) => {
      swept.push(claiming);
      return reclaim.call(copies, inHand);
    };
    const office = new PostOffice(
      world.ctx,
      world.worker,
      new Singles(world.ctx, world.worker, async () => {}),
      copies,
      async () => {},
    );
    await office.settle();
    expect(swept).toContain(false);
    expect(swept).not.toContain(true);
    expect(world.mail.taken).toHaveLength(20);
  });
});

describe('what Today says of a provider', () => {
  it('counts only what came to an end: a letter that waits is no refusal', async () => {
    await world.readers(newsletter, names(3));
    world.mail.answers.set('reader0@heronmail.example', [451, '4.3.0 Later']);
    await world.letter(newsletter, senderId);
    await world.work();
    const { standing } = await today(world.ctx, newsletter);
    expect(standing).toEqual([{ provider: 'heronmail.example', settled: 2, delivered: 2, refused: 0 }]);
  });
});

describe('clocks that jump', () => {
  it('a week ahead gives nothing up that was hardly tried; a day back makes nothing wait for a day', async () => {
    await world.readers(newsletter, names(2));
    world.mail.answers.set('reader0@heronmail.example', [451, '4.3.0 Later']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 1 });
    world.clock.advance(7 * DAY);
    await world.work();
    expect(await counts(id)).toMatchObject({ givenUp: 0 });
    world.clock.advance(-DAY);
    world.mail.answers.clear();
    await mendWaits(world.ctx);
    world.clock.advance(MINUTE);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 2 });
  });
});

describe('the months', () => {
  it.each(['2027-01-30T23:30:00Z', '2027-01-31T12:00:00Z', '2027-03-31T00:30:00Z'])(
    'around %s stand from a cold start on',
    async (at) => {
      world.clock.advance(new Date(at).getTime() - world.clock.now().getTime());
      await housekeeping(world.ctx);
      const now = new Date(at);
      for (const month of [-1, 0, 1]) {
        const first = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + month, 15)).toISOString().slice(0, 10);
        const { rows } = await sql<{
          n: number;
        }>`select count(*)::int as n from pg_class where relname in (${`deliveries_${first.slice(0, 7).replace('-', '_')}`}, ${`events_${first.slice(0, 7).replace('-', '_')}`})`.execute(
          world.ctx.db,
        );
        expect(rows[0]?.n, first).toBe(2);
      }
    },
  );
});

describe('counts', () => {
  it('of people stay what the rows say, whatever happens in whatever order', async () => {
    const ids = await world.readers(newsletter, names(12));
    const list = await world.list(newsletter);
    const pick = <T>(of: T[], n: number) => of[n % of.length]!;
    for (let n = 0; n < 120; n += 1) {
      const reader = pick(ids, n * 7);
      const roll = (n * 31) % 6;
      if (roll === 0)
        await sql`update memberships set state = ${pick(['waiting', 'reading', 'left'], n)} where reader_id = ${reader}`.execute(
          world.ctx.db,
        );
      else if (roll === 1)
        await sql`update readers set address_state = ${pick(['fine', 'bouncing', 'suppressed', 'unreachable'], n)} where id = ${reader}`.execute(
          world.ctx.db,
        );
      else if (roll === 2)
        await sql`insert into reader_tags values (${reader}, ${newsletter.id}, ${pick(['a', 'b'], n)}, now()) on conflict do nothing`.execute(
          world.ctx.db,
        );
      else if (roll === 3) await sql`delete from reader_tags where reader_id = ${reader}`.execute(world.ctx.db);
      else if (roll === 4) await sql`delete from memberships where reader_id = ${reader}`.execute(world.ctx.db);
      else
        await sql`insert into memberships values (${reader}, ${list}, ${newsletter.id}, ${pick(['waiting', 'reading'], n)}, now(), null) on conflict (reader_id, list_id) do update set state = excluded.state`.execute(
          world.ctx.db,
        );
      if (n % 10 === 0) await foldCounts(world.ctx);
      if (n % 20 === 0) expect(await recount(world.ctx, newsletter)).toBe(0);
    }
    expect(await recount(world.ctx, newsletter)).toBe(0);
    const totals = await totalsOf(world.ctx, newsletter);
    const { rows } = await sql<{
      reading: string;
    }>`select count(*) filter (where standing = 'reading') as reading from readers where newsletter_id = ${newsletter.id}`.execute(
      world.ctx.db,
    );
    expect(totals.reading).toBe(Number(rows[0]!.reading));
    // A total that went wrong is found and mended at night.
    await sql`insert into people_changes (newsletter_id, kind, key, reading) values (${newsletter.id}, 'all', 'all', 5)`.execute(
      world.ctx.db,
    );
    expect(await recount(world.ctx, newsletter)).toBe(1);
    expect(await totalsOf(world.ctx, newsletter)).toEqual(totals);
  });

  it('of letters stay what their copies say, and one that went wrong is mended at night', async () => {
    world.mail.answers.set('reader1@heronmail.example', [550, '5.1.1 Unknown']);
    await world.readers(newsletter, [...names(30), ...names(3, 'd1.small.example'), ...names(2, 'd2.small.example')]);
    const ids = [await world.letter(newsletter, senderId), await world.letter(newsletter, senderId, { subject: 'Two' })];
    await world.work();
    const { rows: copies } = await sql<{
      id: string;
      sent_on: string;
    }>`select id, sent_on from deliveries where state = 'delivered' order by id limit 9`.execute(world.ctx.db);
    await writeMarks(
      world.ctx,
      copies.map(({ id, sent_on }, n) => ({
        ref: { id: BigInt(id), sentOn: sent_on },
        kind: n % 2 ? ('open' as const) : ('click' as const),
        link: n % 2 ? null : 0,
        method: 'GET',
        agent: 'Mozilla/5.0',
        at: new Date(world.clock.now().getTime() + n * MINUTE),
      })),
    );
    expect(await recount(world.ctx, newsletter)).toBe(0);
    await foldCounts(world.ctx);
    expect(await recount(world.ctx, newsletter)).toBe(0);
    const before = await Promise.all(ids.map(counts));
    await sql`insert into letter_changes (newsletter_id, letter_id, domain_id, delivered, clicked) values (${newsletter.id}, ${ids[0]!}, 0, -3, 7)`.execute(
      world.ctx.db,
    );
    expect(await recount(world.ctx, newsletter)).toBe(1);
    expect(await Promise.all(ids.map(counts))).toEqual(before);
  });

  it('of sources over any number of days are the sums of their days, months or not', async () => {
    const day = (n: number) => new Date(world.clock.now().getTime() - n * DAY).toISOString().slice(0, 10);
    for (let n = 0; n < 400; n += 9)
      await sql`insert into source_changes (newsletter_id, dimension, name, day, asked, confirmed, reading)
        values (${newsletter.id}, 'page', ${`/p${n % 4}`}, ${day(n)}::date, ${n + 1}, ${n % 5}, 1)`.execute(world.ctx.db);
    const expected = (days: number) => {
      let asked = 0;
      for (let n = 0; n < 400; n += 9) if (n < days) asked += n + 1;
      return asked;
    };
    const asked = async (days: number) =>
      (await sourcesOf(world.ctx, newsletter, days)).by.page.reduce((sum, one) => sum + one.asked, 0);
    for (const fold of [false, true]) {
      if (fold) await foldCounts(world.ctx);
      for (const days of [1, 9, 24, 25, 28, 54, 55, 56, 90, 365, 400]) expect(await asked(days), `${days}`).toBe(expected(days));
    }
  });
});

describe('an outage of ours', () => {
  it('with the sink away and back charges nobody, and every letter goes once', async () => {
    await world.readers(newsletter, names(50));
    const { port } = world.mail;
    const id = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, id);
    await world.mail.close();
    await world.work();
    const sink = await new MailSink().open(port);
    world.clock.advance(2 * MINUTE);
    await world.work();
    expect(sink.taken).toHaveLength(50);
    await sink.close();
  });
});

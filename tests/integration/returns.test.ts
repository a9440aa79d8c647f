import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { feedbackOf } from '@/core/delivery/came-back';
import { inTransaction } from '@/server/db/connection';
import { takeFeedback } from '@/server/delivery/feedback';
import { writeMarks } from '@/server/delivery/marks';
import { isReturnAddress } from '@/server/delivery/returned';
import { takeApart } from '@/server/delivery/take-apart';
import { foldCounts, recount } from '@/server/jobs/tick';
import { eraseReaders } from '@/server/keeping/erase';
import { post } from '@/server/mail/post';
import { letterOf } from '@/server/sending/views';
import { awayNote, goneNotice, junkReport, lateNotice, personAnswers } from '../../backlot/mailboxes/notices';
import { answer, comesBack, complaint, mail, notice } from './notices';
import { MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
});
afterEach(() => world.close());

const counts = async (id: string) => (await letterOf(world.ctx, newsletter, id)).counts;
const copies = async () =>
  Object.fromEntries(
    (await world.ctx.db.selectFrom('deliveries').select(['address', 'state', 'reason']).execute()).map((row) => [
      row.address.split('@')[0],
      [row.state, row.reason],
    ]),
  );
const stateOf = async (address: string) =>
  (await world.ctx.db.selectFrom('readers').select('address_state').where('address', '=', address).executeTakeFirst())
    ?.address_state;
const reasons = async () =>
  Object.fromEntries(
    (
      await world.ctx.db
        .selectFrom('reason_days')
        .select(['reason', sql<number>`sum(put_off)::int`.as('off'), sql<number>`sum(ended)::int`.as('ended')])
        .groupBy('reason')
        .execute()
    ).map((row) => [row.reason, [row.off, row.ended]]),
  );
const kept = () =>
  world.ctx.db.selectFrom('feedback').select(['kind', 'type', 'known_by', 'reader_id', 'letter_id']).orderBy('id').execute();
/** A letter that everybody took, with what left. */
async function sent(addresses: string[]) {
  const ids = await world.readers(newsletter, addresses);
  const letter = await world.letter(newsletter, senderId);
  await world.work();
  return { ids, letter, of: (address: string) => world.mail.to(address).at(-1)! };
}
const at = (name: string) => `${name}@heronmail.example`;

describe('what comes in no order', () => {
  const refOf = async (name: string) => {
    const copy = await world.ctx.db
      .selectFrom('deliveries')
      .select(['id', 'sent_on'])
      .where('address', '=', at(name))
      .executeTakeFirstOrThrow();
    return { sentOn: copy.sent_on, id: BigInt(copy.id) as never };
  };
  const opens = async (name: string, kind: 'open' | 'click' = 'open', after = 3_600_000) =>
    writeMarks(world.ctx, [
      {
        ref: await refOf(name),
        kind,
        at: new Date(world.clock.now().getTime() + after),
        agent: 'Mozilla/5.0 (X11; Linux x86_64) A browser',
        method: 'GET',
        link: kind === 'click' ? 1 : null,
      },
    ]);

  it('adds up, whichever of a notice, an opening, a click and a complaint is told first, and twice', async () => {
    const acts = {
      opens: (name: string) => opens(name),
      clicks: (name: string) => opens(name, 'click'),
      bounces: (name: string) => comesBack(world.ctx, world.mail.to(at(name)).at(-1)!.from, notice(at(name))),
      complains: (name: string) =>
        comesBack(world.ctx, world.mail.to(at(name)).at(-1)!.from, complaint(world.mail.to(at(name)).at(-1)!.source)),
    };
    type Act = keyof typeof acts;
    const orders = (left: Act[]): Act[][] =>
      left.length ? left.flatMap((one) => orders(left.filter((other) => other !== one)).map((rest) => [one, ...rest])) : [[]];
    const all = orders(Object.keys(acts) as Act[]);
    const { letter } = await sent(all.map((_, n) => at(`r${n}`)));
    for (const [n, order] of all.entries()) for (const act of [...order, ...order]) await acts[act](`r${n}`);
    // What bounced is delivered no more, and was read all the same.
    expect(await counts(letter)).toMatchObject({ bounced: 24, delivered: 0, people: 24, clicked: 24, complained: 24 });
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('is believed of a copy whose own server’s answer is not written yet', async () => {
    const { letter, of } = await sent([at('quick'), at('gone'), at('fine')]);
    // As it is between the answer and its being written: the copies are claimed.
    await sql`update deliveries set state = 'claimed', delivered_at = null where address <> ${at('fine')}`.execute(world.ctx.db);
    await sql`insert into letter_changes (newsletter_id, letter_id, domain_id, delivered) select newsletter_id, letter_id, domain_id, -2 from deliveries where address = ${at('fine')}`.execute(
      world.ctx.db,
    );
    await opens('quick');
    expect(await counts(letter)).toMatchObject({ people: 1, delivered: 1 });
    await comesBack(world.ctx, of(at('gone')).from, notice(at('gone')));
    expect(await stateOf(at('gone'))).toBe('suppressed');
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('lies on our own days, whatever a provider’s clock says', async () => {
    const { of } = await sent(['past', 'soon', 'junk'].map(at));
    const dated = (raw: string, date: string) =>
      raw
        .replace('Subject:', `Date: ${date}\r\nSubject:`)
        .replace('Status:', `Arrival-Date: ${date}\r\nLast-Attempt-Date: ${date}\r\nStatus:`);
    await comesBack(world.ctx, of(at('past')).from, dated(notice(at('past')), 'Thu, 01 Jan 1970 00:00:00 +0000'));
    await comesBack(world.ctx, of(at('soon')).from, dated(notice(at('soon')), 'Fri, 31 Dec 2099 23:59:59 +1400'));
    await comesBack(
      world.ctx,
      of(at('junk')).from,
      complaint(of(at('junk')).source, {
        fields: ['Arrival-Date: Fri, 31 Dec 2099 23:59:59 +1400', 'Received-Date: no date at all'],
      }),
    );
    expect(await copies()).toMatchObject({ past: ['bounced', 'dead'], soon: ['bounced', 'dead'] });
    const { rows } = await sql<{ at: Date }>`
      select at from events where kind in ('bounce', 'complaint') union all select at from feedback union all select day::timestamptz from reason_days`.execute(
      world.ctx.db,
    );
    for (const { at: when } of rows) expect(Math.abs(when.getTime() - world.clock.now().getTime())).toBeLessThan(86_400_000);
  });
});

describe('why copies did not arrive', () => {
  it('is kept with each, from the dialogue and from notices in their dialects, and counted by day', async () => {
    const said: Record<string, [number, string]> = {
      dead: [550, '5.1.1 No such mailbox'],
      full: [452, '4.2.2 The mailbox is full'],
      junk: [554, '5.7.1 Message rejected as spam by content scanner'],
      listed: [554, '5.7.1 Client host blocked using bl.lists.example'],
      unsigned: [550, '5.7.26 This mail is unauthenticated'],
      rules: [550, '5.7.1 Not wanted here'],
      grey: [450, '4.2.0 Greylisted, please try again in 300 seconds'],
    };
    for (const [name, reply] of Object.entries(said)) world.mail.answers.set(at(name), reply);
    const later = ['proper', 'mixed', 'words', 'bare', 'loop', 'delayed', 'fine'];
    const { letter, of } = await sent([...Object.keys(said), ...later].map(at));
    const back = (name: string, raw: string) => comesBack(world.ctx, of(at(name)).from, raw);
    const status = (name: string, more: string) => `Final-Recipient: rfc822; ${at(name)}\r\nAction: failed\r\n${more}`;
    expect(await back('proper', notice(at('proper'), { original: of(at('proper')).source }))).toBe('bounce');
    // Its machine part under a wrong type.
    expect(
      await back(
        'mixed',
        notice(at('mixed'), { status: '5.0.0', said: '552 Mailbox quota exceeded' })
          .replace('multipart/report; report-type=delivery-status', 'multipart/mixed')
          .replace('message/delivery-status', 'application/octet-stream'),
      ),
    ).toBe('bounce');
    expect(
      await back(
        'words',
        mail(
          ['From: <postmaster@heronmail.example>', 'Subject: Undeliverable: hello'],
          `Hello.\n\n<${at('words')}>:\n550 5.1.1 User unknown\n\n--- Below this line is a copy of the message.\n`,
        ),
      ),
    ).toBe('bounce');
    expect(
      await back('bare', mail(['From: <mailer-daemon@heronmail.example>', 'Subject: failed'], status('bare', 'Status: 5.1.1'))),
    ).toBe('bounce');
    expect(await back('loop', notice(at('loop'), { status: '5.4.6', said: '554 5.4.6 Too many hops' }))).toBe('bounce');
    expect(await back('delayed', notice(at('delayed'), { action: 'delayed', status: '4.4.1' }))).toBe('delay');
    expect(await copies()).toEqual({
      dead: ['bounced', 'dead'],
      full: ['queued', 'full'],
      junk: ['refused', 'content'],
      listed: ['refused', 'reputation'],
      unsigned: ['refused', 'authentication'],
      rules: ['refused', 'policy'],
      grey: ['queued', 'greylist'],
      proper: ['bounced', 'dead'],
      mixed: ['refused', 'full'],
      words: ['bounced', 'dead'],
      bare: ['bounced', 'dead'],
      loop: ['refused', 'loop'],
      delayed: ['delivered', null],
      fine: ['delivered', null],
    });
    const whole = {
      dead: [0, 4],
      full: [1, 1],
      content: [0, 1],
      reputation: [0, 1],
      authentication: [0, 1],
      policy: [0, 1],
      greylist: [1, 0],
      loop: [0, 1],
    };
    expect(await reasons()).toEqual(whole);
    await foldCounts(world.ctx);
    expect(await reasons()).toEqual(whole);
    expect(await counts(letter)).toMatchObject({ bounced: 4, refused: 6, delivered: 2 });
    // Blocks are never against the reader, nor one full mailbox, nor a loop.
    for (const name of ['junk', 'listed', 'unsigned', 'rules', 'mixed', 'loop', 'delayed'])
      expect([name, await stateOf(at(name))]).toEqual([name, 'fine']);
    for (const name of ['dead', 'proper', 'words', 'bare']) expect([name, await stateOf(at(name))]).toEqual([name, 'suppressed']);
  });

  it('and a greylist is waited out, a full mailbox given up after two days', async () => {
    world.mail.answers.set(at('full'), [452, '4.2.2 The mailbox is full']);
    world.mail.answers.set(at('grey'), [450, '4.7.1 Greylisting in action']);
    await sent([at('full'), at('grey')]);
    world.mail.answers.delete(at('grey'));
    for (let n = 0; n < 14; n += 1) {
      world.clock.advance(4 * 60 * MINUTE);
      await world.work();
    }
    expect(await copies()).toEqual({ full: ['given up', 'full'], grey: ['delivered', 'greylist'] });
  });
});

describe('a dead mailbox', () => {
  it('is found dead in each dialect of the Backlot, and a warning, an absence and an answer are told apart', async () => {
    const names = ['d0', 'd1', 'd2', 'd3', 'd4', 'late', 'away', 'answers', 'junk'];
    const { letter, of } = await sent(names.map(at));
    const back = (name: string) => ({
      returnPath: of(at(name)).from,
      recipient: at(name),
      host: 'mx.heronmail.example',
      date: new Date(),
      original: of(at(name)).source,
    });
    const came = async (name: string, raw: string, from = '') => comesBack(world.ctx, of(at(name)).from, raw, from);
    for (let dialect = 0; dialect < 5; dialect += 1)
      expect([dialect, await came(`d${dialect}`, goneNotice(back(`d${dialect}`), dialect))]).toEqual([dialect, 'bounce']);
    expect(await came('late', lateNotice(back('late')))).toBe('delay');
    expect(await came('away', awayNote(back('away')))).toBe('away');
    expect(await came('answers', personAnswers(back('answers')), at('answers'))).toBe('reply');
    const report = await takeApart(Buffer.from(junkReport(back('junk'))), 'reports@mx.heronmail.example');
    expect(await takeFeedback(world.ctx, feedbackOf(report.message)!, report.original)).toBe(true);
    expect(await counts(letter)).toMatchObject({ bounced: 5, refused: 0, delivered: 4, complained: 1 });
    expect(await reasons()).toEqual({ dead: [0, 5] });
  });
});

describe('complaints', () => {
  it('suppress at once and count once, whichever way they come, with the address hidden too', async () => {
    const { letter, of, ids } = await sent(['back', 'abuse', 'name', 'fine'].map(at));
    const hidden = (source: string) => source.replace(/^To: .*\r\n/m, 'To: <hidden@heronmail.example>\r\n');
    // To the return path itself.
    expect(await comesBack(world.ctx, of(at('back')).from, complaint(hidden(of(at('back')).source)))).toBe('feedback');
    expect(await comesBack(world.ctx, of(at('back')).from, complaint(hidden(of(at('back')).source)))).toBe('nothing');
    // To the address for complaints, with the return path in it; and with no more than the head of the letter.
    const take = async (raw: string) => {
      const { message, original } = await takeApart(Buffer.from(raw), 'loop@heronmail.example');
      const part = message.parts.find(({ type }) => type === 'message/feedback-report')!.text;
      return takeFeedback(world.ctx, part, original);
    };
    const abuse = of(at('abuse'));
    expect(await take(complaint('Subject: x\r\n\r\n', { fields: [`Original-Mail-From: <${abuse.from}>`] }))).toBe(true);
    expect(await take(complaint(hidden(of(at('name')).source)))).toBe(true);
    expect(await counts(letter)).toMatchObject({ delivered: 4, complained: 3 });
    expect((await kept()).map((row) => [row.kind, row.known_by, ids.indexOf(row.reader_id!)])).toEqual([
      ['complaint', 'return path', 0],
      ['complaint', 'return path', 1],
      ['complaint', 'message', 2],
    ]);
    for (const name of ['back', 'abuse', 'name']) expect(await stateOf(at(name))).toBe('suppressed');
    const consents = await world.ctx.db.selectFrom('consents').select('act').where('act', '=', 'complaint').execute();
    expect(consents).toHaveLength(3);
    // The next letter is for whoever is left.
    world.mail.taken.length = 0;
    await world.letter(newsletter, senderId, { subject: 'The next' });
    await world.work();
    expect(world.mail.taken.map(({ to }) => to)).toEqual([at('fine')]);
  });

  it('of somebody who only saw the name of a message, or of no letter of ours, suppress nobody', async () => {
    const { letter, of } = await sent([at('mara')]);
    const { source } = of(at('mara'));
    const name = /^Message-ID: (<[^>]+>)/im.exec(source.replace(/\r\n[ \t]/g, ' '))![1]!;
    const lines = async (head: string, fields: string[] = []) =>
      takeFeedback(world.ctx, ['Feedback-Type: abuse', 'User-Agent: x', ...fields].join('\n'), head);
    // Out of an answer that went to a list: In-Reply-To, and nothing else of the letter.
    await lines(`Message-ID: ${name}\r\n`);
    await lines(`Message-ID: ${name}\r\nFeedback-ID: 0b8f5d6c-1111-4222-8333-123456789012.0:x:post:inkset\r\n`);
    await lines('', [
      `Original-Mail-From: <b-${'a'.repeat(31)}@bounce.lanternfish.example>`,
      `Original-Rcpt-To: <${at('mara')}>`,
    ]);
    const letterName = /^Feedback-ID: (\S+)/im.exec(source.replace(/\r\n[ \t]/g, ' '))![1]!;
    await lines(`Feedback-ID: ${letterName}\r\n`);
    expect((await kept()).map((row) => [row.known_by, row.reader_id, row.letter_id])).toEqual([
      ['nothing', null, null],
      ['nothing', null, null],
      ['nothing', null, null],
      ['letter', null, letter],
    ]);
    expect(await stateOf(at('mara'))).toBe('fine');
    expect(await counts(letter)).toMatchObject({ complained: 0 });
  });

  it('that are none do what they say: not spam, failed authentication, an opt-out', async () => {
    const { letter, of } = await sent(['spam', 'auth', 'out', 'new'].map(at));
    const back = (name: string, type: string, fields: string[] = []) =>
      comesBack(world.ctx, of(at(name)).from, complaint(of(at(name)).source, { type, fields }));
    expect(await back('spam', 'not-spam')).toBe('feedback');
    expect(await back('auth', 'auth-failure', ['Auth-Failure: dkim', 'Source-IP: 192.0.2.7'])).toBe('feedback');
    expect(await back('out', 'opt-out')).toBe('feedback');
    expect(await back('new', 'something-new')).toBe('feedback');
    expect((await kept()).map(({ kind }) => kind)).toEqual(['not spam', 'not authenticated', 'opt-out', 'other']);
    expect(await counts(letter)).toMatchObject({ complained: 0, left: 1 });
    for (const name of ['spam', 'auth', 'out', 'new']) expect(await stateOf(at(name))).toBe('fine');
    world.mail.taken.length = 0;
    await world.letter(newsletter, senderId, { subject: 'The next' });
    await world.work();
    expect(world.mail.taken.map(({ to }) => to.split('@')[0]).sort()).toEqual(['auth', 'new', 'spam']);
  });

  it('at whatever statement the mailroom dies, what is told again is done once', async () => {
    const { letter, of } = await sent(['out', 'junk', 'fine'].map(at));
    const take = async (ctx: typeof world.ctx, name: string, type: string) => {
      const report = await takeApart(Buffer.from(complaint(of(at(name)).source, { type })), 'loop@heronmail.example');
      return takeFeedback(ctx, feedbackOf(report.message)!, report.original);
    };
    for (const [name, type] of [
      ['out', 'opt-out'],
      ['junk', 'abuse'],
    ] as const) {
      for (let statements = 0; statements < 24; statements += 1)
        await take(world.brokenAfter(statements), name, type).catch((error) => expect(error.message).toMatch(/terminated/));
      await take(world.ctx, name, type);
    }
    expect((await kept()).map(({ kind }) => kind)).toEqual(['opt-out', 'complaint']);
    expect(await counts(letter)).toMatchObject({ left: 1, complained: 1 });
    expect(await stateOf(at('junk'))).toBe('suppressed');
    world.mail.taken.length = 0;
    await world.letter(newsletter, senderId, { subject: 'The next' });
    await world.work();
    expect(world.mail.taken.map(({ to }) => to)).toEqual([at('fine')]);
  });

  it('of a single mail suppress its reader, and fill nothing however often they come', async () => {
    const [id] = await world.readers(newsletter, [at('asked')]);
    await inTransaction(world.ctx.db, (trx) =>
      post(world.ctx, trx, {
        newsletterId: newsletter.id,
        kind: 'confirmation',
        readerId: id!,
        to: at('asked'),
        subject: 'Please confirm',
        notice: { name: 'n', colour: '#17645c', heading: 'h', paragraphs: [], footer: [] },
      }),
    );
    await world.work();
    const { from, source } = world.mail.to(at('asked')).at(-1)!;
    const came = [];
    for (let n = 0; n < 6; n += 1) came.push(await comesBack(world.ctx, from, complaint(source)));
    expect(came).toEqual(['feedback', 'feedback', 'feedback', 'nothing', 'nothing', 'nothing']);
    expect(await stateOf(at('asked'))).toBe('suppressed');
  });

  it('about somebody who was erased meanwhile, are nobody’s', async () => {
    const { ids, of } = await sent([at('mara'), at('nils')]);
    const [mara, nils] = [of(at('mara')), of(at('nils'))];
    await comesBack(world.ctx, nils.from, complaint(nils.source));
    const by = { actor: 'member' as const, name: 'Ottoline Vance' };
    await inTransaction(world.ctx.db, (trx) => eraseReaders(world.ctx, trx, newsletter, ids, by));
    expect(await comesBack(world.ctx, mara.from, complaint(mara.source))).toBe('feedback');
    // Nothing leads to whoever was erased: what had been kept before neither.
    expect((await kept()).filter((row) => ids.includes(row.reader_id ?? ''))).toEqual([]);
    expect(await comesBack(world.ctx, mara.from, notice(at('mara')))).toBe('nothing');
  });
});

describe('what people and programs write to the return path', () => {
  it('a person’s words reach the writer, three times a day at most; all else reaches nobody', async () => {
    const { of, letter } = await sent([at('mara')]);
    const { from } = of(at('mara'));
    const before = world.mail.taken.length;
    const person = (text: string) => comesBack(world.ctx, from, answer(text), 'mara@heronmail.example');
    expect(await person('Thank you, this was good. \u202eevil')).toBe('reply');
    await world.work();
    const passed = world.mail.taken.at(-1)!;
    expect(passed.source).toContain('Reply-To: mara@heronmail.example');
    expect(passed.source.replace(/=\r\n/g, '')).toContain('Thank you, this was good.');
    expect([await person('two'), await person('three'), await person('four')]).toEqual(['reply', 'reply', 'nothing']);
    for (const [raw, is] of [
      [answer('I am away until Monday', ['Auto-Submitted: auto-replied']), 'away'],
      [
        mail(
          ['From: Guard <guard@heronmail.example>', 'Subject: Please verify', 'Auto-Submitted: auto-generated'],
          'Please confirm that you are a human and we deliver your message.',
        ),
        'challenge',
      ],
      [
        mail(['From: mara@heronmail.example', 'Subject: Read: hello', 'Content-Type-Hint: x'], '').replace(
          'text/plain; charset=utf-8',
          'multipart/report; report-type=disposition-notification; boundary=q',
        ),
        'receipt',
      ],
      [answer('News of our shop', ['List-Id: <shop.example>']), 'nothing'],
    ] as const)
      expect(await comesBack(world.ctx, from, raw, 'mara@heronmail.example')).toBe(is);
    await world.work();
    expect(world.mail.taken.slice(before)).toHaveLength(3);
    expect(await counts(letter)).toMatchObject({ delivered: 1, left: 0, bounced: 0 });
  });
});

describe('hostile mail', () => {
  it('of ten megabytes, nested 500 deep, or of a hundred thousand parts, is read or left, and never stops anything', async () => {
    const { of, letter } = await sent([at('mara')]);
    const { from } = of(at('mara'));
    const deep = (inner: string) => {
      let body = inner;
      for (let n = 0; n < 500; n += 1)
        body = `Content-Type: multipart/mixed; boundary="b${n}"\r\n\r\n--b${n}\r\n${n ? '' : 'Content-Type: text/plain\r\n\r\n'}${body}\r\n--b${n}--\r\n`;
      return `From: a@b.example\r\nMIME-Version: 1.0\r\n${body}`;
    };
    const took = performance.now();
    for (const raw of [
      deep('hello'),
      `From: a@b.example\r\nContent-Type: multipart/mixed; boundary=x\r\n\r\n${'--x\r\nContent-Type: text/plain\r\n\r\na\r\n'.repeat(100_000)}--x--`,
      `${answer('x')}${'y'.repeat(10_000_000)}`,
      `From: ${'<'.repeat(100_000)}\r\nSubject: ${'=?utf-8?q?'.repeat(10_000)}\r\n\r\n`,
      Buffer.from(Array.from({ length: 100_000 }, (_, n) => (n * 7919) % 256)),
      '',
      '\r\n\r\n\u0000\u0000',
    ])
      expect(['nothing', 'reply', 'away']).toContain(await comesBack(world.ctx, from, raw, ''));
    expect(performance.now() - took).toBeLessThan(60_000);
    // And a notice behind our whole letter of ten megabytes is a notice.
    expect(await comesBack(world.ctx, from, notice(at('mara'), { original: `Subject: x\r\n\r\n${'z'.repeat(900_000)}` }))).toBe(
      'bounce',
    );
    expect(await counts(letter)).toMatchObject({ bounced: 1 });
  });
  it('with NUL bytes and halves of characters in its fields is kept, a complaint and a person’s words alike', async () => {
    const { of } = await sent([at('mara'), at('nils')]);
    const evil = complaint(of(at('mara')).source, { fields: ['Source-IP: 1\u00002', 'Auth-Failure: \u0000'] }).replace(
      'HeronLoop',
      'Heron\u0000Loop',
    );
    expect(await comesBack(world.ctx, of(at('mara')).from, evil)).toBe('feedback');
    expect(await stateOf(at('mara'))).toBe('suppressed');
    const words = mail(
      ['From: "Ni\u0000ls" <nils@heronmail.example>', 'Subject: Re: \u0000 =?utf-8?B?7aCA?='],
      'Good \u0000 one',
    );
    expect(await comesBack(world.ctx, of(at('nils')).from, words, at('nils'))).toBe('reply');
    await world.work();
    expect(world.mail.taken.at(-1)!.source).toContain('Reply-To: nils@heronmail.example');
  });
  it('to addresses that are none is nobody’s', async () => {
    const { of } = await sent([at('mara')]);
    const { from } = of(at('mara'));
    const local = from.split('@')[0]!;
    expect(isReturnAddress(world.ctx, local)).toBe(true);
    for (const forged of [
      `${local.slice(0, -1)}${local.endsWith('a') ? 'b' : 'a'}`,
      `m${local.slice(1)}`,
      'b-',
      'b-aaaa',
      `${local}a`,
    ])
      expect([forged, isReturnAddress(world.ctx, forged)]).toEqual([forged, false]);
  });
  it('a hundred failures at once, each twice, are marked once each', async () => {
    const names = Array.from({ length: 100 }, (_, n) => at(`r${n}`));
    const { letter, of } = await sent(names);
    const all = [...names, ...names].map((name) => comesBack(world.ctx, of(name).from, notice(name)));
    expect((await Promise.all(all)).filter((one) => one === 'bounce')).toHaveLength(100);
    expect(await counts(letter)).toMatchObject({ delivered: 0, bounced: 100 });
  });
});

describe('scanners', () => {
  const PERSON = 'Mozilla/5.0 (X11; Linux x86_64) A browser';
  async function linked() {
    await world.readers(newsletter, ['scan', 'mara'].map(at));
    const letter = await world.letter(newsletter, senderId, {
      nodes: [
        {
          kind: 'paragraph',
          inline: ['one', 'two', 'three', 'four'].map((word) => ({
            kind: 'text' as const,
            text: word,
            href: `https://saltmarsh.example/${word}`,
          })),
        },
      ],
    });
    await world.work();
    const rows = await world.ctx.db.selectFrom('deliveries').select(['id', 'sent_on', 'address', 'reader_id']).execute();
    const of = (name: string) => rows.find((row) => row.address === at(name))!;
    const begun = world.clock.now().getTime();
    const mark = (
      name: string,
      kind: 'open' | 'click',
      seconds: number,
      link: number | null = null,
      more: { network?: string; agent?: string } = {},
    ) => ({
      ref: { sentOn: of(name).sent_on, id: BigInt(of(name).id) },
      kind,
      at: new Date(begun + seconds * 1_000),
      agent: PERSON,
      method: 'GET',
      link,
      ...more,
    });
    return { letter, mark, of };
  }
  const links = async (letter: string) =>
    (await world.ctx.db.selectFrom('letter_links').select('clicks').where('letter_id', '=', letter).orderBy('position').execute())
      .map(({ clicks }) => clicks)
      .slice(0, 4);
  const whys = async () =>
    (await world.ctx.db.selectFrom('events').select(['kind', 'machine', 'why']).orderBy('at').execute()).map(
      (row) => `${row.kind} ${row.why ?? 'person'}`,
    );

  it('that follow all links with a browser’s name are found out, and what they were taken for is taken back', async () => {
    const { letter, mark } = await linked();
    // A person reads, and follows one link; a scanner opens and follows the links of the other copy one by one, as each is written by itself.
    await writeMarks(world.ctx, [mark('mara', 'open', 100)]);
    await writeMarks(world.ctx, [mark('mara', 'click', 160, 2)]);
    await writeMarks(world.ctx, [mark('scan', 'open', 30)]);
    await writeMarks(world.ctx, [mark('scan', 'click', 31, 0)]);
    await writeMarks(world.ctx, [mark('scan', 'click', 32, 1)]);
    expect(await counts(letter)).toMatchObject({ people: 2, clicked: 2 });
    await writeMarks(world.ctx, [mark('scan', 'click', 33, 2), mark('scan', 'click', 34, 3)]);
    expect(await counts(letter)).toMatchObject({ people: 1, machines: 1, hidden: 1, clicked: 1 });
    expect(await links(letter)).toEqual([0, 0, 1, 0]);
    expect(await whys()).toEqual([
      'open all links',
      'click all links',
      'click all links',
      'click all links',
      'click all links',
      'open person',
      'click person',
    ]);
    const { rows } = await sql<{ differing: number }>`select recount_recent(${newsletter.id}::uuid) as differing`.execute(
      world.ctx.db,
    );
    expect(rows[0]!.differing).toBe(0);
    expect(await recount(world.ctx, newsletter)).toBe(0);
    const reader = await world.ctx.db
      .selectFrom('readers')
      .select(['last_read_at', 'last_clicked_at'])
      .where('address', '=', at('scan'))
      .executeTakeFirstOrThrow();
    expect(reader).toEqual({ last_read_at: null, last_clicked_at: null });
    // Whoever really reads it later counts.
    await writeMarks(world.ctx, [mark('scan', 'click', 4_000, 1)]);
    expect(await counts(letter)).toMatchObject({ people: 2, hidden: 0, clicked: 2 });
    expect(await links(letter)).toEqual([0, 1, 1, 0]);
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('after a person who had read before take back nothing of theirs', async () => {
    const { letter, mark } = await linked();
    await writeMarks(world.ctx, [mark('scan', 'open', 60), mark('scan', 'click', 90, 1)]);
    await writeMarks(
      world.ctx,
      [0, 1, 2, 3].map((link) => mark('scan', 'click', 500 + link, link)),
    );
    expect(await counts(letter)).toMatchObject({ people: 1, clicked: 1 });
    expect(await links(letter)).toEqual([0, 1, 0, 0]);
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('and pictures fetched from a network of mailboxes’ programs are machines’, each with its reason', async () => {
    const { letter, mark } = await linked();
    await writeMarks(world.ctx, [
      mark('mara', 'open', 50, null, { network: '198.51.100.200' }),
      mark('mara', 'open', 1),
      mark('scan', 'open', 70, null, { agent: 'ImageProxy/2' }),
    ]);
    expect(await counts(letter)).toMatchObject({ people: 0, machines: 2, hidden: 2 });
    expect((await whys()).sort()).toEqual(['open agent', 'open at once', 'open network']);
  });
});

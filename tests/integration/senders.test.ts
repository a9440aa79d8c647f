import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { zoneFile } from '@/core/senders/zone-file';
import { addDomain, checkDomain, checksOf, domainOf, previewZone, removeDomain, setRamp } from '@/server/senders/domains';
import { prepareNextKey, switchSecondKey, useNextKey } from '@/server/senders/keys';
import {
  addSender,
  changeSender,
  proofOf,
  proveSender,
  removeSender,
  resendProof,
  sendersOf,
  setDefaultSender,
} from '@/server/senders/senders';
import { pauseLetter, resumeLetter } from '@/server/sending/letters';
import { rampAhead, rampDone } from '@/server/sending/ramp';
import { countRamp } from '@/server/sending/ramp-days';
import { silence } from '@/server/sending/silence';
import { startLetter } from '@/server/sending/start';
import { lastTestLetter, sendTestLetter } from '@/server/sending/test-letter';
import { letterOf } from '@/server/sending/views';
import { comesBack, complaint, notice, withHead } from './notices';
import { DAY, MINUTE, TestWorld } from './world';

const HALF_DAY = DAY / 2;
const HOUR = 60 * MINUTE;

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterAll(() => world.close());

const add = async (address: string) => addSender(world.ctx, newsletter, { name: 'Ottoline Vance', address });
const tokenTo = async (address: string) => {
  await world.work();
  return (await world.linkIn(address, '/sender/')).split('/').at(-1)!;
};
const state = async (id: string) => (await sendersOf(world.ctx, newsletter)).find((sender) => sender.id === id)?.state;
/** Publishes what a domain wants, or something else for one purpose. */
async function publish(id: string, instead: Record<string, string> = {}) {
  for (const record of (await domainOf(world.ctx, newsletter, id)).records)
    if (record.value) world.dns.records.set(record.name, [instead[record.purpose] ?? record.value]);
}

describe('a sender', () => {
  it('is pending until the mailed link is clicked; clicked again it says so and changes nothing', async () => {
    const { id } = await add('letters@lanternfish.example');
    expect(await state(id)).toBe('pending');
    const token = await tokenTo('letters@lanternfish.example');
    for (let looks = 0; looks < 2; looks += 1) expect((await proofOf(world.ctx, token)).done).toBe(false);
    expect(await state(id)).toBe('pending');
    expect((await proveSender(world.ctx, token)).done).toBe(true);
    expect((await proveSender(world.ctx, token)).done).toBe(true);
    expect(await state(id)).toBe('confirmed');
    await expect(resendProof(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
  });
  it('has a link that runs out after a day; a newer one takes its place; sending again is limited', async () => {
    const { id } = await add('field@lanternfish.example');
    const first = await tokenTo('field@lanternfish.example');
    world.clock.advance(DAY + 1000);
    await expect(proveSender(world.ctx, first)).rejects.toMatchObject({ code: 'expired' });
    await resendProof(world.ctx, newsletter, id);
    await expect(proveSender(world.ctx, first)).rejects.toMatchObject({ code: 'not-found' });
    await proveSender(world.ctx, await tokenTo('field@lanternfish.example'));
    expect(await state(id)).toBe('confirmed');
    const { id: other } = await add('desk@lanternfish.example');
    for (let n = 0; n < 5; n += 1) await resendProof(world.ctx, newsletter, other);
    await expect(resendProof(world.ctx, newsletter, other)).rejects.toMatchObject({ code: 'too-many' });
  });
  it('is refused when malformed or there already, with a sentence beside the field', async () => {
    await expect(add('letters.lanternfish.example')).rejects.toMatchObject({ fields: { address: expect.any(String) } });
    await expect(add('letters@lanternfish.example')).rejects.toMatchObject({ code: 'conflict' });
    const [first] = await sendersOf(world.ctx, newsletter);
    await expect(resendProof(world.ctx, await world.newsletter('A stranger'), first!.id)).rejects.toMatchObject({
      code: 'not-found',
    });
  });
  it('with another name holds at once, with another address has to be proven again', async () => {
    const { id } = await add('old@lanternfish.example');
    await proveSender(world.ctx, await tokenTo('old@lanternfish.example'));
    expect(
      await changeSender(world.ctx, newsletter, id, {
        name: 'The desk',
        address: 'old@lanternfish.example',
        replyTo: 'post@lanternfish.example',
      }),
    ).toEqual({ proofSent: false });
    expect(await state(id)).toBe('confirmed');
    expect(await changeSender(world.ctx, newsletter, id, { name: 'The desk', address: 'new@lanternfish.example' })).toEqual({
      proofSent: true,
    });
    expect(await state(id)).toBe('pending');
    await expect(setDefaultSender(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
    await proveSender(world.ctx, await tokenTo('new@lanternfish.example'));
    await setDefaultSender(world.ctx, newsletter, id);
    await expect(
      changeSender(world.ctx, newsletter, id, { name: 'The desk', address: 'letters@lanternfish.example' }),
    ).rejects.toMatchObject({ code: 'conflict' });
  });
  it('given another address while its link is pressed is never confirmed for an address nobody proved', async () => {
    for (let n = 0; n < 25; n += 1) {
      const { id } = await add(`mine${n}@racing.example`);
      const token = await tokenTo(`mine${n}@racing.example`);
      await Promise.all([
        proveSender(world.ctx, token).catch(() => null),
        changeSender(world.ctx, newsletter, id, { name: 'X', address: `foreign${n}@racing.example` }),
      ]);
      expect((await sendersOf(world.ctx, newsletter)).find((one) => one.id === id)).toMatchObject({
        address: `foreign${n}@racing.example`,
        state: 'pending',
      });
    }
  });
  it('in use is not removed without saying what would stop', async () => {
    const { id } = await add('busy@lanternfish.example');
    await world.letter(newsletter, id, { subject: 'Waiting', dueAt: new Date(world.clock.now().getTime() + DAY) });
    await expect(removeSender(world.ctx, newsletter, id)).rejects.toMatchObject({
      sentence: expect.stringMatching(/would stop: 1 letter \(“Waiting”\)/),
    });
    await world.ctx.db.deleteFrom('letters').where('sender_id', '=', id).execute();
    await removeSender(world.ctx, newsletter, id);
    expect(await state(id)).toBeUndefined();
  });
  it('at a mailbox service or a look-alike of one’s own domain is warned about', async () => {
    await addDomain(world.ctx, newsletter, 'tidelines.example');
    await add('me@heronmail.example');
    await add('me@tideIines.example');
    const warned = (await sendersOf(world.ctx, newsletter)).filter((sender) => sender.warnings.length);
    expect(warned.map((sender) => sender.domain).sort()).toEqual(['heronmail.example', 'tideiines.example']);
  });
});

describe('a domain', () => {
  it('is looked up at once, and a silent name server takes nothing away', async () => {
    const { id } = await addDomain(world.ctx, newsletter, ' "https://www.Lanternfish.example./about?x" ');
    await world.work();
    expect((await domainOf(world.ctx, newsletter, id)).state).toBe('incomplete');
    await publish(id);
    expect((await checkDomain(world.ctx, id)).state).toBe('authenticated');
    world.dns.silent = true;
    const after = await checkDomain(world.ctx, id);
    expect(after.state).toBe('authenticated');
    expect(after.records[0]?.judgement?.sentence).toContain('did not answer');
    world.dns.silent = false;
    const history = await checksOf(world.ctx, newsletter, id);
    expect(history.map((check) => check.state)).toEqual(['authenticated', 'authenticated', 'incomplete']);
    await expect(addDomain(world.ctx, newsletter, 'lanternfish.example')).rejects.toMatchObject({ code: 'conflict' });
    await expect(addDomain(world.ctx, newsletter, 'not a domain')).rejects.toMatchObject({ code: 'invalid' });
    await expect(domainOf(world.ctx, await world.newsletter('A stranger'), id)).rejects.toMatchObject({ code: 'not-found' });
    await expect(removeDomain(world.ctx, newsletter, id)).rejects.toMatchObject({
      sentence: expect.stringContaining('could no longer send'),
    });
  });

  it('is right by its name servers although the resolver remembers the old answer, and that is said with the time', async () => {
    const { id } = await addDomain(world.ctx, newsletter, 'cached.example');
    await publish(id);
    world.dns.old.set('cached.example', ['v=spf1 include:_spf.oldhost.example ~all']);
    const found = await checkDomain(world.ctx, id);
    expect(found.state).toBe('authenticated');
    expect(found.facts.remembered).toEqual({ spf: 2400 });
  });

  it('re-checks quickly after a change and further and further apart while nothing changes', async () => {
    const { id } = await addDomain(world.ctx, newsletter, 'paced.example');
    const waits: number[] = [];
    for (let n = 0; n < 4; n += 1)
      waits.push(((await checkDomain(world.ctx, id)).nextCheckAt.getTime() - world.clock.now().getTime()) / MINUTE);
    await publish(id);
    waits.push(((await checkDomain(world.ctx, id)).nextCheckAt.getTime() - world.clock.now().getTime()) / MINUTE);
    expect(waits).toEqual([1, 2, 4, 8, 1]);
  });

  it('whose good record breaks tells the owner before the next letter leaves, and the letter waits', async () => {
    const other = await world.newsletter('Breaking');
    const { id } = await addDomain(world.ctx, other, 'breaking.example');
    for (const record of (await domainOf(world.ctx, other, id)).records)
      if (record.value) world.dns.records.set(record.name, [record.value]);
    await checkDomain(world.ctx, id);
    const { senderId } = { senderId: (await addSender(world.ctx, other, { name: 'B', address: 'b@breaking.example' })).id };
    await proveSender(world.ctx, await tokenTo('b@breaking.example'));
    await world.readers(other, ['reader@heronmail.example']);
    world.clock.advance(DAY);
    world.dns.records.set('_dmarc.breaking.example', ['v=DMARC1; p=nonsense']);
    await world.ctx.db
      .updateTable('domains')
      .set({ next_check_at: new Date(world.clock.now().getTime() + DAY) })
      .where('id', '=', id)
      .execute();
    const letter = await world.letter(other, senderId, { subject: 'Held' });
    await world.work();
    expect((await letterOf(world.ctx, other, letter)).cause).toMatch(/records of breaking\.example/);
    const alert = world.mail.to(`${other.owner}@postbird.example`).find((mail) => mail.source.includes('a record broke'));
    expect(alert?.source).toContain('p=3Dnonsense');
  });

  it('changes keys only once the next one is found, and signs with Ed25519 beside it only then', async () => {
    const { id } = await addDomain(world.ctx, newsletter, 'keys.example');
    await publish(id);
    await checkDomain(world.ctx, id);
    await prepareNextKey(world.ctx, newsletter, id);
    await switchSecondKey(world.ctx, newsletter, id, true);
    await checkDomain(world.ctx, id);
    await expect(useNextKey(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
    await publish(id);
    await checkDomain(world.ctx, id);
    await useNextKey(world.ctx, newsletter, id);
    const after = await checkDomain(world.ctx, id);
    expect(after.keys.map((key) => `${key.selector} ${key.role}`)).toEqual(['ink1 retired', 'ink2 active', 'ink3 second']);
    expect(after.state).toBe('authenticated');
    const { rows } = await world.pool.query('select private_key from domain_keys');
    for (const row of rows) expect(row.private_key.toString('latin1')).not.toContain('PRIVATE KEY');
  });

  it('shows what a zone file would do, and keeps nothing of it', async () => {
    const { id } = await addDomain(world.ctx, newsletter, 'zoned.example');
    const { records } = await domainOf(world.ctx, newsletter, id);
    const text = zoneFile('zoned.example', records);
    const preview = await previewZone(world.ctx, newsletter, id, `${text}\nbad MX x\n`);
    expect(preview).toMatchObject({
      state: 'authenticated',
      faults: [{ sentence: 'The value of this MX record cannot be read.' }],
    });
    expect((await domainOf(world.ctx, newsletter, id)).state).toBe('unknown');
    await expect(previewZone(world.ctx, newsletter, id, '???')).rejects.toMatchObject({ code: 'invalid' });
    await expect(previewZone(world.ctx, newsletter, id, ' ')).rejects.toMatchObject({ code: 'invalid' });
  });
});

describe('a test letter', () => {
  it('goes to oneself alone while the domain is not proven, and its verdicts are read back', async () => {
    const { id } = await addDomain(world.ctx, newsletter, 'testing.example');
    await expect(sendTestLetter(world.ctx, newsletter, { email: 'me@postbird.example' }, id)).rejects.toMatchObject({
      sentence: expect.stringContaining('No sender at testing.example is confirmed'),
    });
    await add('t@testing.example');
    await proveSender(world.ctx, await tokenTo('t@testing.example'));
    const { said } = await sendTestLetter(world.ctx, newsletter, { email: 'me@postbird.example' }, id);
    expect(said).toContain('Only you get it: testing.example is not proven yet');
    await world.work();
    const probe = world.mail.to('verdicts@heronmail.example').at(-1)!;
    expect(world.mail.to('me@postbird.example')).toHaveLength(1);
    const to = /^Reply-To: (\S+)/m.exec(probe.source)![1]!;
    const originalHeader =
      'Authentication-Results: mx.heronmail.example;\r\n dkim=pass header.i=@testing.example header.s=ink1 header.d=testing.example;\r\n spf=pass (why) smtp.mailfrom=t-1@bounce.testing.example;\r\n dmarc=pass header.from=testing.example;\r\n iprev=pass policy.iprev=127.0.0.1\r\nReceived: from out.inkset.example by mx.heronmail.example with ESMTPS; now\r\n';
    expect(await comesBack(world.ctx, to, withHead(originalHeader))).toBe('verdicts');
    expect(await comesBack(world.ctx, to, withHead(originalHeader))).toBe('nothing');
    const letter = await lastTestLetter(world.ctx, newsletter, id);
    expect(letter).toMatchObject({ response: '', delivered: true });
    expect(letter?.verdicts?.map((verdict) => `${verdict.check} ${verdict.result}`)).toEqual([
      'SPF pass',
      'DKIM pass',
      'DMARC pass',
      'Alignment pass',
      'Encryption pass',
      'Reverse name pass',
    ]);
  });
});

describe('a ramp-up', () => {
  it('lets no more leave a day than its ceiling, the keenest readers first, and the rest on the days after', async () => {
    const own = await world.newsletter('Ramped');
    const { senderId, domainId } = await world.sender(own, 'ramped.example');
    const ids = await world.readers(
      own,
      Array.from({ length: 70 }, (_, n) => `r${n}@kestrel.example`),
    );
    await setRamp(world.ctx, own, domainId, {
      startedOn: world.clock.now().toISOString().slice(0, 10),
      first: 20,
      volume: 40,
      days: 2,
    });
    const letter = async (subject: string) => {
      const id = await world.letter(own, senderId, { subject });
      await startLetter(world.ctx, id);
      return id;
    };
    const before = world.mail.taken.length;
    const first = await letter('One');
    await world.work();
    expect(world.mail.taken.length - before).toBe(20);
    // Whoever opened the first letter comes first in the second.
    await world.pool.query('update readers set last_read_at = now() where id = $1', [ids[69]]);
    world.clock.advance(DAY);
    await world.work();
    expect(world.mail.taken.length - before).toBe(60);
    world.clock.advance(DAY);
    await world.work();
    expect(world.mail.taken.length - before).toBe(70);
    expect((await letterOf(world.ctx, own, first)).state).toBe('sent');
    world.clock.advance(DAY);
    await setRamp(world.ctx, own, domainId, {
      startedOn: world.clock.now().toISOString().slice(0, 10),
      first: 1,
      volume: 40,
      days: 5,
    });
    await letter('Two');
    await world.work();
    expect(world.mail.taken.at(-1)?.to).toBe('r69@kestrel.example');
  });

  it('is fed by what came of each day: after complaints the next steps are not taken, by a letter under way either', async () => {
    const own = await world.newsletter('Fed');
    const { senderId, domainId } = await world.sender(own, 'fed.example');
    await world.readers(
      own,
      Array.from({ length: 300 }, (_, n) => `f${n}@kestrel.example`),
    );
    const today = (after: number) => new Date(world.clock.now().getTime() + after * DAY).toISOString().slice(0, 10);
    const plan = { startedOn: today(0), first: 50, volume: 1_600, days: 6 };
    await setRamp(world.ctx, own, domainId, plan);
    const id = await world.letter(own, senderId, { subject: 'To three hundred' });
    await startLetter(world.ctx, id);
    const copies = () => world.mail.taken.filter((mail) => /^f\d+@kestrel/.test(mail.to));
    const gone = () => copies().length;
    await world.work();
    expect(gone()).toBe(50);
    const done = async () => (await rampDone(world.ctx, own, { id: domainId, ramp: plan })).slice(0, 4);
    const planned = async () =>
      (await rampAhead(world.ctx.db, { id: domainId, ramp: plan }, today(0))).slice(0, 4).map((day) => day.planned);
    expect(await planned()).toEqual([50, 100, 150, 0]);
    // The next day, by the clock of whoever counts: three of fifty reported it, one came back.
    const taken = copies();
    for (const mail of taken.slice(0, 3)) await comesBack(world.ctx, mail.from, complaint(mail.source));
    await comesBack(world.ctx, taken[3]!.from, notice(taken[3]!.to));
    world.clock.advance(HALF_DAY);
    await Promise.all([countRamp(world.ctx, domainId), countRamp(world.ctx, domainId)]);
    expect((await done())[0]).toMatchObject({ plan: 50, ceiling: 50, left: 50, bounced: 1, complained: 3 });
    expect(await planned()).toEqual([50, 100, 150, 0]);
    // Some hours before the next share is to leave.
    world.clock.advance(HALF_DAY - 2 * HOUR);
    await world.work();
    expect(gone()).toBe(50);
    expect(await planned()).toEqual([50, 100, 100, 0]);
    world.clock.advance(2 * HOUR);
    await world.work();
    expect(gone()).toBe(100);
    await countRamp(world.ctx, domainId);
    expect((await done()).map(({ plan: was, ceiling, left }) => [was, ceiling, left])).toEqual([
      [50, 50, 50],
      [100, 50, 50],
      [200, 100, null],
      [400, 200, null],
    ]);
    expect((await letterOf(world.ctx, own, id)).state).toBe('sending');
    for (let day = 0; day < 4; day += 1) {
      world.clock.advance(DAY);
      await world.work();
    }
    expect(gone()).toBe(300);
    expect(new Set(copies().map((mail) => mail.to)).size).toBe(300);
    expect((await letterOf(world.ctx, own, id)).state).toBe('sent');
    // Paused over days, it does not leave all at once when it goes on.
    await setRamp(world.ctx, own, domainId, { startedOn: today(0), first: 60, volume: 100, days: 9 });
    const second = await world.letter(own, senderId, { subject: 'Paused over days' });
    await startLetter(world.ctx, second);
    await world.work();
    expect(gone()).toBe(360);
    await pauseLetter(world.ctx, own, second, 'Ottoline Vance');
    world.clock.advance(3 * DAY);
    await world.work();
    expect(gone()).toBe(360);
    await resumeLetter(world.ctx, own, second, 'Ottoline Vance');
    await world.work();
    const { ramp } = await domainOf(world.ctx, own, domainId);
    const ceiling = (await rampAhead(world.ctx.db, { id: domainId, ramp: ramp! }, today(0)))[0]!.ceiling;
    expect(ceiling).toBeLessThan(80);
    expect(gone()).toBe(360 + ceiling);
    // Without a ramp-up nothing is counted.
    await setRamp(world.ctx, own, domainId, null);
    await countRamp(world.ctx, domainId);
    expect(await rampDone(world.ctx, own, { id: domainId, ramp: null })).toEqual([]);
  });

  it('moves what is over a ceiling a piece at a time, and goes on with it whenever it died', async () => {
    const own = await world.newsletter('Pieces');
    const { senderId, domainId } = await world.sender(own, 'pieces.example');
    const ids = await world.readers(
      own,
      Array.from({ length: 100 }, (_, n) => `p${n}@kestrel.example`),
    );
    const today = world.clock.now().toISOString().slice(0, 10);
    await setRamp(world.ctx, own, domainId, { startedOn: today, first: 10, volume: 90, days: 5 });
    const id = await world.letter(own, senderId, { subject: 'In pieces' });
    await startLetter(world.ctx, id);
    await world.work();
    const dues = async () => {
      const { rows } = await world.pool.query<{ reader_id: string; due_at: Date; state: string }>(
        'select reader_id, due_at, state from deliveries where letter_id = $1 order by reader_id',
        [id],
      );
      return new Map(rows.map((row) => [row.reader_id, row]));
    };
    const before = await dues();
    const plan = { startedOn: today, first: 11, volume: 60, days: 12 };
    await setRamp(world.ctx, own, domainId, plan);
    // Killed after each statement in turn, and once not at all.
    let died = 0;
    for (;;) {
      const ended = await countRamp(world.brokenAfter(died), domainId, 7).then(
        () => true,
        () => false,
      );
      const now = await dues();
      expect(now.size).toBe(100);
      for (const [reader, { due_at }] of now)
        expect(due_at.getTime()).toBeGreaterThanOrEqual(before.get(reader)!.due_at.getTime());
      if (ended) break;
      died += 1;
    }
    expect(died).toBeGreaterThan(20);
    await countRamp(world.ctx, domainId);
    const { rows } = await world.pool.query<{ day: string; n: number; waiting: number }>(
      `select to_char(due_at, 'YYYY-MM-DD') as day, count(*)::int as n, count(*) filter (where state = 'queued')::int as waiting from deliveries where letter_id = $1 group by 1 order by 1`,
      [id],
    );
    const ahead = await rampAhead(world.ctx.db, { id: domainId, ramp: plan }, today);
    for (const { day, ceiling, planned } of ahead) {
      const n = rows.find((row) => row.day === day)?.n ?? 0;
      expect(n).toBeLessThanOrEqual(ceiling);
      expect(planned).toBe(n);
    }
    expect(rows.reduce((sum, { n }) => sum + n, 0)).toBe(100);
    // Each at its hour; and who leaves meanwhile makes room.
    const hours = new Set([...(await dues()).values()].map(({ due_at }) => due_at.toISOString().slice(11)));
    expect(hours.size).toBe(1);
    await silence(world.ctx, world.ctx.db, { readerId: ids[50]!, newsletterId: own.id, reason: 'by hand', detail: 'x' });
    await countRamp(world.ctx, domainId);
    const after = await rampAhead(world.ctx.db, { id: domainId, ramp: plan }, today);
    expect(after.reduce((sum, one) => sum + one.planned, 0)).toBe(ahead.reduce((sum, one) => sum + one.planned, 0) - 1);
  });

  it('is counted no more once it is long over', async () => {
    const own = await world.newsletter('Over');
    const { senderId, domainId } = await world.sender(own, 'over.example');
    await world.readers(own, ['o1@kestrel.example', 'o2@kestrel.example']);
    const began = (days: number) => ({
      startedOn: new Date(world.clock.now().getTime() - days * DAY).toISOString().slice(0, 10),
      first: 20,
      volume: 40,
      days: 2,
    });
    await setRamp(world.ctx, own, domainId, began(30));
    await startLetter(world.ctx, await world.letter(own, senderId, { subject: 'Over' }));
    await world.work();
    await countRamp(world.ctx, domainId);
    const left = async () =>
      (await world.pool.query('select coalesce(sum(delivered), 0)::int as n from domain_days where domain_id = $1', [domainId]))
        .rows[0].n;
    expect(await left()).toBe(0);
    await setRamp(world.ctx, own, domainId, began(4));
    await countRamp(world.ctx, domainId);
    expect(await left()).toBe(2);
  });
});

import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { ELSEWHERE } from '@/core/delivery/standing';
import { dayAfter } from '@/core/growth/periods';
import { deliveryOf } from '@/server/delivery/standing';
import { confirm } from '@/server/forms/confirm';
import { publicForm } from '@/server/forms/forms';
import { funnelOf } from '@/server/growth/funnel';
import { addNote, dropNote, growthOf, setGoal } from '@/server/growth/growth';
import { foldCounts, recount } from '@/server/jobs/tick';
import { leave } from '@/server/sending/leave';
import { rampAhead, rampDone } from '@/server/sending/ramp';
import { letterOf } from '@/server/sending/views';
import { comesBack, complaint, notice } from './notices';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());

const at = (name: string, provider = 'heronmail') => `${name}@${provider}.example`;
const dayNow = () => world.clock.now().toISOString().slice(0, 10);
const leaveTokenOf = (source: string) => /\/e\/leave\/([a-z2-7]{56})>/.exec(source.replace(/\r\n /g, ''))![1]!;
/** Everything the world knows of one moves into the past, so that counts have days to lie on. */
const joinedDaysAgo = async (names: string[], days: number) => {
  world.clock.advance(-days * DAY);
  const ids = await world.readers(newsletter, names);
  await sql`update readers set confirmed = true where id = any(${ids}::uuid[])`.execute(world.ctx.db);
  world.clock.advance(days * DAY);
  return ids;
};

describe('delivery', () => {
  it('says of each provider and each reason what its letters’ own figures say', async () => {
    const { senderId } = await world.sender(newsletter);
    const names = Array.from({ length: 30 }, (_, n) => at(`r${n}`));
    await world.readers(newsletter, [...names, ...Array.from({ length: 25 }, (_, n) => at(`k${n}`, 'kestrel'))]);
    for (let n = 0; n < 6; n += 1)
      world.mail.answers.set(at(`r${n}`), [
        554,
        `5.7.1 Service unavailable; client host blocked using bl.lists.example (r${n}@heronmail.example)`,
      ]);
    world.mail.answers.set(at('r6'), [550, '5.1.1 No such mailbox']);
    world.mail.answers.set(at('k0', 'kestrel'), [450, '4.2.0 Greylisted, please come again']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    const mara = world.mail.to(at('r9')).at(-1)!;
    await comesBack(world.ctx, mara.from, complaint(mara.source));
    const late = world.mail.to(at('r10')).at(-1)!;
    await comesBack(world.ctx, late.from, notice(at('r10')));
    for (let fold = 0; fold < 2; fold += 1) {
      const view = await deliveryOf(world.ctx, newsletter, 28);
      const { counts } = await letterOf(world.ctx, newsletter, id);
      const sum = (field: 'delivered' | 'bounced' | 'refused' | 'complained') =>
        view.standings.reduce((all, one) => all + one.copies[field], 0);
      expect([sum('delivered'), sum('bounced'), sum('refused'), sum('complained')]).toEqual([
        counts.delivered,
        counts.bounced,
        counts.refused,
        counts.complained,
      ]);
      expect(counts).toMatchObject({ delivered: 46, bounced: 2, refused: 6, complained: 1 });
      const here = view.standings.find(({ name }) => name === 'heronmail.example')!;
      expect(here).toMatchObject({ settled: 30, tone: 'mend', state: 'Turns letters away' });
      expect(view.standings.find(({ name }) => name === 'kestrel.example')).toMatchObject({ settled: 24, tone: 'fine' });
      expect(view.standings.some(({ name }) => name === ELSEWHERE)).toBe(false);
      expect(view.reasons.map(({ reason, ended, putOff }) => [reason, ended, putOff])).toEqual([
        ['reputation', 6, 0],
        ['dead', 2, 0],
        ['greylist', 0, 1],
      ]);
      // Six servers’ words that differ in nothing but the address are one, and name nobody.
      const [listed] = view.reasons[0]!.words;
      expect(listed).toMatchObject({ share: 1 });
      expect(listed!.example).toContain('blocked using bl.lists.example');
      expect(listed!.example).not.toContain('@');
      expect(view.feedback).toEqual([{ kind: 'complaint', n: 1 }]);
      await foldCounts(world.ctx);
    }
    // A year later none of it is among the last days.
    world.clock.advance(300 * DAY);
    expect((await deliveryOf(world.ctx, newsletter, 90)).reasons).toEqual([]);
  });
  it('is put right each night where a count went astray', async () => {
    const { senderId } = await world.sender(newsletter);
    await world.readers(newsletter, [at('a'), at('b')]);
    world.mail.answers.set(at('a'), [550, '5.1.1 No such mailbox']);
    await world.letter(newsletter, senderId);
    await world.work();
    expect(await recount(world.ctx, newsletter)).toBe(0);
    await foldCounts(world.ctx);
    for (const kept of ['reason_sums', 'reason_months']) await sql`update ${sql.table(kept)} set ended = 7`.execute(world.ctx.db);
    expect(await recount(world.ctx, newsletter)).toBe(1);
    expect((await deliveryOf(world.ctx, newsletter, 28)).reasons).toMatchObject([{ reason: 'dead', ended: 1 }]);
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });
  it('of a newsletter that sent nothing is empty', async () => {
    expect(await deliveryOf(world.ctx, newsletter, 365)).toMatchObject({ standings: [], reasons: [], feedback: [] });
  });
});

describe('growth', () => {
  it('draws readers back from who reads now, tells spans apart, and why people ended', async () => {
    await joinedDaysAgo(
      ['a', 'b', 'c', 'd'].map((name) => at(name)),
      40,
    );
    await joinedDaysAgo(
      ['e', 'f', 'g'].map((name) => at(name)),
      5,
    );
    const { senderId } = await world.sender(newsletter);
    world.mail.answers.set(at('g'), [550, '5.1.1 No such mailbox']);
    await world.letter(newsletter, senderId);
    await world.work();
    const of = (name: string) => world.mail.to(at(name)).at(-1)!;
    await leave(world.ctx, leaveTokenOf(of('a').source), { network: '198.51.100.7', agent: 'A browser' });
    await comesBack(world.ctx, of('b').from, complaint(of('b').source));
    for (let fold = 0; fold < 2; fold += 1) {
      const view = await growthOf(world.ctx, newsletter, 28);
      expect([view.reading, view.unreachable]).toEqual([4, 2]);
      expect(view.now).toEqual({ joined: 3, left: 1 });
      expect(view.before).toEqual({ joined: 4, left: 0 });
      expect(view.curve).toHaveLength(28);
      expect([
        view.curve[0]!.readers,
        view.curve.at(-7)!.readers,
        view.curve.at(-2)!.readers,
        view.curve.at(-1)!.readers,
      ]).toEqual([4, 4, 7, 6]);
      expect(view.causes).toEqual(
        expect.arrayContaining([
          { cause: 'unsubscribed', n: 1 },
          { cause: 'reported as junk', n: 1 },
          { cause: 'mailbox dead', n: 1 },
        ]),
      );
      expect(view.cohorts.reduce((sum, month) => sum + month.asked, 0)).toBe(7);
      expect(view.forecast).toBeNull();
      await foldCounts(world.ctx);
    }
  });

  it('forecasts once there are weeks enough, and says when a goal would be met', async () => {
    for (let week = 20; week >= 1; week -= 1)
      await joinedDaysAgo(
        Array.from({ length: 7 }, (_, n) => at(`w${week}n${n}`)),
        7 * week - 3,
      );
    await setGoal(world.ctx, newsletter, { goal: '200' });
    const view = await growthOf(world.ctx, newsletter, 90);
    expect(view.reading).toBe(140);
    expect(view.forecast!.weeks).toHaveLength(13);
    expect(view.forecast!.weeks[12]!.readers).toBe(140 + 13 * 7);
    expect(view.goal).toEqual({
      readers: 200,
      day: new Date(world.clock.now().getTime() + 9 * 7 * DAY).toISOString().slice(0, 10),
    });
    await setGoal(world.ctx, newsletter, { goal: '' });
    expect((await growthOf(world.ctx, newsletter, 90)).goal).toBeNull();
    for (const goal of ['0', '-5', '1.5', 'many'])
      await expect(setGoal(world.ctx, newsletter, { goal })).rejects.toMatchObject({ code: 'invalid' });
  });

  it('tells which sources bring people who stay, of those who came a month ago and before', async () => {
    const came = async (source: string, count: number, still: number) => {
      const ids = await joinedDaysAgo(
        Array.from({ length: count }, (_, n) => at(`${source}${n}`)),
        80,
      );
      await sql`update readers set source_name = ${source} where id = any(${ids}::uuid[])`.execute(world.ctx.db);
      await sql`update memberships set state = 'left' where reader_id = any(${ids.slice(still)}::uuid[])`.execute(world.ctx.db);
    };
    await came('search', 40, 38);
    await came('raffle', 40, 12);
    await came('few', 5, 5);
    await sql`delete from source_changes`.execute(world.ctx.db);
    await sql`insert into source_changes (newsletter_id, day, dimension, name, asked, confirmed, reading)
      select newsletter_id, created_on, 'source', source_name, count(*), count(*), count(*) filter (where standing = 'reading') from readers where source_name is not null group by 1, 2, 4`.execute(
      world.ctx.db,
    );
    const { staying } = await growthOf(world.ctx, newsletter, 28);
    expect(staying.map(({ name, confirmed, reading }) => [name, confirmed, reading])).toEqual([
      ['search', 40, 38],
      ['raffle', 40, 12],
    ]);
    expect(staying[0]!.stays.low).toBeGreaterThan(staying[1]!.stays.high);
  });

  it('keeps notes of days that have come, each with what it made of it, and no other newsletter’s', async () => {
    const today = dayNow();
    await addNote(world.ctx, newsletter, { day: today, words: 'A guest post' });
    for (const [raw, words] of [
      [{ day: '2099-01-01', words: 'x' }, /still to come/],
      [{ day: '2026-02-31', words: 'x' }, /no such day/],
      [{ day: 'soon', words: 'x' }, /./],
      [{ day: today, words: '' }, /./],
      [{ day: today, words: 'x'.repeat(201) }, /./],
    ] as const)
      await expect(addNote(world.ctx, newsletter, raw)).rejects.toMatchObject({
        code: 'invalid',
        sentence: expect.stringMatching(words),
      });
    const { notes } = await growthOf(world.ctx, newsletter, 28);
    expect(notes).toEqual([{ id: expect.any(String), day: today, words: 'A guest post', jump: null }]);
    const other = await world.newsletter('Another one');
    expect((await growthOf(world.ctx, other, 28)).notes).toEqual([]);
    await dropNote(world.ctx, other, notes[0]!.id);
    expect((await growthOf(world.ctx, newsletter, 28)).notes).toHaveLength(1);
    await dropNote(world.ctx, newsletter, notes[0]!.id);
    expect((await growthOf(world.ctx, newsletter, 28)).notes).toEqual([]);
  });
});

describe('a ramp-up', () => {
  it('is told beside its plan: what left each day, under the ceiling that came of what was said', async () => {
    const { domainId } = await world.sender(newsletter);
    const day = (n: number) => dayAfter(dayNow(), n);
    const ramp = { startedOn: day(-3), first: 100, days: 7, volume: 6_400 };
    for (const [n, delivered, complained] of [
      [-3, 100, 0],
      [-2, 190, 2],
      [-1, 100, 0],
    ] as const)
      await world.ctx.db
        .insertInto('domain_days')
        .values({ domain_id: domainId, day: day(n), planned: delivered, delivered, bounced: 1, complained })
        .execute();
    const done = await rampDone(world.ctx, newsletter, { id: domainId, ramp });
    expect(done.slice(0, 5).map(({ day: on, plan, ceiling, left, complained }) => [on, plan, ceiling, left, complained])).toEqual(
      [
        [day(-3), 100, 100, 101, 0],
        [day(-2), 200, 200, 191, 2],
        // Two of 190 complained: the step is undone.
        [day(-1), 400, 100, 101, 0],
        [day(0), 800, 200, 0, 0],
        [day(1), 1_600, 400, null, 0],
      ],
    );
    // What is ahead is what letters keep to.
    const ahead = await rampAhead(world.ctx.db, { id: domainId, ramp }, day(0));
    expect(ahead.slice(0, 2).map(({ day: on, ceiling }) => [on, ceiling])).toEqual(
      done.slice(3, 5).map((one) => [one.day, one.ceiling]),
    );
    expect(done.at(-1)!.ceiling).toBe(6_400);
    expect(await rampDone(world.ctx, newsletter, { id: domainId, ramp: null })).toEqual([]);
  });
});

describe('from seen to reading', () => {
  it('names a provider at which few confirm, and counts who was held back, in the days that are looked at', async () => {
    const form = await world.newForm(newsletter);
    for (const [provider, confirmed] of [
      ['heronmail', 40],
      ['kestrel', 10],
    ] as const) {
      const ids = await world.readers(
        newsletter,
        Array.from({ length: 50 }, (_, n) => at(`p${n}`, provider)),
        { source_form_id: form.id },
      );
      await sql`update memberships set state = 'waiting' where reader_id = any(${ids}::uuid[])`.execute(world.ctx.db);
      await sql`update readers set confirmed = id = any(${ids.slice(0, confirmed)}::uuid[]) where id = any(${ids}::uuid[])`.execute(
        world.ctx.db,
      );
    }
    await sql`insert into held_back (form_id, newsletter_id, address_key, address, reason, sent, network, agent, at)
      values (${form.id}::uuid, ${newsletter.id}::uuid, 'x@heronmail.example', 'x@heronmail.example', 'quick', '{}', '192.0.2.1', '', ${world.clock.now()})`.execute(
      world.ctx.db,
    );
    // They have had no time yet.
    expect(await funnelOf(world.ctx, newsletter, 28)).toMatchObject({ junk: [], held: 1 });
    world.clock.advance(2 * DAY);
    expect(await funnelOf(world.ctx, newsletter, 28)).toMatchObject({ junk: [{ name: 'kestrel.example' }], held: 1 });
    const yesterday = new Date(world.clock.now().getTime() - DAY).toISOString().slice(0, 10);
    expect(await funnelOf(world.ctx, newsletter, { from: yesterday, to: yesterday })).toMatchObject({ junk: [], held: 0 });
  });

  it('tells each step of those who came by a form, and where those stand who have not confirmed', async () => {
    const form = await world.newForm(newsletter);
    const live = (await publicForm(world.ctx, form.publicId))!;
    world.mail.answers.set(at('gone'), [550, '5.1.1 No such mailbox']);
    for (const name of ['gone', 'slow', 'mara', 'nils', 'tove'])
      await world.signUps.join(
        live,
        { email: at(name) },
        { network: `198.51.100.${name.length + name.charCodeAt(0)}`, agent: '' },
      );
    await world.work();
    for (const name of ['mara', 'nils'])
      await confirm(world.ctx, (await world.linkIn(at(name), '/confirm/')).split('/').at(-1)!, {
        network: '',
        agent: 'A browser',
      });
    const { senderId } = await world.sender(newsletter);
    await world.letter(newsletter, senderId);
    await world.work();
    await sql`update readers set last_read_at = ${world.clock.now()} where address = ${at('mara')}`.execute(world.ctx.db);
    const found = await funnelOf(world.ctx, newsletter, 28);
    expect(found.steps).toMatchObject({ asked: 5, confirmed: 2 });
    expect(found.lost.of).toBe(3);
    expect(Object.fromEntries(found.lost.why.map(({ why, n }) => [why, n]))).toEqual({ bounced: 1, unused: 2 });
    expect(found.firstRead).toEqual({ of: 2, read: 1 });
    expect(found.stayed).toEqual({ of: 0, reading: 0 });
    expect(found).toMatchObject({ junk: [], held: 0 });
    world.clock.advance(40 * DAY);
    const later = await funnelOf(world.ctx, newsletter, 90);
    expect(Object.fromEntries(later.lost.why.map(({ why, n }) => [why, n]))).toEqual({ bounced: 1, expired: 2 });
    expect(later.stayed).toEqual({ of: 2, reading: 2 });
  });
});

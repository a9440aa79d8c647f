import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { MOST_BOXES } from '@/core/delivery/seeds';
import { addSeedBox, dropSeedBox, sayWhere, seedBoxes, seedTests, startSeedTest, triableLetters } from '@/server/delivery/seeds';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());

const ME = { name: 'Ottoline Vance' };
const BOXES = ['mine@heronmail.example', 'mine@kestrel.example', 'gone@fjordbox.example'];
const addAll = async () => {
  for (const address of BOXES) await addSeedBox(world.ctx, newsletter, address);
};

describe('a writer’s own boxes', () => {
  it('are added once, so many and no more, and taken away', async () => {
    await addAll();
    await addSeedBox(world.ctx, newsletter, ' mine@kestrel.example ');
    expect((await seedBoxes(world.ctx, newsletter)).map(({ address }) => address)).toEqual(BOXES);
    for (const typed of ['', 'nobody', 'a@b@c', null, { address: 'x' }])
      await expect(addSeedBox(world.ctx, newsletter, typed)).rejects.toMatchObject({ code: 'invalid' });
    // Pressed many times at once.
    await Promise.all(
      Array.from({ length: 20 }, (_, n) => addSeedBox(world.ctx, newsletter, `more${n}@heronmail.example`).catch(() => {})),
    );
    const boxes = await seedBoxes(world.ctx, newsletter);
    expect(boxes).toHaveLength(MOST_BOXES);
    const other = await world.newsletter('Another one');
    await dropSeedBox(world.ctx, other, boxes[0]!.id);
    expect(await seedBoxes(world.ctx, newsletter)).toHaveLength(MOST_BOXES);
    await dropSeedBox(world.ctx, newsletter, boxes[0]!.id);
    expect(await seedBoxes(world.ctx, newsletter)).toHaveLength(MOST_BOXES - 1);
  });

  it('get a letter as it stands, with what it is under it; nothing of it is counted; what became of each is told', async () => {
    const { senderId } = await world.sender(newsletter);
    const id = await world.letter(newsletter, senderId, {
      dueAt: new Date(world.clock.now().getTime() + 30 * DAY),
      nodes: [{ kind: 'paragraph', inline: [{ kind: 'text', text: 'Of the deep.' }] }],
    });
    await expect(startSeedTest(world.ctx, newsletter, ME, id)).rejects.toMatchObject({ code: 'conflict' });
    await addAll();
    world.mail.answers.set('gone@fjordbox.example', [550, '5.1.1 No such mailbox']);
    expect(await triableLetters(world.ctx, newsletter)).toMatchObject([{ id }]);
    const { said } = await startSeedTest(world.ctx, newsletter, ME, id);
    expect(said).toContain('3 boxes');
    expect((await seedTests(world.ctx, newsletter))[0]!.copies.map(({ mail }) => mail)).toEqual([
      'under way',
      'under way',
      'under way',
    ]);
    await world.work();
    const [test] = await seedTests(world.ctx, newsletter);
    expect(test!.copies).toEqual([
      { address: 'gone@fjordbox.example', mail: 'not taken', place: null },
      { address: 'mine@heronmail.example', mail: 'delivered', place: null },
      { address: 'mine@kestrel.example', mail: 'delivered', place: null },
    ]);
    const mail = await simpleParser(world.mail.to('mine@kestrel.example')[0]!.source);
    expect(mail.subject).toBe('Why the anglerfish waits');
    for (const part of [mail.text!, String(mail.html)])
      expect(part.indexOf('Of the deep.')).toBeLessThan(part.indexOf('A test of where this lands, asked for by Ottoline Vance'));
    expect(String(mail.html)).not.toContain('/e/o/');
    const events = await world.ctx.db.selectFrom('deliveries').select('id').execute();
    expect(events).toEqual([]);
    await sayWhere(world.ctx, newsletter, test!.id, 'mine@kestrel.example', 'junk');
    await sayWhere(world.ctx, newsletter, test!.id, 'mine@kestrel.example', 'inbox');
    expect((await seedTests(world.ctx, newsletter))[0]!.copies[2]!.place).toBe('inbox');
    for (const place of ['x', '', null])
      await expect(sayWhere(world.ctx, newsletter, test!.id, 'mine@kestrel.example', place)).rejects.toMatchObject({
        code: 'invalid',
      });
    const other = await world.newsletter('Another one');
    await expect(sayWhere(world.ctx, other, test!.id, 'mine@kestrel.example', 'junk')).rejects.toMatchObject({
      code: 'not-found',
    });
    expect(await seedTests(world.ctx, other)).toEqual([]);
    await expect(startSeedTest(world.ctx, other, ME, id)).rejects.toMatchObject({ code: 'conflict' });
    await addSeedBox(world.ctx, other, 'x@heronmail.example');
    await expect(startSeedTest(world.ctx, other, ME, id)).rejects.toMatchObject({ code: 'not-found' });
  });

  it('are tried no more than ten times a day, and nobody’s box is pelted', async () => {
    const { senderId } = await world.sender(newsletter);
    const id = await world.letter(newsletter, senderId, { dueAt: new Date(world.clock.now().getTime() + 30 * DAY) });
    await addSeedBox(world.ctx, newsletter, BOXES[0]);
    let refused = 0;
    for (let n = 0; n < 12; n += 1)
      await startSeedTest(world.ctx, newsletter, ME, id).catch((error) => {
        expect(error).toMatchObject({ code: 'too-many' });
        refused += 1;
      });
    expect(refused).toBeGreaterThanOrEqual(2);
    expect((await seedTests(world.ctx, newsletter)).length).toBe(Math.min(10, 12 - refused));
  });
});

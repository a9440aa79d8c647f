import { mkdir, readdir, readFile, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { writeMarks } from '@/server/delivery/marks';
import { oldEventsDir, putAwayEvents } from '@/server/delivery/old-events';
import { deliveryOf } from '@/server/delivery/standing';
import { newId } from '@/server/ids';
import { recount } from '@/server/jobs/tick';
import { letterOf } from '@/server/sending/views';
import { eraseNewsletter } from '@/server/site/removing';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let letter: string;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  letter = await sent(newsletter);
});
afterEach(async () => {
  await rm(join(world.ctx.config.mediaDir, 'events'), { recursive: true, force: true });
  await world.close();
});

const copiesOf = (id: string) =>
  world.ctx.db
    .selectFrom('deliveries')
    .select(['id', 'sent_on', 'address'])
    .where('letter_id', '=', id)
    .orderBy('address')
    .execute();
const mark = async (id: string, n: number, kind: 'open' | 'click', method = 'GET') => {
  const copy = (await copiesOf(id))[n]!;
  await writeMarks(world.ctx, [
    {
      ref: { sentOn: copy.sent_on, id: BigInt(copy.id) as never },
      kind,
      at: world.clock.now(),
      agent: 'Mozilla/5.0 (X11; Linux x86_64) A browser',
      method,
      link: kind === 'click' ? 1 : null,
    },
  ]);
};
/** A letter to four people: one opens it twice, one follows a link, a machine asks for one. */
async function sent(of: typeof newsletter): Promise<string> {
  const { senderId } = await world.sender(of, `${of.id.slice(-6)}.example`);
  await world.readers(
    of,
    ['a', 'b', 'c', 'd'].map((name) => `${name}@heronmail.example`),
  );
  const id = await world.letter(of, senderId);
  await world.work();
  world.clock.advance(60_000);
  await mark(id, 0, 'open');
  await mark(id, 0, 'open');
  await mark(id, 1, 'click');
  await mark(id, 2, 'open', 'HEAD');
  return id;
}
const files = async (of = newsletter) => (await readdir(oldEventsDir(world.ctx, of.id)).catch(() => [])).sort();
const linesOf = async (name: string, of = newsletter) =>
  gunzipSync(await readFile(join(oldEventsDir(world.ctx, of.id), name)))
    .toString()
    .trim()
    .split('\r\n');
/** All that is due; answers which months. */
const allAway = async (): Promise<string[]> => {
  const month = await putAwayEvents(world.ctx);
  return month ? [month, ...(await allAway())] : [];
};
const events = () => world.ctx.db.selectFrom('events').select(['kind', 'machine']).orderBy('id').execute();

describe('old events', () => {
  it('stay for as many months as is configured, and then go into a file, with the screens as they were', async () => {
    const other = await world.newsletter('Another one');
    await sent(other);
    const before = {
      letter: await letterOf(world.ctx, newsletter, letter),
      delivery: (await deliveryOf(world.ctx, newsletter, 365)).standings,
    };
    // To the last day of the twenty-fifth month after it; and the day after.
    world.clock.advance(Date.parse('2028-12-31T23:00:00Z') - world.clock.now().getTime());
    expect(await allAway()).not.toContain('2026-11');
    world.clock.advance(2 * 3_600_000);
    expect(await allAway()).toEqual(['2026-11']);
    expect(await allAway()).toEqual([]);
    const lines = await linesOf('events-2026-11.csv.gz');
    expect(lines[0]).toBe('at,letter_id,kind,machine,why,link_position');
    expect(lines.slice(1).map((line) => line.split(',').slice(1).join())).toEqual([
      `${letter},open,false,,`,
      `${letter},open,false,,`,
      `${letter},click,false,,1`,
      `${letter},open,true,method,`,
    ]);
    expect(await linesOf('events-2026-11.csv.gz', other)).toHaveLength(5);
    // Nobody is named in it.
    const ids = (await world.ctx.db.selectFrom('readers').select('id').execute()).map(({ id }) => id);
    for (const id of ids) expect(lines.join()).not.toContain(id);
    expect(await events()).toEqual([
      { kind: 'click', machine: false },
      { kind: 'click', machine: false },
    ]);
    const after = await letterOf(world.ctx, newsletter, letter);
    expect(after.counts).toEqual(before.letter.counts);
    expect(after.links).toEqual(before.letter.links);
    world.clock.advance(Date.parse('2026-11-24T09:05:00Z') - world.clock.now().getTime());
    expect((await deliveryOf(world.ctx, newsletter, 365)).standings).toEqual(before.delivery);
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('that come late for a month in files are taken and counted as any', async () => {
    world.clock.advance(27 * 31 * DAY);
    await allAway();
    expect(await files()).toEqual(['events-2026-11.csv.gz']);
    await mark(letter, 3, 'open');
    await mark(letter, 3, 'click');
    expect((await letterOf(world.ctx, newsletter, letter)).counts).toMatchObject({ people: 3, clicked: 2 });
    // And the month is not written anew without what is in its file.
    await allAway();
    expect(await linesOf('events-2026-11.csv.gz')).toHaveLength(5);
  });

  it('are in a file before they are out of the database, whenever a process dies', async () => {
    world.clock.advance(27 * 31 * DAY);
    expect(await putAwayEvents(world.ctx)).toBe('2026-10');
    for (let statements = 0; ; statements += 1) {
      const died = await putAwayEvents(world.brokenAfter(statements)).then(
        () => false,
        () => true,
      );
      if ((await events()).length === 4)
        expect(
          (await world.ctx.db.selectFrom('event_months').selectAll().where('month', '=', '2026-11-01').execute()).length,
        ).toBe(0);
      else expect(await linesOf('events-2026-11.csv.gz')).toHaveLength(5);
      if (!died) break;
    }
    expect(await files()).toEqual(['events-2026-11.csv.gz']);
  });

  it('are written whole over what a process left half', async () => {
    world.clock.advance(27 * 31 * DAY);
    expect(await putAwayEvents(world.ctx)).toBe('2026-10');
    await mkdir(oldEventsDir(world.ctx, newsletter.id), { recursive: true });
    await writeFile(join(oldEventsDir(world.ctx, newsletter.id), 'events-2026-11.csv.gz.part'), 'half');
    const [first, second] = await Promise.all([putAwayEvents(world.ctx), putAwayEvents(world.ctx)]);
    expect([first, second].filter((one) => one === '2026-11')).toHaveLength(1);
    expect(await linesOf('events-2026-11.csv.gz')).toHaveLength(5);
    expect(await files()).toEqual(['events-2026-11.csv.gz']);
  });

  it('are put away by one of many who try at once, and never written over by what is left of them', async () => {
    world.clock.advance(27 * 31 * DAY);
    for (let round = 0; round < 4; round += 1) await Promise.all(Array.from({ length: 6 }, () => putAwayEvents(world.ctx)));
    expect(await linesOf('events-2026-11.csv.gz')).toHaveLength(5);
    const months = await world.ctx.db.selectFrom('event_months').select(['month', 'put_away', 'kept']).orderBy('month').execute();
    expect(months.filter(({ month }) => month === '2026-11-01')).toEqual([{ month: '2026-11-01', put_away: '4', kept: '1' }]);
  });

  it('of a newsletter that is deleted while they are written leave no file', async () => {
    world.clock.advance(27 * 31 * DAY);
    expect(await putAwayEvents(world.ctx)).toBe('2026-10');
    // Its rows are gone, and its events are still seen by whoever began before.
    await world.ctx.db.updateTable('events').set({ newsletter_id: newId() }).execute();
    expect(await putAwayEvents(world.ctx)).toBe('2026-11');
    expect(await readdir(join(world.ctx.config.mediaDir, 'events'))).toEqual([]);
  });

  it('go with their newsletter', async () => {
    world.clock.advance(27 * 31 * DAY);
    await allAway();
    expect(await files()).toHaveLength(1);
    await world.ctx.db
      .updateTable('newsletters')
      .set({ closing_at: world.clock.now() })
      .where('id', '=', newsletter.id)
      .execute();
    await eraseNewsletter(world.ctx, newsletter.id);
    expect(await files()).toEqual([]);
  });
});

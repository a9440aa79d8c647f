import { sql } from 'kysely';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Condition } from '@/core/readers/condition';
import { EVERYONE, ORDERS, type Order } from '@/core/readers/view';
import { keepAnswers } from '@/server/forms/fields';
import { newId } from '@/server/ids';
import { facetsOf, howMany, type TableRow, tablePage } from '@/server/readers/table';
import { TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  await world.readers(
    newsletter,
    Array.from({ length: 130 }, (_, n) => `${['wren', 'mara', 'a%b', 'a_b'][n % 4]}${(n * 37) % 130}@heronmail.example`),
  );
  // Many of one moment and of one warmth, to the microsecond apart, and in no order that a table is written in.
  await sql`update readers set created_at = ${world.clock.now()}::timestamptz - make_interval(secs => (hashtext(address) % 9) * 0.000001), warmth = hashtext(address) % 5 - 1 + 4`.execute(
    world.ctx.db,
  );
  await sql`analyze readers`.execute(world.ctx.db);
});
afterAll(() => world.close());

const page = (order: Order, find = '', before?: string, condition: Condition = EVERYONE) =>
  tablePage(world.ctx, newsletter, { find, condition }, order, before);
async function all(order: Order, find = ''): Promise<TableRow[]> {
  const rows: TableRow[] = [];
  for (let before: string | null | undefined; before !== null; ) {
    const next = await page(order, find, before);
    rows.push(...next.rows);
    before = next.next;
  }
  return rows;
}

describe('the table of readers', () => {
  it.each(ORDERS)('walked page by page in the order “%s” has everyone once, as the database sorts them', async (order) => {
    const by = {
      newest: 'created_at desc, id desc',
      oldest: 'created_at, id',
      address: 'address_key, id',
      warmest: 'warmth desc, id desc',
      coldest: 'warmth, id',
    };
    const { rows } = await sql<{ id: string }>`select id from readers order by ${sql.raw(by[order])}`.execute(world.ctx.db);
    const ids = rows.map((row) => row.id);
    expect((await all(order)).map((row) => row.id)).toEqual(ids);
    // Whichever way the database goes about it.
    const { db } = world.ctx;
    await db.transaction().execute(async (trx) => {
      await sql`set local enable_indexscan = off`.execute(trx);
      await sql`set local enable_bitmapscan = off`.execute(trx);
      const sorted = await tablePage({ ...world.ctx, db: trx }, newsletter, { find: '', condition: EVERYONE }, order);
      expect(sorted.rows.map((row) => row.id)).toEqual(ids.slice(0, 50));
    });
  });

  it('finds letters anywhere in address, name and answers, as they are and not as patterns', async () => {
    const { rows } = await sql<{ id: string }>`select id from readers where address like 'mara%' order by id limit 2`.execute(
      world.ctx.db,
    );
    await sql`update readers set first_name = 'Ümit', name_key = 'ümit' where id = ${rows[0]!.id}`.execute(world.ctx.db);
    const field = newId();
    await world.ctx.db
      .insertInto('fields')
      .values({
        id: field,
        newsletter_id: newsletter.id,
        key: 'boat',
        label: 'Boat',
        kind: 'text',
        options: '[]',
        created_at: world.clock.now(),
      })
      .execute();
    await keepAnswers(world.ctx, world.ctx.db, [
      { newsletterId: newsletter.id, readerId: rows[1]!.id, answers: { boat: 'Skiff “Lamp”' } },
    ]);
    for (const [find, wanted] of [
      ['ÜMI', 1],
      ['skiff', 1],
      ['wren', 33],
      ['a%b', 32],
      ['a_b', 32],
      ['%%%', 0],
      ['wr', 33],
      ['ren', 33],
      ['  ', 130],
      ['nobody', 0],
    ] as const) {
      expect([
        find,
        (await all('newest', find)).length,
        await howMany(world.ctx, newsletter, { find, condition: EVERYONE }),
      ]).toEqual([find, wanted, wanted]);
    }
  });

  it('begins anew where the place in it was tampered with, and is nobody else’s', async () => {
    const first = (await page('newest')).rows.map((row) => row.id);
    const place = (...parts: unknown[]) => Buffer.from(JSON.stringify(parts)).toString('base64url');
    for (const before of [
      '',
      'x',
      place('newest', '---', newId()),
      place('newest', "2026' or true", newId()),
      place('coldest', '1', newId()),
      place('newest', '2026-13-45 99:99+00', newId()),
      place('newest', 'a\0', 'b'),
    ])
      expect((await page('newest', '', before)).rows.map((row) => row.id)).toEqual(first);
    const stranger = await world.newsletter('A stranger');
    expect(await tablePage(world.ctx, stranger, { find: '', condition: EVERYONE }, 'newest')).toEqual({
      rows: [],
      next: null,
      missing: [],
    });
    expect((await facetsOf(world.ctx, stranger)).sources).toEqual([]);
  });
});

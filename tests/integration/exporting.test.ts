import fc from 'fast-check';
import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { ExportColumn } from '@/core/exporting';
import { csvRow } from '@/core/importing/rows';
import { EVERYONE } from '@/core/readers/view';
import { jobs } from '@/server/jobs/jobs';
import { suppressReaders } from '@/server/keeping/acts';
import { changeReader } from '@/server/keeping/profile';
import { dropExport, exportFile, exportsOf, portion, startExport, stopExport, workExport } from '@/server/transfer/exports';
import { beginImport, bringIn, importPage, lookThrough } from '@/server/transfer/imports';
import { workImport } from '@/server/transfer/work';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
const WRITER = { name: 'Ottoline Vance', email: 'ottoline@postbird.example' };
const BY = { actor: 'member' as const, name: 'Ottoline Vance' };
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());

const everybody = { condition: EVERYONE, find: '' };
const begin = async (kind: 'csv' | 'json lines', columns: ExportColumn[], whom: unknown = everybody) =>
  (await startExport(world.ctx, newsletter, WRITER, { kind, columns, whom })).id;
async function text(id: string, from = 0): Promise<string> {
  const chunks: Uint8Array[] = [];
  for await (const chunk of (await exportFile(world.ctx, newsletter, id, from)).bytes) chunks.push(chunk);
  return Buffer.concat(chunks).toString('utf8');
}
/** Very many readers at once, without what is counted of them. */
const many = (n: number) =>
  sql`insert into readers (id, newsletter_id, address, address_key, created_at) select gen_random_uuid(), ${newsletter.id}, 'p' || g || '@heronmail.example', 'p' || g || '@heronmail.example', now() from generate_series(1, ${n}) g`.execute(
    world.ctx.db,
  );

describe('an export', () => {
  it('writes the chosen columns of whoever fits, says when it is ready by mail, and brings them back by an import', async () => {
    const [ada, bo, cy] = (await world.readers(newsletter, [
      'ada@heronmail.example',
      'bo@heronmail.example',
      'cy@heronmail.example',
    ])) as [string, string, string];
    await changeReader(world.ctx, newsletter, ada, { firstName: '=Ada, “the first”', note: 'two\nlines' });
    await world.ctx.db
      .insertInto('reader_tags')
      .values({ reader_id: bo, newsletter_id: newsletter.id, tag: 'diver', at: world.clock.now() })
      .execute();
    await suppressReaders(world.ctx, world.ctx.db, newsletter, [cy], BY);
    const id = await begin('csv', ['address', 'first name', 'state', 'lists', 'tags', 'note']);
    await world.work();
    const file = await text(id);
    const { name } = await exportFile(world.ctx, newsletter, id);
    expect(name).toBe(`${newsletter.slug}-readers-2026-11-24.csv`);
    expect(file).toBe(
      [
        '\ufeffEmail,First name,State,Lists,Tags,Note',
        `ada@heronmail.example,"'=Ada, “the first”",reading,Everyone,,"two\nlines"`,
        'bo@heronmail.example,,reading,Everyone,diver,',
        'cy@heronmail.example,,left,Everyone,,',
        '',
      ].join('\r\n'),
    );
    const mail = world.mail.to(WRITER.email)[0]!.source;
    expect(mail).toContain('3 readers of Lanternfish Letters, as a file');
    // The same file, into another newsletter.
    const other = await world.newsletter('Harbour Notes');
    async function* stream() {
      yield Buffer.from(file);
    }
    const brought = (await beginImport(world.ctx, other, WRITER, name, stream())).id;
    const { columns } = await importPage(world.ctx, other, brought);
    const list = await world.list(other);
    await lookThrough(world.ctx, other, brought, {
      ...Object.fromEntries(columns.map((column, at) => [`part ${at}`, column.part])),
      listId: list,
    });
    await workImport(world.ctx, brought);
    await bringIn(world.ctx, other, brought, { how: 'vouched', said: 'They read my other letters.' });
    await workImport(world.ctx, brought);
    expect((await importPage(world.ctx, other, brought)).result).toEqual({ new: 2, ends: 1 });
    const there = await world.ctx.db
      .selectFrom('readers')
      .select(['address', 'first_name', 'note'])
      .where('newsletter_id', '=', other.id)
      .orderBy('address')
      .execute();
    expect(there).toEqual([
      { address: 'ada@heronmail.example', first_name: '=Ada, “the first”', note: 'two\nlines' },
      { address: 'bo@heronmail.example', first_name: null, note: '' },
    ]);
  });

  it('makes JSON Lines with lists and tags as they are', async () => {
    await world.readers(newsletter, ['ada@heronmail.example']);
    const id = await begin('json lines', ['address', 'lists', 'tags', 'warmth', 'letters']);
    await workExport(world.ctx, id);
    const [line] = (await text(id))
      .trim()
      .split('\n')
      .map((one) => JSON.parse(one));
    expect(line).toMatchObject({
      Email: 'ada@heronmail.example',
      Lists: [{ name: 'Everyone', state: 'reading' }],
      Tags: [],
      Warmth: null,
      'Letters got': 0,
    });
  });

  it('writes cells by the same rule in the database and in core', async () => {
    await fc.assert(
      fc.asyncProperty(fc.string({ unit: 'grapheme', maxLength: 12 }), async (cell) => {
        const said = cell.replaceAll('\0', '');
        const { rows } = await sql<{ cell: string }>`select csv_cell(${said}) as cell`.execute(world.ctx.db);
        const core = csvRow([said]).slice(0, -2);
        // Either may put quotes around more than it has to.
        expect([core, `"${core}"`]).toContain(rows[0]!.cell);
      }),
      { examples: [['=1+1'], ['"a"'], ['a,b'], ['-'], ['@x'], ['\t'], [' a '], ['a\nb']] },
    );
  });

  it('goes on behind the last reader that stands in it after a worker died, and three workers write nobody twice', async () => {
    await many(45_000);
    const id = await begin('csv', ['address']);
    for (let n = 0; n < 2; n += 1) {
      await world.ctx.db
        .transaction()
        .execute(async (trx) => {
          await portion(world.ctx, trx, id);
          throw new Error('killed');
        })
        .catch(() => undefined);
      await world.ctx.db.transaction().execute((trx) => portion(world.ctx, trx, id));
    }
    await Promise.all([workExport(world.ctx, id), workExport(world.ctx, id), workExport(world.ctx, id)]);
    const lines = (await text(id)).trim().split('\r\n').slice(1);
    expect([lines.length, new Set(lines).size]).toEqual([45_000, 45_000]);
    expect((await world.ctx.db.selectFrom('mails').select('id').where('kind', '=', 'file').execute()).length).toBe(1);
    // What broke off goes on from where it stood.
    const whole = await text(id);
    expect(await text(id, 400_000)).toBe(Buffer.from(whole).subarray(400_000).toString());
  });

  it('is of whoever is chosen, or fits; an empty one has its head', async () => {
    const [ada] = await world.readers(newsletter, ['ada@heronmail.example', 'bo@heronmail.example']);
    const one = await begin('csv', ['address'], { ids: [ada] });
    const none = await begin('csv', ['address'], { condition: { kind: 'tag', tag: 'nobody has it' }, find: '' });
    await workExport(world.ctx, one);
    await workExport(world.ctx, none);
    expect([await text(one), await text(none)]).toEqual(['\ufeffEmail\r\nada@heronmail.example\r\n', '\ufeffEmail\r\n']);
  });

  it('leaves room for letters: two long works at once in one worker, and a third waits for the next look', async () => {
    await many(3);
    await world.readers(newsletter, ['zoe@heronmail.example']);
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId);
    const ids = [await begin('csv', ['address']), await begin('csv', ['address']), await begin('csv', ['address'])];
    const tasks = jobs(world.ctx);
    const states = async () =>
      (await world.ctx.db.selectFrom('exports').select('state').orderBy('began_at').orderBy('id').execute()).map(
        (row) => row.state,
      );
    // Two of them cannot go on for now.
    await world.ctx.db.transaction().execute(async (trx) => {
      await sql`select id from exports where id = any(${ids.slice(0, 2)}::uuid[]) for update`.execute(trx);
      const held = ids.slice(0, 2).map((id) => tasks.export({ id }, undefined as never));
      await tasks.export({ id: ids[2] }, undefined as never);
      await tasks['start-letter']({ id: letter }, undefined as never);
      const { state } = await world.ctx.db
        .selectFrom('letters')
        .select('state')
        .where('id', '=', letter)
        .executeTakeFirstOrThrow();
      expect(['waiting', state]).toEqual([(await states())[2], 'sending']);
      void Promise.all(held);
    });
    await world.work();
    expect(await states()).toEqual(['done', 'done', 'done']);
  });

  it('is stopped, thrown away, forgotten after its days, and nobody else’s', async () => {
    await many(3);
    const stopped = await begin('csv', ['address']);
    await stopExport(world.ctx, newsletter, stopped);
    await workExport(world.ctx, stopped);
    await expect(text(stopped)).rejects.toMatchObject({ code: 'not-found' });
    const other = await world.newsletter('Harbour Notes');
    const id = await begin('csv', ['address']);
    await workExport(world.ctx, id);
    await expect(exportFile(world.ctx, other, id)).rejects.toMatchObject({ code: 'not-found' });
    await dropExport(world.ctx, other, id);
    expect(await text(id)).toContain('p1@');
    world.clock.advance(8 * DAY);
    await expect(text(id)).rejects.toMatchObject({ code: 'expired' });
    await world.work();
    expect(await exportsOf(world.ctx, newsletter)).toEqual([]);
    expect(await world.ctx.db.selectFrom('kept_parts').select('n').execute()).toEqual([]);
  });

  it.each<[string, unknown]>([
    ['no columns', { kind: 'csv', columns: [], whom: everybody }],
    ['an unknown column', { kind: 'csv', columns: ['password'], whom: everybody }],
    ['a field of nobody', { kind: 'csv', columns: ['field 00000000-0000-0000-0000-000000000000'], whom: everybody }],
    ['an unknown form', { kind: 'xlsx', columns: ['address'], whom: everybody }],
  ])('refuses %s', async (_, raw) => {
    await expect(startExport(world.ctx, newsletter, WRITER, raw)).rejects.toMatchObject({ code: 'invalid' });
  });
});

import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { BulkAct, BulkWhat, Whom } from '@/core/readers/bulk';
import { EVERYONE } from '@/core/readers/view';
import { leaveToken } from '@/core/sending/token';
import { inTransaction } from '@/server/db/connection';
import { confirm } from '@/server/forms/confirm';
import { publishForm } from '@/server/forms/forms';
import { newId } from '@/server/ids';
import { housekeeping, recount } from '@/server/jobs/tick';
import { addToList, allowReaders, suppressReaders, takeOffList } from '@/server/keeping/acts';
import { addPerson } from '@/server/keeping/adding';
import { bulksOf, onReader, startBulk, stopBulk, undoBulk, workBulk } from '@/server/keeping/bulk';
import { eraseReaders } from '@/server/keeping/erase';
import { changeReader, dataOf, resendConfirmation } from '@/server/keeping/profile';
import { readerProfile, totalsOf } from '@/server/readers/readers';
import { suppressedAmong } from '@/server/readers/suppressed';
import { tablePage } from '@/server/readers/table';
import { warmReaders } from '@/server/readers/warming';
import { leave } from '@/server/sending/leave';
import { startLetter } from '@/server/sending/start';
import { MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
const WRITER = { name: 'Ottoline Vance' };
const BY = { actor: 'member' as const, name: 'Ottoline Vance' };
const VOUCHED = { how: 'vouched' as const, said: 'They wrote their addresses on a card at the reading in May.' };
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());

const people = (n: number) =>
  world.readers(
    newsletter,
    Array.from({ length: n }, (_, k) => `r${k}@heronmail.example`),
  );
const begin = (act: BulkAct, what: BulkWhat, whom: Whom) => startBulk(world.ctx, newsletter, WRITER, { act, what, whom });
const all = { condition: EVERYONE, find: '' };
const bulk = async (id: string) => (await bulksOf(world.ctx, newsletter)).find((one) => one.id === id)!;
const tagged = async (tag: string) =>
  (await world.ctx.db.selectFrom('reader_tags').select('reader_id').where('tag', '=', tag).execute()).length;
const anotherList = async () => {
  const id = newId();
  await world.ctx.db
    .insertInto('lists')
    .values({
      id,
      newsletter_id: newsletter.id,
      name: 'Field notes',
      public_name: 'Field notes',
      position: 1,
      created_at: world.clock.now(),
    })
    .execute();
  return id;
};
const stateOn = async (reader: string, list: string) =>
  (
    await world.ctx.db
      .selectFrom('memberships')
      .select('state')
      .where('reader_id', '=', reader)
      .where('list_id', '=', list)
      .executeTakeFirst()
  )?.state;
const ledger = async (reader: string) =>
  world.ctx.db
    .selectFrom('consents')
    .select(['act', 'state', 'actor', 'actor_name', 'wording'])
    .where('reader_id', '=', reader)
    .orderBy('id')
    .execute();

describe('an act on many readers', () => {
  it('is done for whom it was meant when it began, says how far it is, and is taken back', async () => {
    const ids = await people(12);
    const { id } = await begin('tag', { tag: 'reef' }, { condition: EVERYONE, find: 'r1' });
    await world.work();
    expect(await bulk(id)).toMatchObject({ state: 'done', people: 3, done: 3, changed: 3, undo: true, by: 'Ottoline Vance' });
    await world.ctx.db
      .insertInto('reader_tags')
      .values({ reader_id: ids[5]!, newsletter_id: newsletter.id, tag: 'reef', at: world.clock.now() })
      .execute();
    const again = await begin('tag', { tag: 'reef' }, all);
    await world.work();
    expect(await bulk(again.id)).toMatchObject({ people: 12, done: 12, changed: 8 });
    await undoBulk(world.ctx, newsletter, again.id);
    await undoBulk(world.ctx, newsletter, again.id);
    await world.work();
    // Those who had it before keep it.
    expect([await bulk(again.id), await tagged('reef')]).toMatchObject([{ state: 'undone', changed: 0, undo: false }, 4]);
  });

  it('goes on where it stood after a crash, and two workers do nobody twice', async () => {
    await people(40);
    const { id } = await begin('suppress', {}, all);
    // As if portions were of ten.
    const ten = async () =>
      inTransaction(world.ctx.db, async (trx) => {
        const { n, reader_ids: ids } = await trx
          .selectFrom('bulk_people')
          .select(['n', 'reader_ids'])
          .where('act_id', '=', id)
          .where('changed_at', 'is', null)
          .orderBy('n')
          .limit(1)
          .executeTakeFirstOrThrow();
        await suppressReaders(world.ctx, trx, newsletter, ids, BY);
        await sql`update bulk_people set changed_ids = reader_ids, changed_at = ${world.clock.now()} where act_id = ${id} and n = ${n}`.execute(
          trx,
        );
        await sql`update bulk_acts set done = done + 10, changed = changed + 10, portions = portions + 1 where id = ${id}`.execute(
          trx,
        );
      });
    await sql`insert into bulk_people (act_id, n, reader_ids) select ${id}, n, array_agg(id) from (select id, (row_number() over (order by id) - 1) / 10 as n from readers) p group by n`.execute(
      world.ctx.db,
    );
    await sql`update bulk_acts set people = 40, state = 'working' where id = ${id}`.execute(world.ctx.db);
    await ten();
    // A portion that dies before its commit leaves nothing.
    await expect(
      world.ctx.db.transaction().execute(async (trx) => {
        await suppressReaders(
          world.ctx,
          trx,
          newsletter,
          (await trx.selectFrom('readers').select('id').execute()).map((row) => row.id),
          BY,
        );
        throw new Error('killed');
      }),
    ).rejects.toThrow('killed');
    await Promise.all([workBulk(world.ctx, id), workBulk(world.ctx, id), workBulk(world.ctx, id)]);
    expect(await bulk(id)).toMatchObject({ state: 'done', people: 40, done: 40, changed: 40 });
    const { rows } = await sql<{
      n: number;
    }>`select count(*)::int as n from consents where act = 'suppress' group by reader_id`.execute(world.ctx.db);
    expect(rows).toEqual(Array.from({ length: 40 }, () => ({ n: 1 })));
  });

  it('is stopped where it stands, pressed twice, and by nobody else; what it did is taken back', async () => {
    await people(5);
    const { id } = await begin('suppress', {}, all);
    const stranger = await world.newsletter('A stranger');
    await stopBulk(world.ctx, stranger, id);
    expect((await bulk(id)).state).toBe('waiting');
    await stopBulk(world.ctx, newsletter, id);
    await stopBulk(world.ctx, newsletter, id);
    await world.work();
    expect(await bulk(id)).toMatchObject({ state: 'stopped', people: null, done: 0, undo: false });
    await expect(undoBulk(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
    await expect(undoBulk(world.ctx, stranger, id)).rejects.toMatchObject({ code: 'not-found' });
    const mine = await begin(
      'suppress',
      {},
      { ids: (await tablePage(world.ctx, newsletter, { find: 'r0', condition: EVERYONE }, 'newest')).rows.map((row) => row.id) },
    );
    await world.work();
    expect((await totalsOf(world.ctx, newsletter)).unreachable).toBe(1);
    await undoBulk(world.ctx, newsletter, mine.id);
    await world.work();
    expect((await totalsOf(world.ctx, newsletter)).unreachable).toBe(0);
  });

  it('taken back, leaves alone who was given the same again since', async () => {
    const [ada, bela] = await people(2);
    const { id } = await begin('tag', { tag: 'reef' }, all);
    await world.work();
    world.clock.advance(MINUTE);
    await onReader(world.ctx, newsletter, WRITER, ada!, 'untag', { tag: 'reef' });
    await onReader(world.ctx, newsletter, WRITER, ada!, 'tag', { tag: 'reef' });
    await undoBulk(world.ctx, newsletter, id);
    await world.work();
    const { rows } = await sql<{ reader_id: string }>`select reader_id from reader_tags`.execute(world.ctx.db);
    expect(rows).toEqual([{ reader_id: ada }]);
    expect(bela).toBeDefined();
  });

  it('keeps no longer than needed whom it was for, nor how they were found', async () => {
    await people(2);
    const { id } = await begin('erase', {}, { condition: EVERYONE, find: 'r0@heronmail.example' });
    await world.work();
    expect(await bulk(id)).toMatchObject({ state: 'done', people: 1, done: 1, changed: 1, undo: false });
    expect((await sql`select 1 from bulk_people`.execute(world.ctx.db)).rows).toEqual([]);
    expect((await sql<{ whom: object }>`select whom from bulk_acts`.execute(world.ctx.db)).rows).toEqual([{ whom: { ids: [] } }]);
    const tagging = await begin('tag', { tag: 'reef' }, all);
    await world.work();
    world.clock.advance(8 * 24 * 60 * MINUTE);
    await housekeeping(world.ctx);
    expect(await bulksOf(world.ctx, newsletter)).toEqual([]);
    await expect(undoBulk(world.ctx, newsletter, tagging.id)).rejects.toMatchObject({ code: 'not-found' });
    expect((await sql`select 1 from bulk_people`.execute(world.ctx.db)).rows).toEqual([]);
  });

  it.each<[string, unknown]>([
    ['no people', { act: 'tag', what: { tag: 'a' }, whom: { ids: [] } }],
    ['an empty tag', { act: 'tag', what: { tag: ' ' }, whom: all }],
    ['a list of no id', { act: 'add', what: { listId: 'x', agreement: VOUCHED }, whom: all }],
    ['a vouching without a word', { act: 'add', what: { listId: newId(), agreement: { how: 'vouched', said: '' } }, whom: all }],
    ['a vouching of nothing at all', { act: 'add', what: { listId: newId(), agreement: { how: 'vouched' } }, whom: all }],
    ['a vouching in one word', { act: 'add', what: { listId: newId(), agreement: { how: 'vouched', said: 'yes' } }, whom: all }],
    ['another act', { act: 'bless', what: {}, whom: all }],
  ])('is refused with %s', async (_, raw) => {
    await expect(startBulk(world.ctx, newsletter, WRITER, raw)).rejects.toMatchObject({ code: 'invalid' });
  });

  it('whose list or newsletter is not theirs does nothing', async () => {
    await people(2);
    const stranger = await world.newsletter('A stranger');
    const theirs = await world.list(stranger);
    const { id } = await begin('add', { listId: theirs, agreement: VOUCHED }, all);
    // It is set aside with its reason, and stands in nobody's way.
    await world.work();
    expect(await bulk(id)).toMatchObject({ state: 'failed', cause: 'There is no such list any more.', done: 0, undo: false });
    expect((await sql`select 1 from memberships where list_id = ${theirs}`.execute(world.ctx.db)).rows).toEqual([]);
    const other = await startBulk(world.ctx, stranger, WRITER, {
      act: 'erase',
      whom: {
        ids: (await tablePage(world.ctx, newsletter, { find: '', condition: EVERYONE }, 'newest')).rows.map((row) => row.id),
      },
    });
    await workBulk(world.ctx, other.id);
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(2);
  });
});

describe('putting people on a list by hand', () => {
  it('has them read where the writer vouches, and keeps the words; else it asks them', async () => {
    const [ada, bela] = await people(2);
    const list = await anotherList();
    const { db } = world.ctx;
    expect(await addToList(world.ctx, db, newsletter, [ada!], { listId: list, agreement: VOUCHED, by: BY })).toEqual([ada]);
    expect(
      await addToList(world.ctx, db, newsletter, [ada!, bela!], { listId: list, agreement: { how: 'asked' }, by: BY }),
    ).toEqual([bela]);
    expect([await stateOn(ada!, list), await stateOn(bela!, list)]).toEqual(['reading', 'waiting']);
    expect((await ledger(ada!)).at(-1)).toEqual({
      act: 'add',
      state: 'reading',
      actor: 'member',
      actor_name: 'Ottoline Vance',
      wording: VOUCHED.said,
    });
    await world.work();
    expect(world.mail.to('r0@heronmail.example')).toHaveLength(0);
    const source = world.mail.to('r1@heronmail.example')[0]!.source.toString();
    expect(source).toContain('thinks that you =');
    expect(source).not.toContain('asked');
    expect(await stateOn(bela!, list)).toBe('waiting');
  });

  it('brings nobody back who left by themselves or is suppressed, and whom a member took off again', async () => {
    const [left, gone, taken] = await people(3);
    const list = await world.list(newsletter);
    const { db } = world.ctx;
    await leave(world.ctx, leaveToken({ readerId: left!, delivery: null }, 'leave', world.ctx.config.keys), {
      network: '198.51.100.1',
      agent: 'A browser',
    } as never);
    await suppressReaders(world.ctx, db, newsletter, [gone!], BY);
    await takeOffList(world.ctx, db, newsletter, [gone!, taken!], { listId: list, by: BY });
    expect(
      await addToList(world.ctx, db, newsletter, [left!, gone!, taken!], { listId: list, agreement: VOUCHED, by: BY }),
    ).toEqual([taken]);
    expect([await stateOn(left!, list), await stateOn(gone!, list), await stateOn(taken!, list)]).toEqual([
      'left',
      'left',
      'reading',
    ]);
  });

  it('taken back, it takes off whom it put there and who has not moved since', async () => {
    const [ada, bela] = await people(2);
    const list = await anotherList();
    const { id } = await begin('add', { listId: list, agreement: VOUCHED }, all);
    await world.work();
    world.clock.advance(MINUTE);
    await takeOffList(world.ctx, world.ctx.db, newsletter, [bela!], { listId: list, by: BY });
    await undoBulk(world.ctx, newsletter, id);
    await world.work();
    expect([await stateOn(ada!, list), await stateOn(bela!, list), (await bulk(id)).state]).toEqual(['left', 'left', 'undone']);
    const off = await begin('take off', { listId: await world.list(newsletter) }, all);
    await world.work();
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(0);
    await undoBulk(world.ctx, newsletter, off.id);
    await world.work();
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(2);
  });

  it('taken off and put back, nobody reads who had not confirmed, whatever they read long ago', async () => {
    const [ada] = await people(1);
    const list = await world.list(newsletter);
    const { db } = world.ctx;
    await takeOffList(world.ctx, db, newsletter, [ada!], { listId: list, by: BY });
    await addToList(world.ctx, db, newsletter, [ada!], { listId: list, agreement: { how: 'asked' }, by: BY });
    expect(await stateOn(ada!, list)).toBe('waiting');
    const { id } = await begin('take off', { listId: list }, all);
    await world.work();
    await undoBulk(world.ctx, newsletter, id);
    await world.work();
    expect([await stateOn(ada!, list), (await bulk(id)).state]).toEqual(['waiting', 'undone']);
  });

  it('who confirms is no sign-up of the sign-up page, and is greeted in the newsletter’s language', async () => {
    await world.ctx.db.updateTable('newsletters').set({ language: 'de' }).where('id', '=', newsletter.id).execute();
    const { id } = await addPerson(world.ctx, newsletter, WRITER, {
      address: 'ada@heronmail.example',
      listId: await world.list(newsletter),
      how: 'asked',
    });
    await world.work();
    const token = (await world.linkIn('ada@heronmail.example', '/e/confirm/')).split('/').at(-1)!;
    const said = await confirm(world.ctx, token, { network: '198.51.100.7', agent: 'A browser' });
    expect([said.done, said.language, await stateOn(id, await world.list(newsletter))]).toEqual([true, 'de', 'reading']);
    expect((await sql`select 1 from form_days where confirmed > 0`.execute(world.ctx.db)).rows).toEqual([]);
  });

  it('taken off a list, they do not get what was queued for them by it', async () => {
    const [ada] = await people(2);
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, letter);
    await takeOffList(world.ctx, world.ctx.db, newsletter, [ada!], { listId: await world.list(newsletter), by: BY });
    await world.work();
    expect([world.mail.to('r0@heronmail.example').length, world.mail.to('r1@heronmail.example').length]).toEqual([0, 1]);
  });
});

describe('the record of consent', () => {
  it('is only added to', async () => {
    const [ada] = await people(1);
    await takeOffList(world.ctx, world.ctx.db, newsletter, [ada!], { listId: await world.list(newsletter), by: BY });
    await expect(sql`update consents set act = 'confirm'`.execute(world.ctx.db)).rejects.toThrow('only added to');
    await expect(sql`delete from consents`.execute(world.ctx.db)).rejects.toThrow('only added to');
    await expect(sql`delete from readers where id = ${ada}`.execute(world.ctx.db)).resolves.toBeDefined();
    expect(await ledger(ada!)).toHaveLength(1);
  });
});

describe('adding one person', () => {
  const add = async (more: object) =>
    addPerson(world.ctx, newsletter, WRITER, {
      address: ' Ada@Heronmail.example ',
      listId: await world.list(newsletter),
      how: 'asked',
      ...more,
    });
  it('asks them, or takes the writer at their word, which is kept', async () => {
    const { id } = await add({ firstName: 'Ada' });
    expect([await stateOn(id, await world.list(newsletter)), (await ledger(id)).map((entry) => entry.act)]).toEqual([
      'waiting',
      ['add'],
    ]);
    await world.work();
    expect(world.mail.to('Ada@heronmail.example')).toHaveLength(1);
    const other = await add({ address: 'bela@heronmail.example', how: 'vouched', said: VOUCHED.said });
    expect([await stateOn(other.id, await world.list(newsletter)), (await ledger(other.id))[0]!.wording]).toEqual([
      'reading',
      VOUCHED.said,
    ]);
  });
  it.each<[string, object, string]>([
    ['what is no address', { address: 'ada' }, 'does not look like an email address'],
    ['vouching without a word', { how: 'vouched', said: '  ' }, 'Say in a sentence'],
    ['a list of somebody else', { listId: newId() }, 'no such list'],
  ])('refuses %s, and keeps nothing', async (_, more, sentence) => {
    await expect(add(more)).rejects.toMatchObject({ sentence: expect.stringContaining(sentence) });
    expect((await sql`select 1 from readers`.execute(world.ctx.db)).rows).toEqual([]);
  });
  it('refuses who is on the list, who left it, and who may not be written to', async () => {
    const [ada] = await people(1);
    const again = () => add({ address: 'R0@heronmail.example' });
    await expect(again()).rejects.toMatchObject({ code: 'conflict' });
    await leave(world.ctx, leaveToken({ readerId: ada!, delivery: null }, 'leave', world.ctx.config.keys), {
      network: '198.51.100.1',
      agent: 'A browser',
    });
    await expect(again()).rejects.toMatchObject({ sentence: expect.stringContaining('comes back only by their own act') });
    await inTransaction(world.ctx.db, (trx) => eraseReaders(world.ctx, trx, newsletter, [ada!], BY));
    await expect(again()).rejects.toMatchObject({ sentence: expect.stringContaining('erased at their wish') });
  });
});

describe('suppressing by hand', () => {
  it('stops everything at once, and allowing again lifts that and nothing that a bounce ended', async () => {
    const [ada, bela] = await people(2);
    const { db } = world.ctx;
    expect(await suppressReaders(world.ctx, db, newsletter, [ada!, ada!], BY)).toEqual([ada]);
    expect(await suppressReaders(world.ctx, db, newsletter, [ada!], BY)).toEqual([]);
    await sql`insert into suppressions (newsletter_id, address_key, reason, at) values (${newsletter.id}, 'r1@heronmail.example', 'hard bounce', now())`.execute(
      db,
    );
    await sql`update readers set address_state = 'suppressed' where id = ${bela}`.execute(db);
    expect(await allowReaders(world.ctx, db, newsletter, [ada!, bela!], BY)).toEqual([ada]);
    expect(await totalsOf(world.ctx, newsletter)).toMatchObject({ reading: 1, unreachable: 1 });
    expect((await ledger(ada!)).map((entry) => entry.act)).toEqual(['suppress', 'allow']);
  });
});

describe('erasing readers', () => {
  it('leaves letters’ figures, a record that leads to nobody, and a hash that no import gets past; nothing else names them', async () => {
    const ids = await people(3);
    const { db } = world.ctx;
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, letter);
    await world.work();
    const waiting = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, waiting);
    const [erased] = ids;
    await db
      .updateTable('readers')
      .set({ first_name: 'Zebulon', name_key: 'zebulon', note: 'Zebulon is kind' })
      .where('id', '=', erased!)
      .execute();
    await sql`insert into reports (kind, to_local, received_at, bytes) values ('complaint', 'x', now(), convert_to('To: r0@heronmail.example', 'UTF8'))`.execute(
      db,
    );
    await suppressReaders(world.ctx, db, newsletter, [erased!], BY);
    await allowReaders(world.ctx, db, newsletter, [erased!], BY);
    await recount(world.ctx, newsletter);
    expect(await inTransaction(db, (trx) => eraseReaders(world.ctx, trx, newsletter, [erased!, newId()], BY))).toEqual([erased]);
    expect(await inTransaction(db, (trx) => eraseReaders(world.ctx, trx, newsletter, [erased!], BY))).toEqual([]);
    await world.work();
    expect(world.mail.to('r0@heronmail.example')).toHaveLength(1);

    const names = ['r0@heronmail.example', 'zebulon', erased!];
    const { rows: tables } = await sql<{ name: string }>`
      select quote_ident(schemaname) || '.' || quote_ident(tablename) as name from pg_tables where schemaname in ('public', 'rehearsal', 'graphile_worker')`.execute(
      db,
    );
    const found: string[] = [];
    for (const { name } of tables) {
      const { rows } = await sql<{ text: string }>`select t::text as text from ${sql.raw(name)} t`.execute(db);
      // Bytes are written in hexadecimal there.
      const readable = rows.map(({ text }) =>
        text.replace(/\\\\x((?:[0-9a-f]{2})+)/g, (_, hex: string) => Buffer.from(hex, 'hex').toString('latin1')).toLowerCase(),
      );
      if (readable.some((text) => names.some((one) => text.includes(one)))) found.push(name);
    }
    // Brakes on how often an address is written to run out by themselves within a day.
    expect(found.filter((name) => name !== 'public.rate_limits')).toEqual([]);

    const { rows: proofs } = await sql<{
      act: string;
      actor_name: string;
      reader_id: string;
    }>`select act, actor_name, reader_id from consents order by id`.execute(db);
    expect(proofs.map((row) => row.act)).toEqual(['suppress', 'allow', 'erase']);
    expect(new Set(proofs.map((row) => row.reader_id)).size).toBe(1);
    expect(await suppressedAmong(world.ctx, db, newsletter.id, ['r0@heronmail.example', 'r1@heronmail.example'])).toEqual(
      new Map([['r0@heronmail.example', 'erased']]),
    );
    // The figures hold, growth tells of who read until today, and the nightly check finds nothing to mend.
    expect((await sql`select left_count from daily_counts where left_count > 0`.execute(db)).rows).toEqual([{ left_count: 1 }]);
    expect(await totalsOf(world.ctx, newsletter)).toMatchObject({ reading: 2, left: 0 });
    await sql`update newsletters set recounted_at = null`.execute(db);
    const mended = await sql<{
      n: number;
    }>`select recount_people(${newsletter.id}) + recount_sources(${newsletter.id}) as n`.execute(db);
    expect(mended.rows[0]!.n).toBe(0);
  });

  it('writes nothing on the newsletter’s row after the first time: its forms would be read anew at each', async () => {
    const [ada, bela] = await people(2);
    const { db } = world.ctx;
    const version = async () =>
      (await sql<{ xmin: string }>`select xmin::text as xmin from newsletters where id = ${newsletter.id}`.execute(db)).rows[0]!
        .xmin;
    await inTransaction(db, (trx) => eraseReaders(world.ctx, trx, newsletter, [ada!], BY));
    const before = await version();
    await inTransaction(db, (trx) => eraseReaders(world.ctx, trx, newsletter, [bela!], BY));
    await suppressedAmong(world.ctx, db, newsletter.id, ['r0@heronmail.example']);
    await warmReaders(world.ctx, newsletter.id);
    expect(await version()).toBe(before);
  });

  it('a key that was changed still knows whom it erased, and who comes by themselves is let in again', async () => {
    const [ada] = await people(1);
    const { db } = world.ctx;
    await inTransaction(db, (trx) => eraseReaders(world.ctx, trx, newsletter, [ada!], BY));
    const stranger = await world.newsletter('A stranger');
    expect(await suppressedAmong(world.ctx, db, stranger.id, ['r0@heronmail.example'])).toEqual(new Map());
    const visitor = { network: '198.51.100.7', agent: 'A browser' };
    await world.signUps.join(await world.form(newsletter), { email: 'r0@heronmail.example' }, visitor);
    await world.work();
    const token = (await world.linkIn('r0@heronmail.example', '/e/confirm/')).split('/').at(-1)!;
    await confirm(world.ctx, token, visitor);
    expect(await suppressedAmong(world.ctx, db, newsletter.id, ['r0@heronmail.example'])).toEqual(new Map());
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(1);
  });
});

describe('one reader', () => {
  it('is changed where they stand: name, note and answers by their kinds, each fault at its field', async () => {
    const [ada] = await people(1);
    const { db } = world.ctx;
    const fields: Record<string, string> = {};
    for (const [key, kind, options] of [
      ['depth', 'number', []],
      ['likes', 'several choices', ['squid', 'lamp']],
    ] as const) {
      const id = newId();
      fields[key] = `field ${id}`;
      await db
        .insertInto('fields')
        .values({
          id,
          newsletter_id: newsletter.id,
          key,
          label: key,
          kind,
          options: JSON.stringify(options),
          created_at: world.clock.now(),
        })
        .execute();
    }
    const change = (raw: Record<string, string>) =>
      changeReader(world.ctx, newsletter, ada!, { firstName: 'Zoë', note: 'Kind', ...raw });
    await change({ [fields.depth!]: '600,5', [fields.likes!]: 'squid\nlamp' });
    const profile = async () => readerProfile(world.ctx, newsletter, ada!);
    expect(await profile()).toMatchObject({
      firstName: 'Zoë',
      note: 'Kind',
      answers: [{ value: 600.5 }, { value: ['squid', 'lamp'] }],
    });
    await expect(change({ [fields.depth!]: 'deep', [fields.likes!]: 'whale' })).rejects.toMatchObject({
      value: { fields: { [fields.depth!]: 'Please type a number.', [fields.likes!]: 'Please choose one of these.' } },
    });
    expect((await profile()).answers[0]!.value).toBe(600.5);
    await change({ firstName: '', [fields.depth!]: '' });
    expect(await profile()).toMatchObject({ firstName: null, answers: [{ value: null }, { value: ['squid', 'lamp'] }] });
    await expect(changeReader(world.ctx, await world.newsletter('A stranger'), ada!, {})).rejects.toMatchObject({
      code: 'not-found',
    });
  });

  it('is tagged, put on lists, suppressed and erased, or it is said why not, by nobody but their own newsletter', async () => {
    const [ada] = await people(1);
    const list = await anotherList();
    const act = (kind: string, raw = {}) => onReader(world.ctx, newsletter, WRITER, ada!, kind, raw);
    await act('tag', { tag: 'reef' });
    await expect(act('tag', { tag: 'reef' })).rejects.toMatchObject({ sentence: 'They have this tag already.' });
    await act('add', { listId: list, how: 'vouched', said: VOUCHED.said });
    await expect(act('add', { listId: list, how: 'asked' })).rejects.toMatchObject({ code: 'conflict' });
    await act('take off', { listId: list });
    await expect(act('allow')).rejects.toMatchObject({ code: 'conflict' });
    await act('suppress');
    await act('allow');
    await expect(act('bless')).rejects.toMatchObject({ code: 'invalid' });
    await expect(onReader(world.ctx, await world.newsletter('A stranger'), WRITER, ada!, 'erase', {})).rejects.toMatchObject({
      code: 'not-found',
    });
    const told = (await readerProfile(world.ctx, newsletter, ada!)).history.map((entry) => entry.text);
    for (const text of [
      'Allowed again by Ottoline Vance',
      'Suppressed by Ottoline Vance',
      'Taken off Field notes by Ottoline Vance',
      'Put on Field notes by Ottoline Vance',
    ])
      expect(told).toContain(text);
    await act('erase');
    await expect(readerProfile(world.ctx, newsletter, ada!)).rejects.toMatchObject({ code: 'not-found' });
  });

  it('who waits is asked again, three times a day at most; who does not, is not', async () => {
    const [ada] = await people(1);
    const again = (id: string) => resendConfirmation(world.ctx, newsletter, id);
    await expect(again(ada!)).rejects.toMatchObject({ sentence: 'They are not waiting for a confirmation.' });
    const { id } = await addPerson(world.ctx, newsletter, WRITER, {
      address: 'bela@heronmail.example',
      listId: await world.list(newsletter),
      how: 'asked',
    });
    await again(id);
    await again(id);
    await expect(again(id)).rejects.toMatchObject({ sentence: expect.stringContaining('three confirmation letters today') });
    await world.work();
    expect(world.mail.to('bela@heronmail.example')).toHaveLength(3);
    await suppressReaders(world.ctx, world.ctx.db, newsletter, [id], BY);
    await expect(again(id)).rejects.toMatchObject({ sentence: expect.stringContaining('is suppressed') });
  });

  it('who asked by a form is told so again, and still counts for it', async () => {
    const visitor = { network: '198.51.100.7', agent: 'A browser' };
    const form = await world.newForm(newsletter);
    await publishForm(world.ctx, newsletter, form.id);
    await world.signUps.join((await world.signUps.form(form.publicId))!, { email: 'bela@heronmail.example' }, visitor);
    await world.work();
    const { rows } = await sql<{ id: string }>`select id from readers where address = 'bela@heronmail.example'`.execute(
      world.ctx.db,
    );
    await resendConfirmation(world.ctx, newsletter, rows[0]!.id);
    await world.work();
    const sources = world.mail.to('bela@heronmail.example').map((mail) =>
      mail.source
        .toString()
        .replace(/=\r?\n/g, '')
        .replace(/\s+/g, ' '),
    );
    expect(sources).toHaveLength(2);
    for (const source of sources) expect(source).toContain('was typed into a sign-up form');
    const token = (await world.linkIn('bela@heronmail.example', '/e/confirm/')).split('/').at(-1)!;
    await confirm(world.ctx, token, visitor);
    expect((await sql`select form_id from form_days where confirmed = 1`.execute(world.ctx.db)).rows).toEqual([
      { form_id: form.id },
    ]);
  });

  it('has all that is kept of them as data', async () => {
    const [ada] = await people(1);
    const { senderId } = await world.sender(newsletter);
    await startLetter(world.ctx, await world.letter(newsletter, senderId));
    await world.work();
    await onReader(world.ctx, newsletter, WRITER, ada!, 'tag', { tag: 'reef' });
    const data = JSON.parse(JSON.stringify(await dataOf(world.ctx, newsletter, ada!)));
    expect(data).toMatchObject({
      newsletter: 'Lanternfish Letters',
      reader: { address: 'r0@heronmail.example', letters_got: 1 },
      lists: [{ state: 'reading' }],
      tags: [{ tag: 'reef' }],
      letters: [{ state: 'delivered', subject: 'Why the anglerfish waits' }],
    });
    await expect(dataOf(world.ctx, await world.newsletter('A stranger'), ada!)).rejects.toMatchObject({ code: 'not-found' });
  });
});

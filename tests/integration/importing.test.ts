import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { csvRow } from '@/core/importing/rows';
import { folded, holds } from '@/core/readers/condition';
import { EVERYONE } from '@/core/readers/view';
import { confirm } from '@/server/forms/confirm';
import { newId } from '@/server/ids';
import { recount } from '@/server/jobs/tick';
import { addToList, suppressReaders, takeOffList } from '@/server/keeping/acts';
import { eraseReaders } from '@/server/keeping/erase';
import { factsOf } from '@/server/readers/conditions';
import { totalsOf } from '@/server/readers/readers';
import { startLetter } from '@/server/sending/start';
import { bringPortion } from '@/server/transfer/bring';
import { startExport, workExport } from '@/server/transfer/exports';
import {
  beginImport,
  bringIn,
  dropImport,
  importPage,
  importsOf,
  lookThrough,
  readAnotherWay,
  rejectedRows,
  stopImport,
  undoImport,
} from '@/server/transfer/imports';
import { keepFile } from '@/server/transfer/kept';
import { workImport } from '@/server/transfer/work';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let list: string;
const WRITER = { name: 'Ottoline Vance' };
const BY = { actor: 'member' as const, name: 'Ottoline Vance' };
const SAID = { how: 'vouched', said: 'They signed up on my old site between 2021 and 2025.' };
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  list = await world.list(newsletter);
});
afterEach(() => world.close());

async function* bytes(text: string | Uint8Array, size = 1_000_000) {
  const all = typeof text === 'string' ? Buffer.from(text) : text;
  for (let at = 0; at < all.length; at += size) yield all.subarray(at, at + size);
}
const begin = async (text: string | Uint8Array, name = 'readers.csv') =>
  (await beginImport(world.ctx, newsletter, WRITER, name, bytes(text))).id;
const page = (id: string) => importPage(world.ctx, newsletter, id);
/** Says of each column what was found, but for what is given. */
async function look(id: string, more: Record<string, string> = {}) {
  const { columns } = await page(id);
  const said = Object.fromEntries(columns.map((column, at) => [`part ${at}`, column.part]));
  await lookThrough(world.ctx, newsletter, id, { ...said, listId: list, ...more });
  await workImport(world.ctx, id);
  return page(id);
}
async function bring(id: string, consent: Record<string, string> = SAID) {
  await bringIn(world.ctx, newsletter, id, consent);
  await workImport(world.ctx, id);
  return page(id);
}
const brought = async (text: string, consent?: Record<string, string>) => {
  const id = await begin(text);
  await look(id);
  return bring(id, consent);
};
const reader = (key: string) =>
  world.ctx.db
    .selectFrom('readers')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .where('address_key', '=', key)
    .executeTakeFirst();
const stateOf = async (key: string) => {
  const { rows } = await sql<{ state: string }>`
    select m.state from memberships m join readers r on r.id = m.reader_id where r.address_key = ${key} and m.list_id = ${list}`.execute(
    world.ctx.db,
  );
  return rows[0]?.state ?? null;
};
const rejected = async (id: string) => {
  let text = '';
  for await (const part of rejectedRows(world.ctx, newsletter, id)) text += part;
  return text;
};
/** Every figure of people is what the rows say. */
const figuresHold = async () => expect(await recount(world.ctx, newsletter)).toBe(0);

const FILE = [
  'Email,First name,Status,Joined,Tags,City',
  'Anna.Reef@heronmail.example,Anna,subscribed,2024-05-03,"diver, patron",Lisbon',
  'bo@heronmail.example,Bo,active,2025-01-31,,Porto',
  'left@heronmail.example,Lea,unsubscribed,2023-02-01,,',
  'gone@postbird.example,,bounced,2022-02-01,,',
  'angry@postbird.example,,complained,2022-02-01,,',
  'soon@postbird.example,Sol,pending,2025-02-01,,',
  'not an address,Nil,subscribed,2025-02-01,,',
  'ANNA.reef@heronmail.example,Anna again,subscribed,2024-05-03,,',
  'bo@heronmail.example,Bo,unsubscribed,2025-06-01,,',
  'odd@heronmail.example,Odd,whatever,2025-06-01,,',
].join('\n');

describe('an import', () => {
  it('says what will become of each kind of row, and brings nothing before it is told to', async () => {
    const id = await begin(FILE);
    const asked = await page(id);
    expect(asked.columns.map((column) => column.part)).toEqual(['address', 'first name', 'state', 'agreed', 'tags', 'leave out']);
    const looked = await look(id);
    expect(looked.state).toBe('looked');
    expect(looked.found!.kinds).toEqual({ new: 1, ends: 4, waits: 1, bad: 2, twice: 2 });
    expect(looked.examples.bad!.map((row) => [row.row, row.why])).toEqual([
      [8, 'This is no address: it has no @.'],
      [11, 'Its state “whatever” is not one that is known: reading, waiting, left, bounced or complained.'],
    ]);
    expect(await reader('anna.reef@heronmail.example')).toBeUndefined();
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(0);
  });

  it('brings readers with their names, tags, answers and the writer’s words, and honours who left, bounced or complained', async () => {
    const id = await begin(FILE);
    await look(id, { 'part 5': 'new text', tag: 'old site' });
    const done = await bring(id);
    expect(done.state).toBe('done');
    const anna = (await reader('anna.reef@heronmail.example'))!;
    expect(anna).toMatchObject({
      address: 'Anna.Reef@heronmail.example',
      first_name: 'Anna',
      standing: 'reading',
      confirmed: true,
      source_import_id: id,
    });
    const facts = (await factsOf(world.ctx.db, [anna.id], { letters: new Map() })).get(anna.id)!;
    expect(facts.tags.toSorted()).toEqual(['diver', 'old site', 'patron']);
    expect([...facts.answers.values()]).toEqual(['Lisbon']);
    const moment = { now: world.clock.now(), today: '2026-11-24' };
    expect(holds({ kind: 'came by', what: 'import', is: id }, facts, moment)).toBe(true);
    const consents = await world.ctx.db.selectFrom('consents').selectAll().where('reader_id', '=', anna.id).execute();
    expect(consents).toMatchObject([
      {
        act: 'add',
        actor: 'import',
        actor_name: 'readers.csv',
        state: 'reading',
        wording: `${SAID.said} The file says: agreed on 2024-05-03.`,
      },
    ]);
    const suppressed = await world.ctx.db
      .selectFrom('suppressions')
      .select(['address_key', 'reason'])
      .orderBy('address_key')
      .execute();
    expect(suppressed).toEqual([
      { address_key: 'angry@postbird.example', reason: 'complaint' },
      { address_key: 'bo@heronmail.example', reason: 'left' },
      { address_key: 'gone@postbird.example', reason: 'hard bounce' },
      { address_key: 'left@heronmail.example', reason: 'left' },
    ]);
    // Who never confirmed elsewhere is not vouched for.
    expect(await reader('soon@postbird.example')).toBeUndefined();
    await world.work();
    expect(await totalsOf(world.ctx, newsletter)).toEqual({ reading: 1, waiting: 0, left: 0, unreachable: 0 });
    await figuresHold();
  });

  it('asks everybody where the writer does not vouch, who never confirmed among them', async () => {
    const done = await brought(FILE, { how: 'asked' });
    expect(done.result).toMatchObject({ new: 1, waits: 1 });
    expect(await stateOf('soon@postbird.example')).toBe('waiting');
    await world.work();
    expect(world.mail.to('soon@postbird.example')).toHaveLength(1);
    const token = /confirm\/([\w-]+)/.exec(world.mail.to('soon@postbird.example')[0]!.source.replace(/=\r\n/g, ''))![1]!;
    await confirm(world.ctx, token, { network: '192.0.2.1', agent: 'Mozilla/5.0' });
    expect(await stateOf('soon@postbird.example')).toBe('reading');
    await figuresHold();
  });

  it('does not bring back who left, is suppressed, or was erased', async () => {
    const [a, b, c, d] = (await world.readers(newsletter, [
      'a@heronmail.example',
      'b@heronmail.example',
      'c@heronmail.example',
      'd@heronmail.example',
    ])) as [string, string, string, string];
    await world.ctx.db.updateTable('memberships').set({ state: 'left' }).where('reader_id', '=', a).execute();
    await suppressReaders(world.ctx, world.ctx.db, newsletter, [b], BY);
    await world.ctx.db.transaction().execute((trx) => eraseReaders(world.ctx, trx, newsletter, [c], BY));
    await takeOffList(world.ctx, world.ctx.db, newsletter, [d], { listId: list, by: BY });
    const id = await begin(
      'email\na@heronmail.example\nb@heronmail.example\nc@heronmail.example\nd@heronmail.example\ne@heronmail.example',
    );
    expect((await look(id)).found!.kinds).toEqual({ gone: 1, barred: 2, joins: 1, new: 1 });
    await bring(id);
    expect(await Promise.all(['a', 'b', 'c', 'd', 'e'].map((name) => stateOf(`${name}@heronmail.example`)))).toEqual([
      'left',
      'reading',
      null,
      'reading',
      'reading',
    ]);
    expect((await reader('b@heronmail.example'))!.address_state).toBe('suppressed');
    expect(await reader('c@heronmail.example')).toBeUndefined();
    await world.work();
    await figuresHold();
  });

  it('looks again at what has happened since: who was suppressed in between is not brought', async () => {
    const id = await begin('email\na@heronmail.example\nb@heronmail.example');
    await look(id);
    const [a] = await world.readers(newsletter, ['a@heronmail.example']);
    await suppressReaders(world.ctx, world.ctx.db, newsletter, [a!], BY);
    const done = await bring(id);
    expect(done.result).toEqual({ barred: 1, new: 1 });
  });

  it('changes nothing the second time, and gives who is here what was missing', async () => {
    await world.readers(newsletter, ['bo@heronmail.example']);
    const text = 'email,first name,tags\nbo@heronmail.example,Bo,diver\nanna@heronmail.example,Anna,';
    expect((await brought(text)).result).toEqual({ known: 1, new: 1 });
    expect((await reader('bo@heronmail.example'))!.first_name).toBe('Bo');
    const again = await brought(text.replace(',Bo,', ',Somebody else,'));
    expect(again.result).toEqual({ known: 2 });
    expect((await reader('bo@heronmail.example'))!.first_name).toBe('Bo');
    expect(await world.ctx.db.selectFrom('consents').select('id').where('actor', '=', 'import').execute()).toHaveLength(1);
    await world.work();
    await figuresHold();
  });

  it('hands out what it could not bring, to be mended and brought again', async () => {
    const id = await begin(FILE);
    await look(id);
    const text = await rejected(id);
    expect(text.split('\r\n')[0]).toBe('\ufeffEmail,First name,Status,Joined,Tags,City,What is wrong');
    expect(text).toContain('not an address,Nil,subscribed,2025-02-01,,,This is no address: it has no @.');
    const mended = text.replace('not an address', 'nil@heronmail.example').replace('whatever', 'subscribed');
    const next = await begin(mended);
    expect((await page(next)).columns.at(-1)!.part).toBe('leave out');
    expect((await look(next)).found!.kinds).toEqual({ new: 2 });
  });

  it('makes formulas harmless in what it hands out, and reads them back as they were', async () => {
    const id = await begin('email,first name\nno address,=1+1\n');
    await look(id);
    const text = await rejected(id);
    expect(text).toContain("no address,'=1+1,");
    const next = await begin(text.replace('no address', 'yes@heronmail.example'));
    await look(next);
    await bring(next);
    expect((await reader('yes@heronmail.example'))!.first_name).toBe('=1+1');
  });

  it('reads lines of names and addresses, pasted', async () => {
    await brought('Anna Reef <anna@heronmail.example>, "Bo, Jr" <bo@heronmail.example>\ncleo@heronmail.example');
    expect((await reader('anna@heronmail.example'))!.first_name).toBe('Anna');
    expect((await reader('cleo@heronmail.example'))!.standing).toBe('reading');
  });

  it('reads UTF-16 and Windows-1252, and another way where it was found out wrongly', async () => {
    const utf16 = Buffer.from('\ufeffemail;vorname\nzoe@heronmail.example;Zoë\n', 'utf16le');
    const a = await begin(utf16);
    await look(a);
    await bring(a);
    expect((await reader('zoe@heronmail.example'))!.first_name).toBe('Zoë');
    const b = await begin(Buffer.from('email,prenom\nrene@heronmail.example,Ren\xe9\n', 'latin1'));
    expect((await page(b)).dialect.encoding).toBe('windows-1252');
    await readAnotherWay(world.ctx, newsletter, b, { encoding: 'windows-1252', delimiter: ',', header: 'no' });
    expect((await page(b)).columns[0]!.name).toBe('Column 1');
    await readAnotherWay(world.ctx, newsletter, b, { encoding: 'windows-1252', delimiter: ',', header: 'yes' });
    await look(b);
    await bring(b);
    expect((await reader('rene@heronmail.example'))!.first_name).toBe('René');
  });

  it('asks which column is the address, and how days are written, where that is not clear', async () => {
    const id = await begin('private,work,joined\na@heronmail.example,b@postbird.example,3/5/2024\n');
    const { addresses, dates } = await page(id);
    expect({ addresses, dates }).toEqual({ addresses: [0, 1], dates: 'unclear' });
    await expect(look(id, { 'part 1': 'address' })).rejects.toThrow('Say how days are written');
    await expect(look(id, { dates: 'month first' })).rejects.toThrow('Say which column is the address');
    await look(id, { dates: 'month first', 'part 1': 'address' });
    await bring(id);
    expect(await stateOf('b@postbird.example')).toBe('reading');
    const { rows } = await sql<{ at: Date }>`select joined_at as at from memberships`.execute(world.ctx.db);
    expect(rows[0]!.at.toISOString()).toBe('2024-03-05T00:00:00.000Z');
  });

  it('asks how days are written in a column that only a person knows to hold them', async () => {
    const id = await begin('email,seit\na@heronmail.example,3/5/2024');
    expect((await page(id)).columns[1]!.part).toBe('leave out');
    await expect(look(id, { 'part 1': 'agreed', dates: '' })).rejects.toMatchObject({
      fields: { dates: 'Say how days are written in it.' },
    });
    await look(id, { 'part 1': 'agreed', dates: 'month first' });
    await bring(id);
    const { rows } = await sql<{ at: Date }>`select joined_at as at from memberships`.execute(world.ctx.db);
    expect(rows[0]!.at.toISOString()).toBe('2024-03-05T00:00:00.000Z');
  });

  it('finds answers as they are looked for everywhere, whatever the database thinks of small letters', async () => {
    const id = await begin('email,city\na@heronmail.example,İZMİR ΟΔΟΣ');
    await look(id, { 'part 1': 'new text' });
    await bring(id);
    const { rows } = await sql<{ folded: string }>`select folded from reader_answers`.execute(world.ctx.db);
    expect(rows[0]!.folded).toBe(folded('İZMİR ΟΔΟΣ'));
  });

  it('refuses what is no text of readers in words, and keeps nothing of it', async () => {
    const cases: [Uint8Array, RegExp][] = [
      [Buffer.from('PK\x03\x04and so on'), /spreadsheet/],
      [Buffer.from([0x89, 0x50, 0x4e, 0x47, 1, 2]), /picture/],
      [Buffer.from([1, 2, 0, 3, 0, 0, 7, 1]), /not a text/],
      [Buffer.from(''), /empty/],
      [Buffer.from('\n\n  \n'), /blank lines/],
      [Buffer.from('<!doctype html><p>Sign in'), /page/],
      [Buffer.from('[{"email":"a@heronmail.example"}]'), /JSON/],
      [Buffer.from(`email${',x'.repeat(1_200)}\na@heronmail.example`), /1201 columns/],
    ];
    for (const [file, why] of cases) await expect(begin(file)).rejects.toThrow(why);
    expect(await world.ctx.db.selectFrom('kept_files').select('id').execute()).toEqual([]);
  });

  it('takes ragged rows, quotes that are never closed, quoted line ends and odd addresses for what they are', async () => {
    const id = await begin(
      [
        'email,first name,note',
        'a@heronmail.example,A',
        'b@heronmail.example,B,note,and more',
        'c@heronmail.example,"C",""two"" lines"',
        'd@heronmail.example,D,"two\nlines"',
        '"e@heronmail.example,E,never closed',
        'f@heronmail.example,F,fine',
        '"quoted local"@heronmail.example,G,',
        `${'x'.repeat(320)}@heronmail.example,H,`,
        'jörg@bücher.example,Jörg,',
        'i@@heronmail.example,I,',
      ].join('\n'),
    );
    const { found } = await look(id);
    expect(found!.kinds).toEqual({ new: 5, bad: 5 });
    await bring(id);
    expect((await reader('d@heronmail.example'))!.note).toBe('two\nlines');
    expect((await reader('jörg@xn--bcher-kva.example'))!.first_name).toBe('Jörg');
    const text = await rejected(id);
    expect(text).toContain('A quote is opened in this row and never closed.');
    expect(text).toContain('This row has 4 cells; the others have 3. Beyond them stood: and more');
  });

  it('tells a list that looks bought, and brings it only by asking, or not at all', async () => {
    const many = (n: number, of: (k: number) => string) => `email\n${Array.from({ length: n }, (_, k) => of(k)).join('\n')}`;
    const words = ['amber', 'birch', 'coral', 'dune', 'elm', 'fern', 'gale', 'heath', 'iris', 'juno'];
    const name = (k: number) => `${words[k % 10]}.${words[Math.floor(k / 10) % 10]}.${words[Math.floor(k / 100)]}`;
    world.dns.noMail.set('nomail.example', 'ENOTFOUND');
    const some = await begin(many(100, (k) => `${name(k)}@${k % 8 ? 'heronmail' : 'nomail'}.example`));
    expect((await look(some)).found!.risk).toEqual({
      verdict: 'ask',
      reasons: ['13.0% of 100 addresses looked at are at domains that take no mail.'],
    });
    await expect(bring(some)).rejects.toThrow('have to be asked');
    await bring(some, { how: 'asked' });
    expect(await stateOf(`${name(1)}@heronmail.example`)).toBe('waiting');
    const most = await begin(many(100, (k) => `${name(k)}x@${k % 2 ? 'heronmail' : 'nomail'}.example`));
    expect((await look(most)).found!.risk.verdict).toBe('refuse');
    await expect(bring(most, { how: 'asked' })).rejects.toThrow('look bought');
    const offices = await begin(many(40, (k) => `${k % 4 ? 'info' : 'sales'}@${name(k).replaceAll('.', '')}.example`));
    expect((await look(offices)).found!.risk.verdict).toBe('refuse');
    // DNS that says nothing accuses nobody.
    for (let k = 0; k < 40; k += 1) world.dns.noMail.set(`${name(k).replaceAll('.', '')}.example`, 'EUNANSWERED');
    const silent = await begin(many(40, (k) => `${name(k)}@${name(k).replaceAll('.', '')}.example`));
    expect((await look(silent)).found!.risk).toEqual({ verdict: 'fine', reasons: [] });
  });
});

describe('what comes in', () => {
  it('is not kept where it is too large, or breaks off', async () => {
    await expect(keepFile(world.ctx, newsletter, 'x.csv', bytes('x'.repeat(500), 100), 250)).rejects.toMatchObject({
      code: 'invalid',
    });
    async function* broken() {
      yield Buffer.from('email\n');
      throw new Error('the line went dead');
    }
    await expect(beginImport(world.ctx, newsletter, WRITER, 'x.csv', broken())).rejects.toThrow('the line went dead');
    expect(await world.ctx.db.selectFrom('kept_parts').select('n').execute()).toEqual([]);
    await world.ctx.db
      .insertInto('kept_files')
      .values({ id: newId(), newsletter_id: newsletter.id, name: 'huge', size: '1000000001', made_at: world.clock.now() })
      .execute();
    await expect(begin('email\na@heronmail.example')).rejects.toMatchObject({ code: 'too-many' });
  });

  it('may have five hundred columns, and the same address twenty thousand times', async () => {
    const wide = await begin(`email${',x'.repeat(499)}\na@heronmail.example${',1'.repeat(499)}`);
    expect((await page(wide)).columns).toHaveLength(500);
    expect((await look(wide)).found!.kinds).toEqual({ new: 1 });
    const same = await begin(
      `email\n${Array.from({ length: 20_000 }, (_, n) => (n % 2 ? 'A@heronmail.example' : 'a@HERONMAIL.example')).join('\n')}`,
    );
    expect((await look(same)).found!.kinds).toEqual({ new: 1, twice: 19_999 });
  });

  it('is forgotten with whoever is erased, and so is what goes out', async () => {
    const done = await brought('email,first name\nzacharias@heronmail.example,Zacharias');
    const waiting = await begin('email\nzacharias@heronmail.example');
    const file = await startExport(
      world.ctx,
      newsletter,
      { ...WRITER, email: 'o@postbird.example' },
      { kind: 'csv', columns: ['address'], whom: { condition: EVERYONE, find: '' } },
    );
    await workExport(world.ctx, file.id);
    const { id } = (await reader('zacharias@heronmail.example'))!;
    await world.ctx.db.transaction().execute((trx) => eraseReaders(world.ctx, trx, newsletter, [id], BY));
    for (const table of ['import_rows', 'kept_parts', 'imports', 'exports']) {
      const { rows } = await sql<{
        n: number;
      }>`select count(*)::int as n from ${sql.table(table)} t where t::text ilike '%zacharias%' or t::text ilike ${`%${Buffer.from('zacharias').toString('hex')}%`}`.execute(
        world.ctx.db,
      );
      expect([table, rows[0]!.n]).toEqual([table, 0]);
    }
    await expect(look(waiting)).rejects.toMatchObject({ code: 'expired' });
    // What it did can still be taken back, for whoever is left.
    await undoImport(world.ctx, newsletter, done.id);
    await workImport(world.ctx, done.id);
    expect((await page(done.id)).state).toBe('undone');
  });

  it('makes nobody get a letter twice, or half of them by accident, that begins meanwhile', async () => {
    const { senderId } = await world.sender(newsletter);
    const id = await begin(
      `email\n${Array.from({ length: 300 }, (_, n) => `${'abcdefghij'[n % 10]}${'klmnopqrst'[Math.floor(n / 10) % 10]}${n}@heronmail.example`).join('\n')}`,
    );
    await look(id);
    const letter = await world.letter(newsletter, senderId);
    await bringIn(world.ctx, newsletter, id, SAID).catch(() => undefined);
    await Promise.all([workImport(world.ctx, id), startLetter(world.ctx, letter)]);
    const { rows } = await sql<{
      n: number;
      readers: number;
    }>`select count(*)::int as n, count(distinct reader_id)::int as readers from deliveries where letter_id = ${letter}`.execute(
      world.ctx.db,
    );
    expect([0, 300]).toContain(rows[0]!.n);
    expect(rows[0]!.readers).toBe(rows[0]!.n);
  });
});

describe('taking an import back', () => {
  it('takes away whom it made, gives back what it changed, and leaves who has acted since', async () => {
    await world.readers(newsletter, ['known@heronmail.example', 'off@heronmail.example']);
    const off = (await reader('off@heronmail.example'))!;
    await takeOffList(world.ctx, world.ctx.db, newsletter, [off.id], { listId: list, by: BY });
    const before = await totalsOf(world.ctx, newsletter);
    const days = () =>
      world.ctx.db
        .selectFrom('daily_counts')
        .select(['day', 'joined', 'left_count'])
        .where('newsletter_id', '=', newsletter.id)
        .execute();
    const growth = await days();
    const id = await begin(
      'email,first name,status,tags\nknown@heronmail.example,Kim,,diver\noff@heronmail.example,Ode,,\nnew@heronmail.example,Nel,,diver\nstays@heronmail.example,Stu,,\nwas@heronmail.example,Wes,left,',
    );
    await look(id);
    world.clock.advance(60_000);
    await bring(id);
    expect(await stateOf('off@heronmail.example')).toBe('reading');
    const stays = (await reader('stays@heronmail.example'))!;
    // They leave by themselves and come back: their own acts.
    await addToList(world.ctx, world.ctx.db, newsletter, [stays.id], {
      listId: list,
      agreement: { how: 'vouched', said: 'They told me again.' },
      by: BY,
    });
    await sql`insert into consents (newsletter_id, reader_id, list_id, act, state, at, actor) values (${newsletter.id}, ${stays.id}, ${list}, 'confirm', 'reading', ${world.clock.now()}, 'reader')`.execute(
      world.ctx.db,
    );
    world.clock.advance(60_000);
    await undoImport(world.ctx, newsletter, id);
    await workImport(world.ctx, id);
    expect((await page(id)).state).toBe('undone');
    expect(await reader('new@heronmail.example')).toBeUndefined();
    expect((await reader('known@heronmail.example'))!.first_name).toBeNull();
    expect(await stateOf('known@heronmail.example')).toBe('reading');
    expect(await stateOf('off@heronmail.example')).toBe('left');
    expect(await stateOf('stays@heronmail.example')).toBe('reading');
    expect(await world.ctx.db.selectFrom('suppressions').selectAll().execute()).toEqual([]);
    expect(await world.ctx.db.selectFrom('reader_tags').selectAll().execute()).toEqual([]);
    // Before the nightly check could have mended them.
    await figuresHold();
    await world.work();
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(before.reading + 1);
    expect((await days()).reduce((sum, day) => sum + day.joined - day.left_count, 0)).toBe(
      growth.reduce((sum, day) => sum + day.joined - day.left_count, 0) + 1,
    );
    await figuresHold();
    // They can be brought again.
    expect((await brought('email\nnew@heronmail.example')).result).toEqual({ new: 1 });
  });

  it('cancels what was queued for whom it takes away, and can be done for seven days', async () => {
    const { senderId } = await world.sender(newsletter);
    const done = await brought('email\nnew@heronmail.example');
    const letter = await world.letter(newsletter, senderId);
    world.mail.answers.set('new@heronmail.example', [451, 'later']);
    await world.work();
    await undoImport(world.ctx, newsletter, done.id);
    await workImport(world.ctx, done.id);
    const copies = await world.ctx.db
      .selectFrom('deliveries')
      .select(['state', 'address'])
      .where('letter_id', '=', letter)
      .execute();
    expect(copies).toEqual([{ state: 'cancelled', address: 'erased' }]);
    const other = await brought('email\nother@heronmail.example');
    world.clock.advance(8 * DAY);
    await expect(undoImport(world.ctx, newsletter, other.id)).rejects.toThrow('seven days'.replace('seven', '7'));
    await world.work();
    expect(await world.ctx.db.selectFrom('import_rows').select('row').execute()).toEqual([]);
  });
});

describe('an import that is disturbed', () => {
  /** As if the writer had vouched, though these look made by a machine. */
  const vouched = async (id: string) => {
    const { plan } = await page(id);
    await world.ctx.db
      .updateTable('imports')
      .set({ state: 'bringing', brought_at: world.clock.now(), plan: JSON.stringify({ plan: plan!, consent: SAID as never }) })
      .where('id', '=', id)
      .execute();
  };
  const big = (n: number, at = 'heronmail.example') =>
    `email,first name\n${Array.from({ length: n }, (_, k) => csvRow([`person${k}@${at}`, `P${k}`]).trim()).join('\n')}`;

  it('goes on where it stood after a worker died in the middle, with nobody left out and nobody twice', async () => {
    const id = await begin(big(45_000));
    await look(id);
    await vouched(id);
    // Every other portion dies after its work and before its commit.
    await sql`create sequence deaths`.execute(world.ctx.db);
    await sql`create function die() returns trigger language plpgsql as $$ begin
      if nextval('deaths') % 2 = 1 then raise exception 'killed'; end if; return new; end $$`.execute(world.ctx.db);
    await sql`create trigger die before update of upto on imports for each row execute function die()`.execute(world.ctx.db);
    for (let n = 0; n < 2; n += 1) {
      await expect(bringPortion(world.ctx, id)).rejects.toThrow('killed');
      await bringPortion(world.ctx, id);
    }
    await sql`drop trigger die on imports`.execute(world.ctx.db);
    // Three workers at once end it.
    await Promise.all([workImport(world.ctx, id), workImport(world.ctx, id), workImport(world.ctx, id)]);
    const done = await page(id);
    expect([done.state, done.result]).toEqual(['done', { new: 45_000 }]);
    const { rows } = await sql<{ readers: number; memberships: number; consents: number }>`
      select (select count(*)::int from readers) as readers, (select count(*)::int from memberships) as memberships, (select count(*)::int from consents) as consents`.execute(
      world.ctx.db,
    );
    expect(rows[0]).toEqual({ readers: 45_000, memberships: 45_000, consents: 45_000 });
    await world.work();
    await figuresHold();
    // So many people take their time on a machine that does something else besides.
  }, 300_000);

  it('begins looking anew after a worker died, and is looked through by one worker alone', async () => {
    const id = await begin(big(12_000));
    const { columns } = await page(id);
    await lookThrough(world.ctx, newsletter, id, {
      ...Object.fromEntries(columns.map((column, at) => [`part ${at}`, column.part])),
      listId: list,
    });
    await Promise.all([workImport(world.ctx, id), workImport(world.ctx, id)]);
    await workImport(world.ctx, id);
    expect((await page(id)).found!.kinds).toEqual({ new: 12_000 });
  });

  it('stops where it stands, and is taken back from there', async () => {
    const id = await begin(big(30_000, 'postbird.example'));
    await look(id);
    await vouched(id);
    await bringPortion(world.ctx, id);
    await stopImport(world.ctx, newsletter, id);
    await workImport(world.ctx, id);
    expect([(await page(id)).state, (await totalsOf(world.ctx, newsletter)).reading]).toEqual(['stopped', 20_000]);
    await undoImport(world.ctx, newsletter, id);
    await workImport(world.ctx, id);
    await world.work();
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(0);
    await figuresHold();
  });

  it('does not get in the way of another import of the same people', async () => {
    const ids = [await begin(big(3_000)), await begin(big(3_000))];
    for (const id of ids) {
      await look(id);
      await vouched(id);
    }
    await Promise.all(ids.map((id) => workImport(world.ctx, id)));
    const results = await Promise.all(ids.map(async (id) => (await page(id)).result));
    expect((results[0]!.new ?? 0) + (results[1]!.new ?? 0)).toBe(3_000);
    expect((results[0]!.known ?? 0) + (results[1]!.known ?? 0)).toBe(3_000);
    await world.work();
    await figuresHold();
  });

  it('is nobody else’s: another newsletter can do nothing with it', async () => {
    const id = await begin(FILE);
    const other = await world.newsletter('Harbour Notes');
    for (const act of [importPage, stopImport, undoImport, dropImport] as const)
      await expect(
        Promise.resolve(act(world.ctx, other, id))
          .then(() => page(id))
          .then(({ state }) => {
            if (state === 'asking') throw new Error('untouched');
          }),
      ).rejects.toThrow();
    expect((await page(id)).state).toBe('asking');
    expect(await importsOf(world.ctx, other)).toEqual([]);
  });
});

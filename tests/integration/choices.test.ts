import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { leaveToken, ownToken } from '@/core/sending/token';
import { MarkBook } from '@/server/delivery/marks';
import { createForm } from '@/server/forms/forms';
import { newId } from '@/server/ids';
import { recount } from '@/server/jobs/tick';
import { suppressReaders } from '@/server/keeping/acts';
import { hintOf } from '@/server/keeping/choices';
import { changeReader } from '@/server/keeping/profile';
import type { PublicHandler } from '@/server/public/request';
import { overFetch } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { readerProfile } from '@/server/readers/readers';
import { suppressedAmong } from '@/server/readers/suppressed';
import { startLetter } from '@/server/sending/start';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let handle: PublicHandler;
let ada: string;
let everyone: string;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  handle = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
  [ada] = (await world.readers(newsletter, ['ada@heronmail.example'])) as [string];
  everyone = await world.list(newsletter);
});
afterEach(() => world.close());

const ORIGIN = 'https://go.inkset.example';
const choices = (readerId = ada) => `/e/choices/${leaveToken({ readerId, delivery: null }, 'choices', world.ctx.config.keys)}`;
const own = (readerId = ada) =>
  `/e/own/${ownToken(readerId, new Date(world.clock.now().getTime() + DAY), world.ctx.config.keys)}`;
const get = async (path: string) => {
  const response = await handle(new Request(ORIGIN + path, { headers: { 'x-forwarded-for': '192.0.2.7' } }));
  return { status: response.status, text: await response.text(), headers: response.headers };
};
const post = async (path: string, fields: [string, string][]) => {
  const response = await handle(
    new Request(ORIGIN + path, {
      method: 'POST',
      headers: { 'x-forwarded-for': '192.0.2.7' },
      body: new URLSearchParams(fields),
    }),
  );
  return { status: response.status, text: await response.text() };
};
const list = async (name: string, more: { public?: boolean; description?: string } = {}) => {
  const id = newId();
  await world.ctx.db
    .insertInto('lists')
    .values({ id, newsletter_id: newsletter.id, name, public_name: name, position: 1, created_at: world.clock.now(), ...more })
    .execute();
  return id;
};
const stateOn = async (listId: string) =>
  (
    await world.ctx.db
      .selectFrom('memberships')
      .select('state')
      .where('reader_id', '=', ada)
      .where('list_id', '=', listId)
      .executeTakeFirst()
  )?.state ?? null;
const acts = async () =>
  (
    await world.ctx.db.selectFrom('consents').select(['act', 'actor', 'list_name', 'wording', 'network']).orderBy('id').execute()
  ).filter((one) => one.actor === 'reader' && one.network === '192.0.2.7');
const linkIn = (to: string, kind: string) => {
  const source = world.mail.to(to).at(-1)!.source.replace(/=\r\n/g, '').replace(/=3D/g, '=');
  return new RegExp(`/e/${kind}/[\\w-]+`).exec(source)![0];
};

describe('the page on which readers choose', () => {
  it('stands in every letter, and shows no stranger more than letters do', async () => {
    const { senderId } = await world.sender(newsletter);
    await changeReader(world.ctx, newsletter, ada, { firstName: 'Adalgisa', note: 'a secret note' });
    await world.letter(newsletter, senderId);
    await world.work();
    const mail = await simpleParser(world.mail.to('ada@heronmail.example')[0]!.source);
    expect(mail.text).toContain('Choose what you get:\nhttps://go.inkset.example/e/choices/');
    expect(mail.html).toContain('>Choose what you get</a>');
    const { status, text } = await get(linkIn('ada@heronmail.example', 'choices'));
    expect(status).toBe(200);
    expect(text).toContain('a…@heronmail.example');
    for (const secret of ['ada@', 'Adalgisa', 'secret', '<script']) expect(text).not.toContain(secret);
    expect(hintOf('日本@heronmail.example')).toBe('日…@heronmail.example');
  });

  it('puts one on lists that are open to everybody, takes one off others, and keeps that they did', async () => {
    const [notes, hidden] = [
      await list('Field notes', { description: 'Once a month, from the boat.' }),
      await list('Patrons', { public: false }),
    ];
    const page = await get(choices());
    expect(page.text).toContain('Once a month, from the boat.');
    expect(page.text).not.toContain('Patrons');
    const kept = await post(choices(), [
      ['act', 'keep'],
      ['lists', notes],
      ['lists', hidden],
    ]);
    expect(kept.text).toContain('Kept.');
    expect([await stateOn(everyone), await stateOn(notes), await stateOn(hidden)]).toEqual(['left', 'reading', null]);
    expect((await acts()).map((one) => [one.act, one.list_name])).toEqual([
      ['leave', 'Everyone'],
      ['ask', 'Field notes'],
    ]);
    // Pressed twice: nothing more.
    await post(choices(), [
      ['act', 'keep'],
      ['lists', notes],
    ]);
    expect(await acts()).toHaveLength(2);
    await world.work();
    expect(await recount(world.ctx, newsletter)).toBe(0);
  });

  it('changes nothing when it is fetched, whoever fetches it', async () => {
    for (const path of [choices(), own()])
      for (const method of ['GET', 'HEAD']) await handle(new Request(ORIGIN + path, { method }));
    expect([await stateOn(everyone), await acts()]).toEqual(['reading', []]);
  });

  it('lets letters pass by while one pauses, and come again after it or at once', async () => {
    const { senderId } = await world.sender(newsletter);
    expect(
      (
        await post(choices(), [
          ['act', 'pause'],
          ['how', 'week'],
        ])
      ).text,
    ).toContain('No letters come until Tuesday 1 December.');
    await world.letter(newsletter, senderId);
    await world.work();
    expect(world.mail.to('ada@heronmail.example')).toHaveLength(0);
    await post(choices(), [
      ['act', 'pause'],
      ['how', 'end'],
    ]);
    await world.letter(newsletter, senderId, { subject: 'Another' });
    await world.work();
    expect(world.mail.to('ada@heronmail.example')).toHaveLength(1);
    await post(choices(), [
      ['act', 'pause'],
      ['how', 'month'],
    ]);
    world.clock.advance(31 * DAY);
    await world.sender(newsletter, 'other.example').catch(() => undefined);
    await world.letter(newsletter, senderId, { subject: 'After a month' });
    await world.work();
    expect(world.mail.to('ada@heronmail.example')).toHaveLength(2);
    expect((await acts()).map((one) => one.act)).toEqual(['pause', 'go on', 'pause']);
    expect(
      (
        await post(choices(), [
          ['act', 'pause'],
          ['how', 'for ever'],
        ])
      ).status,
    ).toBe(422);
  });

  it('holds what waits for them already, too: no letter comes until then, as the page says', async () => {
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, letter);
    await post(choices(), [
      ['act', 'pause'],
      ['how', 'week'],
    ]);
    await world.work();
    expect(world.mail.to('ada@heronmail.example')).toHaveLength(0);
    expect(await world.ctx.db.selectFrom('deliveries').select('state').execute()).toEqual([{ state: 'cancelled' }]);
  });

  it('sends the text alone to whoever wants that', async () => {
    const { senderId } = await world.sender(newsletter);
    await world.readers(newsletter, ['bo@heronmail.example']);
    await post(choices(), [
      ['act', 'keep'],
      ['lists', everyone],
      ['text', 'alone'],
    ]);
    await world.letter(newsletter, senderId);
    await world.work();
    const [hers, his] = await Promise.all(
      ['ada', 'bo'].map((name) => simpleParser(world.mail.to(`${name}@heronmail.example`)[0]!.source)),
    );
    expect([hers!.html, typeof his!.html]).toEqual([false, 'string']);
    expect(hers!.text).toContain('Unsubscribe:');
    expect(hers!.headers.get('content-type')).toMatchObject({ value: 'text/plain' });
    expect(world.mail.to('ada@heronmail.example')[0]!.source).toContain('DKIM-Signature');
  });

  it('lets one leave all of it and say why, if one likes', async () => {
    const notes = await list('Field notes');
    await post(choices(), [
      ['act', 'keep'],
      ['lists', everyone],
      ['lists', notes],
    ]);
    const left = await post(choices(), [
      ['act', 'leave'],
      ['why', 'Too many\nletters'],
    ]);
    expect(left.text).toContain('You have unsubscribed');
    expect([await stateOn(everyone), await stateOn(notes)]).toEqual(['left', 'left']);
    const { history } = await readerProfile(world.ctx, newsletter, ada);
    expect(history.filter((one) => one.text.startsWith('Left')).map((one) => one.detail)).toEqual([
      'Because: Too many / letters',
      'Because: Too many / letters',
    ]);
  });

  it('sends nothing to whom is suppressed, and says how to come back', async () => {
    await suppressReaders(world.ctx, world.ctx.db, newsletter, [ada], { actor: 'member', name: 'Ottoline Vance' });
    expect((await get(choices())).text).toContain('Sign up again if you want to come back.');
    expect(
      (
        await post(choices(), [
          ['act', 'keep'],
          ['lists', everyone],
        ])
      ).status,
    ).toBe(409);
  });

  it.each<[string, () => string]>([
    ['a link that was cut off', () => choices().slice(0, -4)],
    [
      'a leave link in its place',
      () => `/e/choices/${leaveToken({ readerId: ada, delivery: null }, 'leave', world.ctx.config.keys)}`,
    ],
    ['somebody nobody knows', () => choices('00000000-0000-4000-8000-000000000000')],
    [
      'a choices link where one’s own is wanted',
      () => `/e/own/${leaveToken({ readerId: ada, delivery: null }, 'choices', world.ctx.config.keys)}`,
    ],
  ])('opens nothing for %s', async (_, path) => {
    expect((await get(path())).status).toBe(404);
    for (const act of ['keep', 'pause', 'leave', 'own', 'move', 'erase'])
      expect(
        (
          await post(path(), [
            ['act', act],
            ['sure', 'yes'],
            ['how', 'week'],
          ])
        ).status,
      ).toBeGreaterThanOrEqual(404);
    expect([await stateOn(everyone), await acts()]).toEqual(['reading', []]);
  });
});

describe('in another language', () => {
  it('says days as that language does', async () => {
    await world.ctx.db.updateTable('newsletters').set({ language: 'de' }).where('id', '=', newsletter.id).execute();
    const page = await post(choices(), [
      ['act', 'pause'],
      ['how', 'week'],
    ]);
    expect(page.text).toContain('Bis Dienstag, 1. Dezember kommen keine Briefe.');
    expect(page.text).toContain('lang="de"');
  });
});

describe('what is kept of a reader', () => {
  it('is shown by a link that goes to their own mailbox, three times a day at most, for a day', async () => {
    const sent = await post(choices(), [['act', 'own']]);
    expect(sent.text).toContain('The link is on its way to a…@heronmail.example.');
    await world.work();
    const path = linkIn('ada@heronmail.example', 'own');
    expect((await get(path)).text).toContain('ada@heronmail.example');
    await post(choices(), [['act', 'own']]);
    await post(choices(), [['act', 'own']]);
    expect((await post(choices(), [['act', 'own']])).status).toBe(429);
    world.clock.advance(1.1 * DAY);
    expect((await get(path)).status).toBe(410);
  });

  it('is a file, without the writer’s note', async () => {
    await changeReader(world.ctx, newsletter, ada, { firstName: 'Ada', note: 'a secret note' });
    const file = await get(`${own()}/data.json`);
    expect(file.headers.get('content-disposition')).toBe('attachment; filename="kept-of-me.json"');
    expect(JSON.parse(file.text)).toMatchObject({
      reader: { address: 'ada@heronmail.example', first_name: 'Ada' },
      lists: [{ list: 'Lanternfish Letters' }],
    });
    expect(file.text).not.toContain('secret');
  });

  it('can be changed: the name, and what a form asks for', async () => {
    const form = await createForm(world.ctx, newsletter, { name: 'Asks' });
    const fields = ['city', 'customer'].map((key) => ({
      id: newId(),
      newsletter_id: newsletter.id,
      key,
      label: key === 'city' ? 'City' : 'Customer number',
      kind: 'text' as const,
      options: '[]',
      created_at: world.clock.now(),
    }));
    await world.ctx.db.insertInto('fields').values(fields).execute();
    const { id } = fields[0]!;
    await sql`update forms set definition = jsonb_set(definition, '{fields}', definition->'fields' || '[{"key":"city","kind":"text","label":"City"}]') where id = ${form.id}`.execute(
      world.ctx.db,
    );
    await changeReader(world.ctx, newsletter, ada, { firstName: '', note: 'stays' });
    const page = await get(own());
    expect(page.text).toContain('City');
    expect(page.text).not.toContain('Customer number');
    const kept = await post(own(), [
      ['act', 'keep'],
      ['firstName', 'Ada <b>'],
      [`field ${id}`, 'Lisbon'],
    ]);
    expect(kept.text).toContain('value="Ada &lt;b&gt;"');
    const profile = await readerProfile(world.ctx, newsletter, ada);
    expect([profile.firstName, profile.note, profile.answers.find((one) => one.label === 'City')!.value]).toEqual([
      'Ada <b>',
      'stays',
      'Lisbon',
    ]);
  });

  it('moves to another address once that is confirmed, and the old one is told', async () => {
    expect(
      (
        await post(own(), [
          ['act', 'move'],
          ['address', 'Ada.New@postbird.example'],
        ])
      ).text,
    ).toContain('a mail with a link is on its way there');
    await world.work();
    const path = linkIn('Ada.New@postbird.example', 'move');
    expect((await get(path)).text).toContain('Ada.New@postbird.example');
    expect((await readerProfile(world.ctx, newsletter, ada)).address).toBe('ada@heronmail.example');
    expect((await post(path, [])).text).toContain('Your letters go to Ada.New@postbird.example now.');
    expect((await readerProfile(world.ctx, newsletter, ada)).address).toBe('Ada.New@postbird.example');
    await world.work();
    expect(world.mail.to('ada@heronmail.example').at(-1)!.source).toContain('Subject: New address');
    // Pressed again, or by a stranger who found it: nothing.
    expect((await post(path, [])).status).toBe(404);
    const { rows } = await sql<{
      name: string;
    }>`select d.name from readers r join mail_domains d on d.id = r.domain_id where r.id = ${ada}`.execute(world.ctx.db);
    expect(rows[0]!.name).toBe('postbird.example');
  });

  it('does not move whoever is suppressed past that', async () => {
    await suppressReaders(world.ctx, world.ctx.db, newsletter, [ada], { actor: 'member', name: 'Ottoline Vance' });
    const asked = await post(own(), [
      ['act', 'move'],
      ['address', 'ada.new@postbird.example'],
    ]);
    expect(asked.status).toBe(409);
    await world.work();
    expect(world.mail.to('ada.new@postbird.example')).toHaveLength(0);
  });

  it('does not say who else reads, and takes nobody’s address', async () => {
    await world.readers(newsletter, ['bo@heronmail.example']);
    const [taken, free] = [
      await post(own(), [
        ['act', 'move'],
        ['address', 'bo@heronmail.example'],
      ]),
      await post(own(), [
        ['act', 'move'],
        ['address', 'cy@heronmail.example'],
      ]),
    ];
    expect(taken.text.replaceAll('bo@', '').replace(/own\/\w+/g, '')).toBe(
      free.text.replaceAll('cy@', '').replace(/own\/\w+/g, ''),
    );
    await world.work();
    expect(world.mail.to('bo@heronmail.example')).toHaveLength(0);
    const path = linkIn('cy@heronmail.example', 'move');
    // Somebody signs up with it before the link is pressed.
    await world.readers(newsletter, ['cy@heronmail.example']);
    expect((await post(path, [])).status).toBe(409);
    expect(
      (
        await post(own(), [
          ['act', 'move'],
          ['address', 'no address'],
        ])
      ).status,
    ).toBe(422);
  });

  it('is erased at once and for good, and nobody brings them back but themselves', async () => {
    expect((await post(own(), [['act', 'erase']])).text).toContain('Erase all of it');
    expect(await stateOn(everyone)).toBe('reading');
    const path = own();
    expect(
      (
        await post(path, [
          ['act', 'erase'],
          ['sure', 'yes'],
        ])
      ).text,
    ).toContain('All of it is erased.');
    expect((await suppressedAmong(world.ctx, world.ctx.db, newsletter.id, ['ada@heronmail.example'])).size).toBe(1);
    expect((await get(path)).status).toBe(404);
    expect((await get(choices())).text).toContain('We do not know this reader any more');
  });
});

import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import type { FormDefinition } from '@/core/forms/definition';
import { FIRST_NAME_FIELD, newField } from '@/core/forms/fields';
import { leaveToken } from '@/core/sending/token';
import { MarkBook } from '@/server/delivery/marks';
import { giftOf } from '@/server/forms/arrive';
import { FormBook } from '@/server/forms/counts';
import { fieldsOf } from '@/server/forms/fields';
import {
  archiveForm,
  createForm,
  dropDraft,
  duplicateForm,
  formOf,
  formsOf,
  publicForm,
  publishForm,
  restoreVersion,
  saveDraft,
  versionsOf,
} from '@/server/forms/forms';
import { insightOf } from '@/server/forms/insight';
import { endTest, startTest, testOf } from '@/server/forms/tests';
import { addToList } from '@/server/keeping/acts';
import { keepList } from '@/server/keeping/things';
import { keepGift } from '@/server/newsletters/media';
import { overFetch, type PublicHandler } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { readerProfile } from '@/server/readers/readers';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let handle: PublicHandler;
let book: FormBook;
let id = '';

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  book = new FormBook(world.ctx);
  handle = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx), book));
});
afterAll(() => world.close());
beforeEach(async () => {
  id = (await createForm(world.ctx, newsletter, { name: 'After every article' })).id;
});

const form = () => formOf(world.ctx, newsletter, id);
const live = async () => (await publicForm(world.ctx, (await form()).publicId))!;
const write = async (part: Partial<FormDefinition>, name = 'After every article') => {
  const now = await form();
  const listIds = (now.draft ?? now).listIds;
  await saveDraft(world.ctx, newsletter, id, { name, listIds, definition: { ...(now.draft ?? now).definition, ...part } });
};
const publish = async (part: Partial<FormDefinition>) => {
  await write(part);
  return publishForm(world.ctx, newsletter, id);
};
let count = 0;
const someone = () => `visitor${++count}@heronmail.example`;
const send = async (email: string, more: Record<string, string> = {}) =>
  world.signUps.join(await live(), { email, ...more }, { network: `203.0.113.${count}`, agent: 'A browser' });
const get = async (path: string, init: RequestInit = {}) =>
  handle(
    new Request(new URL(path, 'https://go.inkset.example'), { headers: { 'user-agent': 'Mozilla/5.0 A browser' }, ...init }),
  );
const confirmFor = async (address: string) => {
  await world.work();
  return get(await world.linkIn(address, '/e/confirm/'), { method: 'POST' });
};
const readerOf = async (address: string) =>
  world.ctx.db.selectFrom('readers').selectAll().where('address', '=', address).executeTakeFirstOrThrow();

describe('a draft', () => {
  it('never changes what visitors see until it is published, and can be thrown away', async () => {
    await write({ heading: 'Half a thought' });
    expect((await live()).definition.heading).not.toBe('Half a thought');
    expect((await form()).draft?.definition.heading).toBe('Half a thought');
    await dropDraft(world.ctx, newsletter, id);
    expect((await form()).draft).toBeNull();
    expect(await publish({ heading: 'A whole one' })).toEqual({ version: 2 });
    expect([(await live()).definition.heading, (await form()).draft]).toEqual(['A whole one', null]);
    expect(await publishForm(world.ctx, newsletter, id)).toEqual({ version: 2 });
  });

  it('keeps every version, and brings an older one back as a draft', async () => {
    await publish({ heading: 'Second' });
    await publish({ heading: 'Third' });
    expect((await versionsOf(world.ctx, newsletter, id)).map((entry) => entry.version)).toEqual([3, 2, 1]);
    await restoreVersion(world.ctx, newsletter, id, 2);
    expect([(await form()).draft?.definition.heading, (await live()).definition.heading]).toEqual(['Second', 'Third']);
    expect(await publishForm(world.ctx, newsletter, id)).toEqual({ version: 4 });
    expect((await live()).definition.heading).toBe('Second');
    await expect(restoreVersion(world.ctx, newsletter, id, 99)).rejects.toMatchObject({ code: 'not-found' });
  });

  it('of another newsletter can neither be published, restored, copied, tested nor put away', async () => {
    const stranger = await world.newsletter('A stranger');
    await write({ heading: 'Mine' });
    for (const act of [
      () => publishForm(world.ctx, stranger, id),
      () => restoreVersion(world.ctx, stranger, id, 1),
      () => duplicateForm(world.ctx, stranger, id),
      () => archiveForm(world.ctx, stranger, id, true),
      () => startTest(world.ctx, stranger, id),
    ])
      await expect(act()).rejects.toMatchObject({ code: 'not-found' });
    await dropDraft(world.ctx, stranger, id);
    expect((await form()).draft?.definition.heading).toBe('Mine');
    expect(await versionsOf(world.ctx, stranger, id)).toEqual([]);
  });

  it('with a list that went away is refused at publishing, and stays', async () => {
    const now = await form();
    await write({ heading: 'Kept' });
    await world.ctx.db
      .updateTable('forms')
      .set({ draft_list_ids: ['00000000-0000-7000-8000-000000000000'] })
      .where('id', '=', now.id)
      .execute();
    await expect(publishForm(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'invalid' });
    expect((await form()).draft?.definition.heading).toBe('Kept');
  });

  it('is copied with its own address', async () => {
    await write({ heading: 'To copy' });
    const copy = await formOf(world.ctx, newsletter, (await duplicateForm(world.ctx, newsletter, id)).id);
    expect(copy).toMatchObject({ name: 'After every article, copy', version: 1, definition: { heading: 'To copy' } });
    expect(copy.publicId).not.toBe((await form()).publicId);
  });
});

describe('a form put away', () => {
  it('shows nothing on pages, takes nothing, says so, and comes back', async () => {
    const path = `/e/form/${(await form()).publicId}`;
    await archiveForm(world.ctx, newsletter, id, true);
    expect((await get(path)).status).toBe(410);
    expect(await (await get(`${path}.js`)).text()).toMatch(/^\/\* Inkset: .* has closed this form/);
    const body = new URLSearchParams({ email: someone() });
    const posted = await get(path, { method: 'POST', body, headers: { accept: 'application/json' } });
    expect([posted.status, await posted.json()]).toMatchObject([410, { ok: false, error: { code: 'expired' } }]);
    expect((await formsOf(world.ctx, newsletter)).at(-1)?.id).toBe(id);
    await archiveForm(world.ctx, newsletter, id, false);
    expect((await get(path)).status).toBe(200);
    const hosted = (await formsOf(world.ctx, newsletter)).find((entry) => entry.hosted)!;
    await expect(archiveForm(world.ctx, newsletter, hosted.id, true)).rejects.toMatchObject({ code: 'conflict' });
  });
});

describe('what is asked', () => {
  it('is kept with the reader, and new questions become fields of the newsletter', async () => {
    const { fields } = (await form()).definition;
    await publish({
      fields: [
        ...fields,
        FIRST_NAME_FIELD,
        newField('depth', 'number', 'Depth'),
        { ...newField('boat', 'choice', 'Boat'), options: ['Tug', 'Skiff'] },
      ],
    });
    expect((await fieldsOf(world.ctx, newsletter)).map((field) => field.key)).toEqual(expect.arrayContaining(['depth', 'boat']));
    const address = someone();
    await expect(send(address, { depth: 'far' })).rejects.toMatchObject({ fields: { depth: expect.any(String) } });
    await send(address, { depth: '600', boat: 'Skiff', first_name: 'Mara' });
    const profile = await readerProfile(world.ctx, newsletter, (await readerOf(address)).id);
    expect(profile.answers).toEqual(
      expect.arrayContaining([
        expect.objectContaining({ label: 'Depth', value: 600 }),
        expect.objectContaining({ label: 'Boat', value: 'Skiff' }),
      ]),
    );
    expect(profile.firstName).toBe('Mara');
  });

  it('where each came from stays with the reader and in the counts of the form', async () => {
    const address = someone();
    const first = {
      at: '2026-11-20T08:00:00Z',
      landing: 'https://lanternfish.example/dim-map',
      referrer: 'https://search.wide.example/?q=x',
    };
    const last = { ...first, source: 'Pier-Poster', campaign: 'Autumn', referrer: '' };
    await send(address, {
      page: 'https://lanternfish.example/dim-map',
      placement: 'panel',
      first: JSON.stringify(first),
      last: JSON.stringify(last),
    });
    expect(await readerOf(address)).toMatchObject({
      source_class: 'campaign',
      source_name: 'pier-poster',
      source_placement: 'panel',
      first_touch: { referrer: first.referrer },
    });
    const broken = someone();
    await send(broken, { first: '{"at":', last: '[1,2]' });
    expect(await readerOf(broken)).toMatchObject({ source_class: 'direct' });
    await confirmFor(address);
    const insight = await insightOf(world.ctx, newsletter, id);
    expect(insight.sources[0]).toEqual({ name: 'pier-poster', readers: 1, confirmed: 1 });
    expect(insight.campaigns).toEqual([{ name: 'Autumn', readers: 1, confirmed: 1 }]);
    expect(insight.pages[0]).toEqual({ name: '/dim-map', readers: 1, confirmed: 1 });
    expect(insight.days).toMatchObject({ asked: 2, confirmed: 1 });
  });
});

describe('notes of a form, which anybody may send', () => {
  it('count so often from one address and no more, and remember so many pages and no more', async () => {
    const noisy = await world.newsletter('Noisy');
    const { publicId } = await world.form(noisy);
    const book = new FormBook(world.ctx);
    const form = (await world.form(noisy))!;
    expect(form.publicId).toBe(publicId);
    const note = (n: number, client: string) =>
      book.add({ form, field: 'loaded', variant: '', place: `https://lanternfish.example/p${n}`, client });
    for (let n = 0; n < 1_000; n += 1) note(n, '2001:db8:1:2:3::9');
    for (let n = 0; n < 300; n += 1) note(1_000, `2001:db8:1:2:${n}::1`);
    await book.flush();
    const counts = async () =>
      (await world.pool.query('select sum(loaded)::int as loaded from form_days where form_id = $1', [form.id])).rows[0].loaded;
    expect(await counts()).toBe(120);
    for (let from = 0; from < 9; from += 1) {
      for (let n = 0; n < 100; n += 1) note(from * 100 + n, `203.0.113.${from}`);
      await book.flush();
    }
    const { rows } = await world.pool.query('select count(*)::int as n from form_places where form_id = $1', [form.id]);
    expect(rows[0].n).toBeLessThanOrEqual(500);
    expect(await counts()).toBe(1_020);
  });
});

describe('what comes next', () => {
  it('the confirmation letter speaks the words and the language of the form', async () => {
    await publish({
      language: 'pt',
      next: {
        ...(await form()).definition.next,
        confirmation: { subject: 'Só um clique, NAME', heading: '', words: '', button: '', senderId: '' },
      },
    });
    const address = someone();
    await send(address);
    await world.work();
    const { source } = world.mail.to(address)[0]!;
    const mail = await simpleParser(source);
    expect(mail.subject).toBe('Só um clique, Lanternfish Letters');
    expect(String(mail.html)).toContain('lang="pt"');
  });

  it('confirming brings tags, a welcome letter with the gift, and a word to the owners', async () => {
    const { next } = (await form()).definition;
    const gift = await keepGift(world.ctx, newsletter, new File(['forty plates of lamps'], 'Lámpara "1".pdf'));
    await publish({
      next: {
        ...next,
        tags: ['diver'],
        tellOwners: true,
        welcome: { on: true, subject: 'Come in', words: 'Mind the step.' },
        gift: { kind: 'file', label: 'Your plates', url: '', fileId: gift.id },
      },
    });
    const address = someone();
    await send(address);
    await world.work();
    const proof = await world.linkIn(address, '/e/confirm/');
    await get(proof, { method: 'POST' });
    await get(proof, { method: 'POST' });
    await world.work();
    const welcomes = world.mail.to(address).filter((mail) => mail.source.includes('Subject: Come in'));
    expect(welcomes).toHaveLength(1);
    const profile = await readerProfile(world.ctx, newsletter, (await readerOf(address)).id);
    expect(profile.tags).toEqual(['diver']);
    expect(world.mail.to(`${newsletter.owner}@postbird.example`).some((mail) => mail.source.includes(address))).toBe(true);
    const link = await world.linkIn(address, '/e/gift/');
    const file = await get(link);
    expect(await file.text()).toBe('forty plates of lamps');
    expect(file.headers.get('content-disposition')).toContain(`attachment; filename*=UTF-8''`);
    expect((await get(`${link.slice(0, -2)}00`)).status).toBe(404);
    // Another newsletter that knows the file's name does not get it.
    const stranger = await world.newsletter('A stranger with a gift');
    const theirs = await world.form(stranger);
    const wanted = { ...theirs.definition, next: { ...theirs.definition.next, gift: (await live()).definition.next.gift } };
    await saveDraft(world.ctx, stranger, theirs.id, { name: 'Theirs', listIds: theirs.listIds, definition: wanted });
    await publishForm(world.ctx, stranger, theirs.id);
    const forged = giftOf(world.ctx, { id: theirs.id, name: 'Theirs', definition: wanted }, (await readerOf(address)).id)!;
    expect((await get(forged.url)).status).toBe(404);
    world.clock.advance(31 * DAY);
    expect((await get(link)).status).toBe(410);
    await world.work();
  });

  it('a list greets its new readers by its own letter, where the form has none; whoever is added is not greeted', async () => {
    const listId = await world.list(newsletter);
    const { next } = (await form()).definition;
    await publish({ next: { ...next, welcome: { ...next.welcome, on: false } } });
    await keepList(world.ctx, newsletter, listId, {
      name: 'Everyone',
      publicName: 'The reef',
      welcome: 'yes',
      welcomeSubject: 'Down you go',
      welcomeWords: 'Hold your breath.',
    });
    const greeted = (address: string) => world.mail.to(address).filter((mail) => mail.source.includes('Subject: Down you go'));
    const address = someone();
    await send(address);
    await world.work();
    expect(greeted(address)).toEqual([]);
    const proof = await world.linkIn(address, '/e/confirm/');
    await get(proof, { method: 'POST' });
    await get(proof, { method: 'POST' });
    await world.work();
    expect(greeted(address)).toHaveLength(1);
    const { text } = await simpleParser(greeted(address)[0]!.source);
    expect(text).toContain('Hold your breath.');
    expect(text).toContain('this address is on “The reef”');
    expect(greeted(address)[0]!.source).toContain('List-Unsubscribe-Post');
    // A form's own letter stands for it.
    await publish({ next: { ...next, welcome: { on: true, subject: 'Come in', words: '' } } });
    const other = someone();
    await send(other);
    await world.work();
    await get(await world.linkIn(other, '/e/confirm/'), { method: 'POST' });
    await world.work();
    expect(greeted(other)).toEqual([]);
    // By the page of choices, of their own will.
    const readerId = (await readerOf(other)).id;
    const link = `/e/choices/${leaveToken({ readerId, delivery: null }, 'choices', world.ctx.config.keys)}`;
    await get(`https://go.inkset.example${link}`, { method: 'POST', body: new URLSearchParams({ act: 'keep' }) });
    await get(`https://go.inkset.example${link}`, { method: 'POST', body: new URLSearchParams({ act: 'keep', lists: listId }) });
    await world.work();
    expect(greeted(other)).toHaveLength(1);
    const added = someone();
    const [id] = await world.readers(newsletter, [added]);
    await sql`delete from memberships where reader_id = ${id}`.execute(world.ctx.db);
    await addToList(world.ctx, world.ctx.db, newsletter, [id!], {
      listId,
      agreement: { how: 'vouched', said: 'At the pier.' },
      by: { actor: 'member', name: 'Ottoline Vance' },
    });
    await world.work();
    expect(greeted(added)).toEqual([]);
    await keepList(world.ctx, newsletter, listId, { name: 'Everyone' });
    await publish({ next });
  });

  it('who has not confirmed after three days is reminded once, and never where it is switched off', async () => {
    const address = someone();
    await send(address);
    await world.work();
    world.clock.advance(2 * DAY);
    await world.work();
    expect(world.mail.to(address)).toHaveLength(1);
    for (let day = 0; day < 6; day += 1) {
      world.clock.advance(2 * DAY);
      await world.work();
    }
    expect(world.mail.to(address)).toHaveLength(2);
    expect(await (await confirmFor(address)).text()).toContain('You are on the list');
    await publish({ next: { ...(await form()).definition.next, reminder: false } });
    const other = someone();
    await send(other);
    world.clock.advance(4 * DAY);
    await world.work();
    expect(world.mail.to(other)).toHaveLength(1);
  });

  it('an address gets at most three confirmation letters a day, whichever newsletter asks', async () => {
    const address = someone();
    for (let n = 0; n < 5; n += 1) {
      const other = await world.newsletter(`Newsletter ${n}`);
      await world.signUps.join(await world.form(other), { email: address }, { network: `198.51.100.${n}`, agent: '' });
    }
    await world.work();
    expect(world.mail.to(address)).toHaveLength(3);
  });

  it('a form without script is led on to the page that the writer chose', async () => {
    await publish({ next: { ...(await form()).definition.next, redirect: 'https://lanternfish.example/thanks' } });
    const posted = await get(`/e/form/${(await form()).publicId}`, {
      method: 'POST',
      body: new URLSearchParams({ email: someone() }),
    });
    expect([posted.status, posted.headers.get('location')]).toEqual([303, 'https://lanternfish.example/thanks']);
  });
});

describe('a mistyped domain', () => {
  it('is answered with the better spelling; a domain nobody answers for is let through', async () => {
    await world.readers(
      newsletter,
      ['a', 'b', 'c', 'd', 'e'].map((name) => `${name}@heronmail.example`),
    );
    // The domain of one single reader is nobody's business.
    await world.readers(newsletter, ['only@tinyharbour.example']);
    world.dns.noMail.set('tinyharbor.example', 'ENOTFOUND');
    await expect(send('x@tinyharbor.example')).rejects.toMatchObject({
      fields: { email: expect.not.stringContaining('tinyharbour') },
    });
    world.dns.noMail.set('heronmial.example', 'ENOTFOUND');
    world.dns.noMail.set('quiet.example', 'EUNANSWERED');
    await expect(send('mara@heronmial.example')).rejects.toMatchObject({
      fields: { email: 'Did you mean mara@heronmail.example?' },
    });
    await expect(send('mara@quiet.example')).resolves.toBeTruthy();
  });
});

describe('a form test', () => {
  it('needs a draft, shows both, counts apart, and keeps the one that is chosen', async () => {
    await expect(startTest(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
    await write({ heading: 'Version B' });
    await startTest(world.ctx, newsletter, id);
    await write({ heading: 'Another' });
    await expect(startTest(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
    const { publicId } = await form();
    const script = await (await get(`/e/form/${publicId}.js`)).text();
    expect(script).toContain('Version B');
    for (const v of ['a', 'a', 'b', 'b']) await get(`/e/form/${publicId}/note?what=loaded&v=${v}`, { method: 'POST' });
    await get(`/e/form/${publicId}/note?what=nonsense&v=a`, { method: 'POST' });
    await book.flush();
    const address = someone();
    await send(address, { variant: 'b' });
    await confirmFor(address);
    const test = await testOf(world.ctx, newsletter, id);
    expect(test).toMatchObject({ heading: 'Version B', a: { shown: 2, confirmed: 0 }, b: { shown: 2, sentIn: 1, confirmed: 1 } });
    expect(test?.bWins).toBeGreaterThan(0.5);
    await endTest(world.ctx, newsletter, id, 'b');
    expect((await live()).definition.heading).toBe('Version B');
    expect(await testOf(world.ctx, newsletter, id)).toBeNull();
    await expect(endTest(world.ctx, newsletter, id, 'a')).rejects.toMatchObject({ code: 'conflict' });
  });
});

describe('where a form was seen', () => {
  it('is kept page by page, with when last', async () => {
    const { publicId } = await form();
    for (const path of ['/a', '/a?x=1', '/b'])
      await get(`/e/form/${publicId}/note?what=loaded&at=${encodeURIComponent(`https://lanternfish.example${path}`)}`, {
        method: 'POST',
      });
    await get(`/e/form/${publicId}/note?what=loaded&at=nonsense`, { method: 'POST' });
    await book.flush();
    const { places, days } = await insightOf(world.ctx, newsletter, id);
    expect(places.map(({ host, path, loads }) => `${host}${path} ${loads}`).sort()).toEqual([
      'lanternfish.example/a 2',
      'lanternfish.example/b 1',
    ]);
    expect(days.loaded).toBe(4);
  });
});

import { createHash } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { MarkBook } from '@/server/delivery/marks';
import { createForm, formOf, saveDraft } from '@/server/forms/forms';
import { openNewsletter } from '@/server/newsletters/newsletters';
import { overFetch, type PublicHandler } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { readerProfile } from '@/server/readers/readers';
import { letterOf } from '@/server/sending/views';
import { MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let handle: PublicHandler;
let marks: MarkBook;
let path = '';

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  marks = new MarkBook(world.ctx);
  handle = overFetch(publicRoutes(world.ctx, marks));
  path = `/e/form/${(await world.form(newsletter)).publicId}`;
});
afterAll(() => world.close());

const ask = (at: string, init: RequestInit = {}) =>
  handle(
    new Request(new URL(at, 'https://go.inkset.example'), {
      ...init,
      headers: { 'user-agent': 'Mozilla/5.0 A browser', ...init.headers },
    }),
  );
const post = (fields: Record<string, string>, headers: Record<string, string> = {}) =>
  ask(path, { method: 'POST', body: new URLSearchParams(fields), headers });
const JSON_WANTED = { accept: 'application/json' };
const readerCount = async () =>
  Number(
    (
      await world.ctx.db
        .selectFrom('readers')
        .select((eb) => eb.fn.countAll<string>().as('n'))
        .executeTakeFirstOrThrow()
    ).n,
  );

describe('a form', () => {
  it('is a page that may be framed, whose one script only says how high it is', async () => {
    const response = await ask(path, { headers: { referer: 'https://lanternfish.example/a"b' } });
    const html = await response.text();
    expect(html).toContain('name="email"');
    const scripts = [...html.matchAll(/<script>([\s\S]*?)<\/script>/g)].map((match) => match[1]!);
    expect(scripts).toEqual([expect.stringContaining('ResizeObserver')]);
    const hash = createHash('sha256').update(scripts[0]!).digest('base64');
    expect(response.headers.get('content-security-policy')).toContain(`'sha256-${hash}'`);
    expect(html).toContain('value="https://lanternfish.example/a&quot;b"');
    expect(response.headers.get('content-security-policy')).toContain('frame-ancestors *');
    const leave = await ask('/e/leave/x');
    expect(leave.headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
  });

  it('answers HTML and JSON, and gives back what was typed with the fault beside it', async () => {
    expect(await (await post({ email: 'a@heronmail.example' })).text()).toContain('Nearly there');
    const fine = await post({ email: 'b@heronmail.example' }, JSON_WANTED);
    expect([fine.status, await fine.json()]).toEqual([200, { ok: true }]);
    const wrong = await post({ email: 'not <an> address', first_name: 'Mara' });
    expect(wrong.status).toBe(422);
    expect(await wrong.text()).toMatch(/value="not &lt;an&gt; address"[\s\S]*does not look like an email address/);
    const json = await post({ email: '' }, JSON_WANTED);
    expect(await json.json()).toMatchObject({ ok: false, error: { code: 'invalid', fields: { email: expect.any(String) } } });
  });

  it.each([
    ['a megabyte', () => post({ email: 'c@heronmail.example', page: 'x'.repeat(1_000_000) }), 422],
    ['no content type', () => ask(path, { method: 'POST', body: 'email=c', headers: { 'content-type': 'text/plain' } }), 422],
    ['broken JSON', () => ask(path, { method: 'POST', body: '{"email":', headers: { 'content-type': 'application/json' } }), 422],
    ['a JSON list', () => ask(path, { method: 'POST', body: '[1]', headers: { 'content-type': 'application/json' } }), 422],
    [
      'an unknown form',
      () => ask('/e/form/000000000000', { method: 'POST', body: new URLSearchParams({ email: 'c@b.example' }) }),
      404,
    ],
    ['a wild path', () => ask('/e/form/..%2f..', {}), 404],
  ])('%s has its own answer and keeps nothing', async (_name, send, status) => {
    const before = await readerCount();
    const response = await send();
    expect(response.status).toBe(status);
    expect(await readerCount()).toBe(before);
  });

  it('never thanks falsely when the database is away', async () => {
    const away = overFetch(publicRoutes({ ...world.ctx, db: world.ctx.db.withSchema('nowhere') }, marks));
    const response = await away(
      new Request(`https://go.inkset.example${path}`, {
        method: 'POST',
        body: new URLSearchParams({ email: 'd@b.example' }),
        headers: JSON_WANTED,
      }),
    );
    expect(response.status).toBe(503);
    expect(await response.json()).toMatchObject({
      ok: false,
      error: { sentence: expect.stringContaining('you are not signed up yet') },
    });
  });

  it('of another newsletter cannot be read or saved', async () => {
    const stranger = await world.newsletter('A stranger');
    const own = await createForm(world.ctx, newsletter, { name: 'Mine' });
    const form = await formOf(world.ctx, newsletter, own.id);
    await expect(formOf(world.ctx, stranger, own.id)).rejects.toMatchObject({ code: 'not-found' });
    const input = { name: 'Stolen', definition: form.definition, listIds: [await world.list(stranger)] };
    await expect(saveDraft(world.ctx, stranger, own.id, input)).rejects.toMatchObject({ code: 'not-found' });
    await expect(saveDraft(world.ctx, newsletter, own.id, input)).rejects.toMatchObject({ code: 'invalid' });
    await expect(openNewsletter(world.ctx, stranger.owner, newsletter.slug)).rejects.toMatchObject({ code: 'not-found' });
    const [id] = await world.readers(newsletter, ['private@heronmail.example']);
    await expect(readerProfile(world.ctx, stranger, id!)).rejects.toMatchObject({ code: 'not-found' });
  });
});

describe('links in letters', () => {
  let links: { click: string; pixel: string; leave: string };
  let letterId: string;
  beforeAll(async () => {
    const { senderId } = await world.sender(newsletter);
    await world.readers(newsletter, ['links@heronmail.example']);
    letterId = await world.letter(newsletter, senderId, {
      subject: 'Links',
      nodes: [{ kind: 'button', label: 'Go', href: 'https://lanternfish.example/a?b=1&c=2' }],
    });
    await world.work();
    const { simpleParser } = await import('mailparser');
    const html = String((await simpleParser(world.mail.to('links@heronmail.example').at(-1)!.source)).html).replace(
      /&amp;/g,
      '&',
    );
    const find = (pattern: RegExp) => pattern.exec(html)![0];
    links = {
      click: find(/https:\/\/go\S*\/e\/c\/[^"]+/),
      pixel: find(/https:\/\/go\S*\/e\/o\/[^"]+/),
      leave: find(/https:\/\/go\S*\/e\/leave\/[^"]+/),
    };
    world.clock.advance(5 * MINUTE);
  });
  const counts = async () => {
    await marks.flush();
    return (await letterOf(world.ctx, newsletter, letterId)).counts;
  };

  it('an open by a machine and one by a person are counted apart', async () => {
    await ask(links.pixel, { headers: { 'user-agent': 'ImageProxy/1' } });
    expect(await counts()).toMatchObject({ people: 0, machines: 1 });
    const response = await ask(links.pixel);
    expect(response.headers.get('content-type')).toBe('image/gif');
    await ask(links.pixel);
    expect(await counts()).toMatchObject({ people: 1, machines: 1 });
    expect((await ask('/e/o/forged.gif')).status).toBe(200);
  });

  it('a click leads on and counts; a changed link leads nowhere', async () => {
    const response = await ask(links.click);
    expect([response.status, response.headers.get('location')]).toEqual([302, 'https://lanternfish.example/a?b=1&c=2']);
    await ask(links.click);
    expect(await counts()).toMatchObject({ clicked: 1 });
    expect((await letterOf(world.ctx, newsletter, letterId)).links[0]).toMatchObject({ clicks: 2 });
    const open = links.click.replace(encodeURIComponent('lanternfish.example'), 'evil.example');
    const changed = await ask(open);
    expect([changed.status, changed.headers.get('location')]).toEqual([404, null]);
  });

  it('the leave page asks, a post leaves, and scanners that only look change nothing', async () => {
    await ask(links.leave);
    await ask(links.leave, { method: 'HEAD' });
    expect(await counts()).toMatchObject({ left: 0 });
    const done = await ask(links.leave, { method: 'POST', body: new URLSearchParams({ 'List-Unsubscribe': 'One-Click' }) });
    expect(await done.text()).toContain('You have unsubscribed');
    expect(await (await ask(links.leave)).text()).toContain('You have unsubscribed');
    expect(await counts()).toMatchObject({ left: 1 });
    expect((await ask(`${links.leave.slice(0, -2)}aa`)).status).toBe(404);
    // Whoever was sent a link that counts a click can count a click, and nothing else.
    const token = /\/e\/c\/([a-z2-7]+)/.exec(links.click)![1]!;
    for (const path of [`/e/leave/${token}`, `/e/confirm/${token}`])
      expect((await ask(path, { method: 'POST' })).status).toBe(404);
  });

  it('a confirmation link confirms when it is sent, never when it is fetched, ahead or by a scanner', async () => {
    await post({ email: 'ahead@heronmail.example' });
    await world.work();
    const link = await world.linkIn('ahead@heronmail.example', '/e/confirm/');
    for (const init of [{ headers: { 'sec-purpose': 'prefetch' } }, { method: 'HEAD' }, {}, {}]) {
      const looked = await ask(link, init);
      expect(looked.status).toBe(200);
      expect(await looked.text()).toContain('One click, and you are on the list');
    }
    const standing = async () =>
      (
        await world.ctx.db
          .selectFrom('readers')
          .select('standing')
          .where('address', '=', 'ahead@heronmail.example')
          .executeTakeFirstOrThrow()
      ).standing;
    expect(await standing()).toBe('waiting');
    // Pressed twice at once.
    const pressed = await Promise.all([ask(link, { method: 'POST' }), ask(link, { method: 'POST' })]);
    for (const one of pressed) expect(await one.text()).toContain('You are on the list');
    expect(await standing()).toBe('reading');
    expect(await (await ask(link)).text()).toContain('You are on the list');
    expect((await ask('/e/confirm/made-up', { method: 'POST' })).status).toBe(404);
    expect((await ask('/e/confirm/made-up')).status).toBe(404);
  });
});

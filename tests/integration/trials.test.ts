import { createHash } from 'node:crypto';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { sql } from 'kysely';
import sharp from 'sharp';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { newField } from '@/core/forms/fields';
import { EVERYONE } from '@/core/readers/view';
import { MarkBook } from '@/server/delivery/marks';
import { archiveForm, createForm, formOf, publishForm, saveDraft } from '@/server/forms/forms';
import { compareForms, insightOf } from '@/server/forms/insight';
import { pageForPicking, pickingAddress } from '@/server/forms/picking';
import { endTrial, startTrial, trialOf } from '@/server/forms/trials';
import { find } from '@/server/growth/find';
import { sourcesOf } from '@/server/growth/sources';
import { housekeeping } from '@/server/jobs/tick';
import { keepPicture } from '@/server/newsletters/media';
import { overFetch, type PublicHandler } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { listsOf, totalsOf } from '@/server/readers/readers';
import { readersShown } from '@/server/readers/shown';
import { tablePage } from '@/server/readers/table';
import { MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let handle: PublicHandler;
let id = '';

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  handle = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
});
afterAll(() => world.close());
beforeEach(async () => {
  id = (await createForm(world.ctx, newsletter, { name: 'After every article' })).id;
});

const ME = 'ottoline@postbird.example';
const start = (address = ME, of = newsletter) => startTrial(world.ctx, of, id, address, handle);
const stepsOf = async (trial: string) =>
  Object.fromEntries((await trialOf(world.ctx, newsletter, trial)).steps.map((step) => [step.step, step.state]));
const visit = async (path: string) =>
  handle(new Request(path, { method: path.includes('/e/confirm/') ? 'POST' : 'GET', headers: { 'user-agent': 'A browser' } }));
/** Everything of the newsletter that a trial could leave something in. */
const left = async () => {
  const { rows } = await sql`
    select (select count(*) from readers) as readers, (select count(*) from memberships) as memberships,
           (select count(*) from consents) as consents, (select count(*) from confirmations) as confirmations,
           (select count(*) from mails) as mails, (select count(*) from daily_counts) as days,
           (select count(*) from form_days) as "formDays", (select count(*) from reader_tags) as tags`.execute(world.ctx.db);
  return rows[0];
};

describe('a writer’s own try', () => {
  it('goes the whole way of a visitor, step by step, and leaves nothing behind', async () => {
    const form = await formOf(world.ctx, newsletter, id);
    const next = {
      ...form.definition.next,
      tags: ['tried'],
      tellOwners: true,
      welcome: { on: true, subject: 'Hello', words: 'There you are.' },
    };
    const fields = [...form.definition.fields, { ...newField('why', 'text', 'Why'), required: true }];
    await saveDraft(world.ctx, newsletter, id, {
      name: form.name,
      listIds: form.listIds,
      definition: { ...form.definition, next, fields, consent: 'I agree.' },
    });
    await publishForm(world.ctx, newsletter, id);
    const before = await left();
    const trial = await start();
    expect(await stepsOf(trial.id)).toEqual({
      'sent in': 'done',
      'confirmation left': 'waiting',
      'mailbox accepted': 'waiting',
      clicked: 'waiting',
      reading: 'waiting',
      'welcome left': 'waiting',
    });
    world.clock.advance(2_000);
    await world.work();
    const mailed = await trialOf(world.ctx, newsletter, trial.id);
    expect(mailed.steps.slice(1, 3).map((step) => [step.state, step.at?.getTime()])).toEqual([
      ['done', world.clock.now().getTime()],
      ['done', world.clock.now().getTime()],
    ]);
    expect(mailed.steps[2]!.note).toMatch(/^250/);
    world.clock.advance(30_000);
    expect((await visit(await world.linkIn(ME, '/e/confirm/'))).status).toBe(200);
    await world.work();
    expect(new Set(Object.values(await stepsOf(trial.id)))).toEqual(new Set(['done']));
    expect(world.mail.to(ME).map((mail) => /Subject: (.*)/.exec(mail.source)?.[1]?.trim())).toEqual([
      'Please confirm: Lanternfish Letters',
      'Hello',
    ]);
    // No owner is told, and nothing of it is counted anywhere.
    expect(await totalsOf(world.ctx, newsletter)).toMatchObject({ reading: 0, waiting: 0 });
    expect((await tablePage(world.ctx, newsletter, { find: '', condition: EVERYONE }, 'newest')).rows).toEqual([]);
    expect((await listsOf(world.ctx, newsletter)).map((list) => list.reading)).toEqual([0]);
    expect(await find(world.ctx, newsletter, 'ottoline@')).toEqual([]);
    expect((await sourcesOf(world.ctx, newsletter, 28)).asked).toBe(0);
    expect(await insightOf(world.ctx, newsletter, id)).toMatchObject({ days: { asked: 0, confirmed: 0 }, sources: [] });
    await endTrial(world.ctx, newsletter, trial.id);
    await endTrial(world.ctx, newsletter, trial.id);
    expect(await left()).toEqual(before);
    expect((await trialOf(world.ctx, newsletter, trial.id)).ended).toBe(true);
  });

  it('stands beside the reader that the writer is already, and touches nothing of them', async () => {
    const [reader] = await world.readers(newsletter, ['both@postbird.example']);
    const trial = await start('both@postbird.example');
    await world.work();
    await visit(await world.linkIn('both@postbird.example', '/e/confirm/'));
    expect((await stepsOf(trial.id)).reading).toBe('done');
    await endTrial(world.ctx, newsletter, trial.id);
    const own = await world.ctx.db.selectFrom('readers').select('id').where('address', '=', 'both@postbird.example').execute();
    expect(own).toEqual([{ id: reader }]);
  });

  it('says what the mailbox said when it refused', async () => {
    world.mail.answers.set('full@postbird.example', [550, 'No such mailbox here']);
    const trial = await start('full@postbird.example');
    await world.work();
    const { steps } = await trialOf(world.ctx, newsletter, trial.id);
    expect(steps[2]).toMatchObject({ state: 'failed', note: expect.stringContaining('No such mailbox') });
  });

  it('ends when the next begins, and by itself after an hour', async () => {
    const first = await start();
    const second = await start('second@postbird.example');
    expect((await trialOf(world.ctx, newsletter, first.id)).ended).toBe(true);
    world.clock.advance(59 * MINUTE);
    await housekeeping(world.ctx);
    expect((await trialOf(world.ctx, newsletter, second.id)).ended).toBe(false);
    world.clock.advance(2 * MINUTE);
    await housekeeping(world.ctx);
    expect((await trialOf(world.ctx, newsletter, second.id)).ended).toBe(true);
  });

  it('is refused with a sentence for what cannot be tried, and stays with its newsletter', async () => {
    await expect(start('nonsense')).rejects.toMatchObject({ code: 'invalid', fields: { address: expect.any(String) } });
    world.dns.noMail.set('nowhere.example', 'ENOTFOUND');
    await expect(start('me@nowhere.example')).rejects.toMatchObject({ sentence: expect.stringContaining('The form answered') });
    const stranger = await world.newsletter('A stranger');
    await expect(start(ME, stranger)).rejects.toMatchObject({ code: 'not-found' });
    const trial = await start();
    await expect(trialOf(world.ctx, stranger, trial.id)).rejects.toMatchObject({ code: 'not-found' });
    await archiveForm(world.ctx, newsletter, id, true);
    await expect(start()).rejects.toMatchObject({ code: 'conflict' });
  });

  it('cannot be begun by a visitor who makes up a token', async () => {
    const { publicId } = await formOf(world.ctx, newsletter, id);
    const email = 'visitor@heronmail.example';
    const answer = await handle(
      new Request(`https://go.inkset.example/e/form/${publicId}`, {
        method: 'POST',
        headers: { accept: 'application/json' },
        body: new URLSearchParams({ email, trial: 'made-up' }),
      }),
    );
    expect(answer.status).toBe(200);
    const reader = await world.ctx.db.selectFrom('readers').select('address_key').where('address', '=', email).executeTakeFirst();
    expect(reader).toEqual({ address_key: email });
  });
});

describe('counts by where readers came from', () => {
  it('hold by form, placement, page, source, medium and campaign, for the days asked for', async () => {
    const own = await world.newsletter('Sources');
    const form = await world.form(own);
    const touch = (query: string, referrer = '') => ({
      at: world.clock.now().toISOString(),
      landing: `https://lanternfish.example/${query}`,
      referrer,
      source: '',
      medium: '',
      campaign: '',
      term: '',
      content: '',
    });
    const send = (name: string, more: Record<string, string>) =>
      world.signUps.join(
        form,
        { email: `${name}@heronmail.example`, page: 'https://lanternfish.example/posts/a?x=1', ...more },
        { network: name, agent: '' },
      );
    await send('a', { placement: 'ribbon', referrer: 'https://search.example/' });
    await send('b', { last: JSON.stringify({ ...touch(''), source: 'weekly', medium: 'newsletter', campaign: 'guest' }) });
    await send('c', { first: JSON.stringify(touch('', 'https://reefboard.example/x')), placement: 'ribbon' });
    await world.work();
    await visit(await world.linkIn('a@heronmail.example', '/e/confirm/'));
    const { asked, confirmed, by } = await sourcesOf(world.ctx, own, 28);
    expect([asked, confirmed]).toEqual([3, 1]);
    const names = (rows: { name: string; asked: number; confirmed: number }[]) =>
      rows.map((row) => [row.name, row.asked, row.confirmed]);
    expect(names(by.form)).toEqual([['Sign-up page', 3, 1]]);
    expect(names(by.placement)).toEqual([
      ['ribbon', 2, 1],
      ['panel', 1, 0],
    ]);
    expect(names(by.page)).toEqual([['lanternfish.example/posts/a', 3, 1]]);
    expect(names(by.source)).toEqual([
      ['search.example', 1, 1],
      ['direct', 1, 0],
      ['weekly', 1, 0],
    ]);
    expect(names(by.medium)).toEqual([['newsletter', 1, 0]]);
    expect(names(by.campaign)).toEqual([['guest', 1, 0]]);
    expect(by['first source'].map((row) => row.name)).toContain('reefboard.example');
    world.clock.advance(29 * 24 * 60 * MINUTE);
    expect((await sourcesOf(world.ctx, own, 28)).asked).toBe(0);
    expect((await sourcesOf(world.ctx, own, 90)).asked).toBe(3);
  });

  it('set two forms side by side, with a probability', async () => {
    const other = await createForm(world.ctx, newsletter, { name: 'The other' });
    const came = async (form: string, confirmed: number) => {
      await world.ctx.db
        .insertInto('form_days')
        .values({ form_id: form, newsletter_id: newsletter.id, day: world.clock.now().toISOString().slice(0, 10), loaded: 1000 })
        .execute();
      const addresses = Array.from({ length: confirmed }, (_, n) => `${form.slice(-6)}${n}@heronmail.example`);
      await world.readers(newsletter, addresses, { source_form_id: form });
    };
    await came(id, 20);
    await came(other.id, 60);
    const { a, b, bWins } = await compareForms(world.ctx, newsletter, [id, other.id], 28);
    expect([a.days.confirmed, b.days.confirmed]).toEqual([20, 60]);
    expect(bWins).toBeGreaterThan(0.999);
  });
});

describe('a picture for a form', () => {
  it('is made smaller, kept, and fetched by anybody; what is no picture is refused', async () => {
    const bytes = await sharp({ create: { width: 2000, height: 500, channels: 3, background: '#17645c' } })
      .jpeg()
      .toBuffer();
    const { url } = await keepPicture(world.ctx, newsletter, new File([new Uint8Array(bytes)], 'sea.jpg'));
    const answer = await visit(url);
    expect(answer.headers.get('content-type')).toBe('image/png');
    expect(await sharp(Buffer.from(await answer.arrayBuffer())).metadata()).toMatchObject({ width: 1200, height: 300 });
    // A photograph of forty megapixels is kept as photographs are; a picture that moves is kept as its first.
    const noise = await sharp({
      create: { width: 800, height: 500, channels: 3, background: '#000', noise: { type: 'gaussian', mean: 120, sigma: 40 } },
    })
      .resize(7744, 5164)
      .jpeg({ quality: 60 })
      .toBuffer();
    const photograph = await keepPicture(world.ctx, newsletter, new File([new Uint8Array(noise)], 'sea.jpg'));
    expect(photograph.url).toMatch(/\.jpg$/);
    const shown = await visit(photograph.url);
    expect(shown.headers.get('content-type')).toBe('image/jpeg');
    const kept = Buffer.from(await shown.arrayBuffer());
    expect(await sharp(kept).metadata()).toMatchObject({ format: 'jpeg', width: 1200 });
    expect(kept.length).toBeLessThan(1_000_000);
    const moving = await sharp(Buffer.alloc(40 * 40 * 3 * 4, 99), { raw: { width: 40, height: 160, channels: 3 } })
      .gif()
      .toBuffer();
    expect((await keepPicture(world.ctx, newsletter, new File([new Uint8Array(moving)], 'a.gif'))).url).toMatch(/\.png$/);
    // What would unfold to more than can be held, and what is too long to be read.
    const bomb = await sharp({ create: { width: 9_000, height: 9_000, channels: 3, background: '#fff' } })
      .png({ compressionLevel: 9 })
      .toBuffer();
    await expect(keepPicture(world.ctx, newsletter, new File([new Uint8Array(bomb)], 'b.png'))).rejects.toMatchObject({
      code: 'invalid',
    });
    await expect(keepPicture(world.ctx, newsletter, new File([new Uint8Array(20_000_001)], 'c.png'))).rejects.toMatchObject({
      sentence: 'This picture is larger than 20 MB.',
    });
    for (const file of [new File(['no picture'], 'a.png'), null, new File([], 'empty.png')])
      await expect(keepPicture(world.ctx, newsletter, file)).rejects.toMatchObject({ code: 'invalid' });
  });
});

describe('a copy of a page to click in', () => {
  let server: Server;
  let origin = '';
  beforeAll(async () => {
    server = createServer((request, response) => {
      const found = request.url === '/post';
      response.writeHead(found || request.url === '/data' ? 200 : 404, {
        'content-type': found ? 'text/html' : 'application/json',
      });
      response.end(
        '<!doctype html><html><head><script>alert(1)</script></head><body onload="alert(2)"><article>Hi</article></body></html>',
      );
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    origin = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  });
  afterAll(() => server.close());

  it('is shown without an origin and under our policy, for some minutes, to whoever has the address that the builder made', async () => {
    const { address } = await pickingAddress(world.ctx, `${origin}/post`);
    const shown = await handle(new Request(address));
    const policy = shown.headers.get('content-security-policy')!;
    expect(policy).toMatch(
      /^sandbox allow-scripts; script-src 'sha256-[^']+'; object-src 'none'.*frame-ancestors https:\/\/inkset\.example$/,
    );
    const html = await shown.text();
    expect(html).toContain(`<base href="${origin}/post">`);
    expect(html).toContain('<article>Hi</article>');
    const script = /<script>(.*?)<\/script>/s.exec(html)![1]!;
    expect(policy).toContain(createHash('sha256').update(script).digest('base64'));
    // Nobody else makes our host show pages of their choice.
    const other = new URL(address);
    other.searchParams.set('u', `${origin}/other`);
    expect((await handle(new Request(other))).status).toBe(404);
    world.clock.advance(11 * 60_000);
    expect((await handle(new Request(address))).status).toBe(404);
  });
  it('says why where there is none', async () => {
    await expect(pageForPicking(world.ctx, `${origin}/gone`)).rejects.toMatchObject({ sentence: expect.stringContaining('404') });
    await expect(pageForPicking(world.ctx, `${origin}/data`)).rejects.toMatchObject({ code: 'invalid' });
    await expect(pageForPicking(world.ctx, 'javascript:alert(1)')).rejects.toMatchObject({ code: 'invalid' });
  });
});

describe('what a form can say of those who read', () => {
  it('how many there are, from the floor on, in tens', async () => {
    const own = await world.newsletter('Counted');
    const addresses = Array.from({ length: 127 }, (_, n) => `counted${n}@heronmail.example`);
    await world.readers(own, addresses);
    expect(await readersShown(world.ctx, own.id, 0)).toBeUndefined();
    expect(await readersShown(world.ctx, own.id, 121)).toBeUndefined();
    expect(await readersShown(world.ctx, own.id, 120)).toBe(120);
    await world.readers(own, ['late1@heronmail.example', 'late2@heronmail.example']);
    expect(await readersShown(world.ctx, own.id, 100)).toBe(120);
    await world.readers(own, ['late3@heronmail.example']);
    expect(await readersShown(world.ctx, own.id, 100)).toBe(130);
  });

  it('how many of those who came thirty days ago still read', async () => {
    const own = await world.newsletter('Stayed');
    const { id: formId } = await world.form(own);
    const ids = await world.readers(own, ['stays@heronmail.example', 'leaves@heronmail.example'], { source_form_id: formId });
    expect((await insightOf(world.ctx, own, formId)).stayed).toEqual({ of: 0, still: 0 });
    world.clock.advance(31 * 24 * 60 * MINUTE);
    await world.ctx.db.updateTable('memberships').set({ state: 'left' }).where('reader_id', '=', ids[1]!).execute();
    expect((await insightOf(world.ctx, own, formId)).stayed).toEqual({ of: 2, still: 1 });
  });
});

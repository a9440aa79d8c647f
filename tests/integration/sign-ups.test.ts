import { createRequire } from 'node:module';
import { sql } from 'kysely';
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest';
import { newField } from '@/core/forms/fields';
import { solve } from '@/core/forms/work';
import { MarkBook } from '@/server/delivery/marks';
import { confirm } from '@/server/forms/confirm';
import { formOf, publicForm, publishForm, saveDraft } from '@/server/forms/forms';
import { SignUps } from '@/server/forms/sign-ups';
import { startTest } from '@/server/forms/tests';
import { overFetch, type PublicHandler } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { formPoster, network, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let handle: PublicHandler;

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  handle = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
});
afterAll(() => world.close());
afterEach(() => void vi.useRealTimers());

let count = 0;
const someone = () => `crowd${++count}@heronmail.example`;
const newForm = async () => {
  const form = await world.newForm(newsletter);
  return { ...form, live: (await publicForm(world.ctx, form.publicId))! };
};
const post: ReturnType<typeof formPoster> = (...sent) => formPoster(handle)(...sent);
const rowsOf = async (formId: string) => {
  const { rows } = await sql<{ readers: number; letters: number; sentIn: number }>`
    select (select count(*)::int from readers where source_form_id = ${formId}) as readers,
           (select count(*)::int from confirmations where form_id = ${formId}) as letters,
           (select coalesce(sum(sent_in), 0)::int from form_days where form_id = ${formId}) as "sentIn"`.execute(world.ctx.db);
  return rows[0]!;
};

describe('many at once', () => {
  it('are all kept, each with a letter, and counted', async () => {
    const { id, live } = await newForm();
    await Promise.all(
      Array.from({ length: 120 }, () => world.signUps.join(live, { email: someone() }, { network: network(), agent: '' })),
    );
    expect(await rowsOf(id)).toEqual({ readers: 120, letters: 120, sentIn: 120 });
    const asked = await world.ctx.db.selectFrom('consents').select('id').where('form_id', '=', id).execute();
    expect(asked).toHaveLength(120);
  });

  it('keep the time zone that a browser says, and nothing that is none', async () => {
    const { id, live } = await newForm();
    for (const zone of ['Asia/Tokyo', 'Mars/Olympus', '../../etc', 'x'.repeat(5_000), ''])
      await world.signUps.join(live, { email: someone(), zone }, { network: network(), agent: '' });
    const kept = await world.ctx.db.selectFrom('readers').select('zone').where('source_form_id', '=', id).orderBy('id').execute();
    expect(kept.map((row) => row.zone)).toEqual(['Asia/Tokyo', null, null, null, null]);
  });

  it('of one address, from two processes, make one reader and one letter', async () => {
    const { id, live } = await newForm();
    const other = new SignUps(world.ctx);
    const email = someone();
    await Promise.all(
      Array.from({ length: 6 }, (_, n) =>
        (n % 2 ? other : world.signUps).join(
          live,
          { email: n % 3 ? email : email.toUpperCase() },
          { network: network(), agent: '' },
        ),
      ),
    );
    expect(await rowsOf(id)).toEqual({ readers: 1, letters: 1, sentIn: 6 });
  });

  it('of one address for two newsletters together get no more than the day’s three letters', async () => {
    const email = someone();
    const forms = await Promise.all(['A', 'B', 'C', 'D', 'E'].map(async (name) => world.form(await world.newsletter(name))));
    await Promise.all(forms.map((form) => world.signUps.join(form, { email }, { network: network(), agent: '' })));
    const { rows } = await sql`select 1 from mails where to_address = ${email}`.execute(world.ctx.db);
    expect(rows).toHaveLength(3);
  });

  it('neither wait for ever for those who confirm at that moment', async () => {
    const { id, live } = await newForm();
    const emails = Array.from({ length: 8 }, someone);
    // The letters of the crowd above need not leave for this.
    await world.ctx.db.deleteFrom('mails').execute();
    const ask = (email: string) => world.signUps.join(live, { email }, { network: network(), agent: '' });
    await Promise.all(emails.map(ask));
    await world.work();
    const tokens = await Promise.all(emails.map(async (email) => (await world.linkIn(email, '/e/confirm/')).split('/').at(-1)!));
    await Promise.all([
      ...tokens.map((token) => confirm(world.ctx, token, { network: '', agent: '' })),
      ...emails.toReversed().map(ask),
      ...emails.map(ask),
    ]);
    const reading = await world.ctx.db
      .selectFrom('memberships as m')
      .innerJoin('readers as r', 'r.id', 'm.reader_id')
      .select('m.state')
      .where('r.source_form_id', '=', id)
      .execute();
    expect(reading.map((row) => row.state)).toEqual(emails.map(() => 'reading'));
  });

  it('with one that cannot be kept: only that one fails', async () => {
    const { id, live } = await newForm();
    const bad = { ...live, newsletter: { ...live.newsletter, time_zone: 'No/Where' } };
    const all = await Promise.allSettled([
      ...Array.from({ length: 5 }, () => world.signUps.join(live, { email: someone() }, { network: network(), agent: '' })),
      world.signUps.join(bad, { email: someone() }, { network: network(), agent: '' }),
      ...Array.from({ length: 5 }, () => world.signUps.join(live, { email: someone() }, { network: network(), agent: '' })),
    ]);
    expect(all.filter((one) => one.status === 'rejected')).toHaveLength(1);
    expect((await rowsOf(id)).sentIn).toBe(10);
  });
});

describe('a form that changed since somebody last saw it', () => {
  it('is asked for as it is now: questions, lists and thanks', async () => {
    const { id, publicId } = await newForm();
    expect((await post(publicId, { email: someone() })).status).toBe(200);
    const form = await formOf(world.ctx, newsletter, id);
    const fields = [...form.definition.fields, { ...newField('why', 'text', 'Why'), required: true }];
    await saveDraft(world.ctx, newsletter, id, {
      name: form.name,
      listIds: form.listIds,
      definition: { ...form.definition, fields },
    });
    await publishForm(world.ctx, newsletter, id);
    const refused = await post(publicId, { email: someone() });
    expect([refused.status, (await refused.json()).error.fields]).toEqual([422, { why: 'Please fill in “Why”.' }]);
    expect((await post(publicId, { email: someone(), why: 'Fish' })).status).toBe(200);
  });

  it('counts for the version that was shown once a test has begun, and says so when it was put away', async () => {
    const { id, publicId } = await newForm();
    await post(publicId, { email: someone() });
    const form = await formOf(world.ctx, newsletter, id);
    await saveDraft(world.ctx, newsletter, id, {
      name: form.name,
      listIds: form.listIds,
      definition: { ...form.definition, heading: 'B' },
    });
    await startTest(world.ctx, newsletter, id);
    const email = someone();
    await post(publicId, { email, variant: 'b' });
    const reader = await world.ctx.db
      .selectFrom('readers')
      .select('source_variant')
      .where('address', '=', email)
      .executeTakeFirstOrThrow();
    expect(reader.source_variant).toBe('b');
    await world.ctx.db.updateTable('forms').set({ archived_at: world.clock.now() }).where('id', '=', id).execute();
    const gone = await post(publicId, { email: someone() });
    expect([gone.status, (await gone.json()).error.sentence]).toEqual([410, expect.stringContaining('has closed this form')]);
    await world.ctx.db.updateTable('forms').set({ archived_at: null }).where('id', '=', id).execute();
    expect((await post(publicId, { email: someone() })).status).toBe(200);
  });
});

describe('an attack', () => {
  it('of 10,000 posts a minute from one network: a few are taken, then work is asked for, then they are told to wait', async () => {
    vi.useFakeTimers({ toFake: ['Date'], now: Math.ceil(Date.now() / 600_000) * 600_000 + 1000 });
    const { id, publicId } = await newForm();
    const from = '203.0.113.77';
    const tally: Record<number, number> = {};
    // A sixth of a minute of it at once, a hundred at a time as connections allow.
    for (let sent = 0; sent < 1_600; sent += 100) {
      const answers = await Promise.all(Array.from({ length: 100 }, () => post(publicId, { email: someone() }, { from })));
      for (const { status } of answers) tally[status] = (tally[status] ?? 0) + 1;
    }
    expect(tally).toEqual({ 200: 20, 428: 40, 429: 1_540 });
    expect(await rowsOf(id)).toEqual({ readers: 20, letters: 20, sentIn: 20 });
    const page = await post(publicId, { email: someone() }, { from, accept: 'text/html' });
    expect([page.status, await page.text()]).toEqual([429, expect.stringContaining('try again in a while')]);
    // Everybody else goes on undisturbed.
    expect((await post(publicId, { email: someone() })).status).toBe(200);
  });

  /** A network that has used up its calm. */
  const busy = async (publicId: string) => {
    const from = network();
    for (let n = 0; n < 20; n += 1) await post(publicId, { email: someone() }, { from });
    return from;
  };

  it('is met with work that scripts solve, good once and for this form alone', async () => {
    const { publicId } = await newForm();
    const other = await newForm();
    const from = await busy(publicId);
    const email = someone();
    const asked = await post(publicId, { email }, { from });
    const { error } = await asked.json();
    expect([asked.status, error.code]).toEqual([428, 'proof']);
    const proof = await solve(error.challenge);
    expect((await post(other.publicId, { email: someone(), proof }, { from })).status).toBe(428);
    expect((await post(publicId, { email, proof: proof.replace(/"counter":\d+/, '"counter":0') }, { from })).status).toBe(428);
    expect((await post(publicId, { email, proof }, { from })).status).toBe(200);
    expect((await post(publicId, { email: someone(), proof }, { from })).status).toBe(428);
    expect((await post(publicId, { email: someone(), proof: '{"broken"' }, { from })).status).toBe(428);
  });

  it('lets a browser without a script through after a wait, once, and for the address that waited', async () => {
    vi.useFakeTimers({ toFake: ['Date'], now: Math.ceil(Date.now() / 600_000) * 600_000 + 1000 });
    const { publicId } = await newForm();
    const from = await busy(publicId);
    const email = someone();
    const page = await post(publicId, { email }, { from, accept: 'text/html' });
    const html = await page.text();
    expect([page.status, html]).toEqual([428, expect.stringContaining('wait 15 seconds')]);
    expect(html).toContain(`value="${email}"`);
    expect(page.headers.get('content-security-policy')).toContain('script-src');
    const ticket = /name="ticket" value="([^"]+)"/.exec(html)![1]!;
    expect((await post(publicId, { email, ticket }, { from })).status).toBe(428);
    vi.setSystemTime(Date.now() + 16_000);
    expect((await post(publicId, { email: someone(), ticket }, { from })).status).toBe(428);
    expect((await post(publicId, { email, ticket }, { from })).status).toBe(200);
    expect((await post(publicId, { email, ticket }, { from })).status).toBe(428);
  });
});

describe('an address that may be mistaken', () => {
  it('at a throwaway mailbox is asked once more, and taken when it is meant', async () => {
    const [throwaway] = createRequire(import.meta.url)('disposable-email-domains') as string[];
    const { publicId } = await newForm();
    const email = `me@sub.${throwaway}`;
    const asked = await post(publicId, { email });
    const { error } = await asked.json();
    expect([asked.status, error.next, error.fields.email]).toEqual([
      422,
      { sure: email },
      expect.stringContaining('throwaway mailboxes'),
    ]);
    expect((await post(publicId, { email: `other@${throwaway}`, sure: email })).status).toBe(422);
    const page = await (await post(publicId, { email }, { accept: 'text/html' })).text();
    expect(page).toContain(`name="sure" value="${email}"`);
    expect((await post(publicId, { email, sure: email })).status).toBe(200);
  });

  it('a letter away from a usual domain that takes mail too is asked once more', async () => {
    const usual = await world.newsletter('Usual');
    await world.readers(
      usual,
      Array.from({ length: 6 }, (_, n) => `usual${n}@postbird.example`),
    );
    const { publicId } = await world.form(usual);
    const { error } = await (await post(publicId, { email: 'mara@postbirb.example' })).json();
    expect(error.fields.email).toBe('Did you mean mara@postbird.example? If it is right as it is, send it again.');
    expect((await post(publicId, { email: 'mara@postbirb.example', ...error.next })).status).toBe(200);
  });

  it('at ever new domains from one network is stopped before DNS is asked for all of them', async () => {
    vi.useFakeTimers({ toFake: ['Date'], now: Math.ceil(Date.now() / 600_000) * 600_000 + 1000 });
    const { publicId } = await newForm();
    const from = network();
    const statuses = new Set<number>();
    for (let n = 0; n < 62; n += 1) {
      world.dns.noMail.set(`made-up-${n}.example`, 'ENOTFOUND');
      statuses.add((await post(publicId, { email: `x@made-up-${n}.example` }, { from })).status);
    }
    expect([...statuses]).toEqual([422, 429]);
  });
});

describe('what a form sends', () => {
  it('with characters that cannot be stored is kept without them', async () => {
    const { publicId } = await newForm();
    const email = someone();
    const answer = await handle(
      new Request(`https://go.inkset.example/e/form/${publicId}`, {
        method: 'POST',
        headers: { accept: 'application/json', 'content-type': 'application/json', 'x-forwarded-for': network() },
        body: `{"email":"${email}","page":"https://lanternfish.example/\\u0000","referrer":"\\ud800","first":"{\\"source\\":\\"a\\u0000b\\ud800\\"}","__proto__":"x"}`,
      }),
    );
    expect(answer.status).toBe(200);
  });

  it('is told in one note what happened to it', async () => {
    const { id, publicId } = await newForm();
    const url = `https://go.inkset.example/e/form/${publicId}/note?what=loaded,seen,nonsense&at=https://lanternfish.example/x`;
    expect((await handle(new Request(url, { method: 'POST' }))).status).toBe(204);
    await vi.waitFor(async () => {
      const row = await world.ctx.db
        .selectFrom('form_days')
        .select(['loaded', 'seen', 'started'])
        .where('form_id', '=', id)
        .execute();
      expect(row).toEqual([{ loaded: 1, seen: 1, started: 0 }]);
    });
  });
});

import { mkdtemp, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { sql } from 'kysely';
import { generate } from 'selfsigned';
import { afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { readConfig } from '@/server/config';
import type { KeptPolicy } from '@/server/db/schema';
import { policyOf } from '@/server/mail/policies';
import { setEncryption } from '@/server/newsletters/newsletters';
import { letterOf } from '@/server/sending/views';
import { SETTINGS } from './template';
import { DAY, MailSink, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;
let certificate: { key: string; cert: string };
const sinks: MailSink[] = [];

beforeAll(async () => {
  const made = await generate([{ name: 'commonName', value: 'mx.locked.example' }], {
    keySize: 2048,
    extensions: [
      { name: 'basicConstraints', cA: true },
      { name: 'subjectAltName', altNames: [{ type: 2, value: 'mx.locked.example' }] },
    ],
  });
  certificate = { key: made.private, cert: made.cert };
});
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
});
afterEach(async () => {
  await Promise.all(sinks.splice(0).map((sink) => sink.close()));
  await world.close();
});

/** A mail host that offers TLS, at an address of its own. */
async function locked(): Promise<MailSink> {
  const sink = await new MailSink().open(world.mail.port, '127.0.0.9', certificate);
  sinks.push(sink);
  world.dns.at.set('mx.locked.example', ['127.0.0.9']);
  return sink;
}
const counts = async (id: string) => (await letterOf(world.ctx, newsletter, id)).counts;
const policy = (more: Partial<KeptPolicy> = {}): KeptPolicy => ({
  id: '1',
  mode: 'enforce',
  mx: ['mx.locked.example'],
  until: new Date(world.clock.now().getTime() + 30 * DAY).toISOString(),
  ...more,
});
const demand = (domain: string, what: KeptPolicy) =>
  sql`insert into mail_domains (name, policy) values (${domain}, ${JSON.stringify(what)}::jsonb) on conflict (name) do update set policy = excluded.policy`.execute(
    world.ctx.db,
  );

describe('a newsletter that wants no mail in the clear', () => {
  it('writes to whoever’s host encrypts; the others wait two days, charged with nothing, and then get none', async () => {
    const sink = await locked();
    await setEncryption(world.ctx, newsletter, { encryption: 'always' });
    const [, plain] = await world.readers(newsletter, ['a@locked.example', 'b@heronmail.example']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ recipients: 2, delivered: 1 });
    expect(sink.taken.map((mail) => mail.encrypted)).toEqual([true]);
    for (let n = 0; n < 50; n += 1) {
      world.clock.advance(60 * MINUTE);
      await world.work();
    }
    expect(world.mail.taken).toEqual([]);
    const letter = await letterOf(world.ctx, newsletter, id);
    expect(letter).toMatchObject({ state: 'sent', counts: { delivered: 1, givenUp: 1 } });
    expect(letter.problems[0]?.response).toBe('mx.heronmail.example offers no encryption that works');
    const reader = await world.ctx.db.selectFrom('readers').selectAll().where('id', '=', plain!).executeTakeFirstOrThrow();
    expect(reader).toMatchObject({ address_state: 'fine', soft_evidence: 0 });
    // Another newsletter's readers there are met as ever.
    await setEncryption(world.ctx, newsletter, { encryption: 'offered' });
    await world.letter(newsletter, senderId, { subject: 'In the clear' });
    await world.work();
    expect(world.mail.taken.map((mail) => mail.to)).toEqual(['b@heronmail.example']);
  });
  it('is asked for in a word that is known', async () => {
    await expect(setEncryption(world.ctx, newsletter, { encryption: 'sometimes' })).rejects.toMatchObject({ code: 'invalid' });
  });
});

describe('a domain whose policy demands TLS', () => {
  const trusting = async () => {
    const path = join(await mkdtemp(join(tmpdir(), 'inkset-ca-')), 'ca.pem');
    await writeFile(path, certificate.cert);
    const { trustedCa } = readConfig({
      INKSET_DATABASE_URL: 'postgres://x@127.0.0.1/x',
      ...SETTINGS,
      INKSET_TRUSTED_CA: path,
    });
    Object.assign(world.ctx.config, { trustedCa });
  };

  it('gets its mail over TLS with a certificate that somebody vouches for; a neighbour at the same host without a policy as before', async () => {
    await trusting();
    const sink = await locked();
    await demand('locked.example', policy());
    world.dns.hosts.set('open.example', [{ host: 'mx.locked.example', rank: 10 }]);
    await world.readers(newsletter, ['a@locked.example', 'b@open.example']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(await counts(id)).toMatchObject({ delivered: 2 });
    expect(sink.taken).toHaveLength(2);
    const { rows } = await sql<{ verified: boolean }>`select verified from routes order by verified`.execute(world.ctx.db);
    expect(rows.map((row) => row.verified)).toEqual([false, true]);
  });
  it('waits where nobody vouches for the certificate, and is never met in the clear', async () => {
    const sink = await locked();
    await demand('locked.example', policy());
    await world.readers(newsletter, ['a@locked.example']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(sink.taken).toEqual([]);
    expect(await counts(id)).toMatchObject({ delivered: 0, bounced: 0, refused: 0, givenUp: 0 });
    const { rows } = await sql<{ paused_for: string }>`select paused_for from routes where verified`.execute(world.ctx.db);
    expect(rows[0]?.paused_for).toMatch(/mx\.locked\.example has a certificate that it signed itself/);
  });
  it('waits where the host offers no TLS at all', async () => {
    await demand('bare.example', policy({ mx: ['*.bare.example'] }));
    await world.readers(newsletter, ['a@bare.example']);
    await world.letter(newsletter, senderId);
    await world.work();
    expect(world.mail.taken).toEqual([]);
  });
  it('is not written to over a host that the policy does not name; after two days the letter is given up and the reader is not to blame', async () => {
    await demand('bare.example', policy({ mx: ['other.example'] }));
    const [reader] = await world.readers(newsletter, ['a@bare.example']);
    const id = await world.letter(newsletter, senderId);
    await world.work();
    expect(world.mail.taken).toEqual([]);
    for (let n = 0; n < 60; n += 1) {
      world.clock.advance(60 * MINUTE);
      await world.work();
    }
    const letter = await letterOf(world.ctx, newsletter, id);
    expect(letter).toMatchObject({ state: 'sent', counts: { givenUp: 1 } });
    expect(letter.problems[0]?.response).toBe('The policy of bare.example allows none of its mail hosts');
    const row = await world.ctx.db.selectFrom('readers').selectAll().where('id', '=', reader!).executeTakeFirstOrThrow();
    expect(row).toMatchObject({ address_state: 'fine', soft_evidence: 0 });
  });
  it.each(['testing', 'none'] as const)('mode %s changes nothing', async (mode) => {
    await demand('bare.example', policy({ mode, mx: ['other.example'] }));
    await world.readers(newsletter, ['a@bare.example']);
    await world.letter(newsletter, senderId);
    await world.work();
    expect(world.mail.taken).toHaveLength(1);
  });
});

describe('a policy', () => {
  const file = (mode = 'enforce', age = 864_000) => `version: STSv1\nmode: ${mode}\nmx: *.locked.example\nmax_age: ${age}\n`;
  const asked: string[] = [];
  const answer =
    (body: string, more: { status?: number; type?: string } = {}) =>
    async (url: string) => {
      asked.push(url);
      return {
        status: more.status ?? 200,
        headers: new Headers({ 'content-type': more.type ?? 'text/plain; charset=utf-8' }),
        bytes: Buffer.from(body),
      };
    };
  const record = (value: string) => world.dns.records.set('_mta-sts.locked.example', [value]);
  const read = (known: KeptPolicy | null, how: ReturnType<typeof answer>) => policyOf(world.ctx, 'locked.example', known, how);
  beforeEach(() => void asked.splice(0));

  it('is read where a record says there is one, and only then', async () => {
    expect(await read(null, answer(file()))).toBeNull();
    expect(asked).toEqual([]);
    record('v=STSv1; id=7;');
    expect(await read(null, answer(file()))).toEqual({
      id: '7',
      mode: 'enforce',
      mx: ['*.locked.example'],
      until: new Date(world.clock.now().getTime() + 10 * DAY).toISOString(),
    });
    expect(asked).toEqual(['https://mta-sts.locked.example/.well-known/mta-sts.txt']);
  });
  it('is read again when its id changes or it ends soon, and holds till its end when it cannot be', async () => {
    record('v=STSv1; id=1;');
    const known = policy();
    expect(await read(known, answer(file()))).toBe(known);
    expect(asked).toEqual([]);
    record('v=STSv1; id=2;');
    expect(await read(known, answer(file('none')))).toMatchObject({ id: '2', mode: 'none' });
    const failing: [string, ReturnType<typeof answer>][] = [
      ['away', () => Promise.reject(new Error('away'))],
      ['not found', answer(file('none'), { status: 404 })],
      ['a redirect', answer('', { status: 302 })],
      ['a page', answer(file('none'), { type: 'text/html' })],
      ['rubbish', answer('no policy')],
    ];
    for (const [, how] of failing) expect(await read(known, how)).toBe(known);
    world.dns.records.clear();
    expect(await read(known, answer(file('none')))).toBe(known);
    world.clock.advance(29.5 * DAY);
    record('v=STSv1; id=1;');
    expect(await read(known, answer(file('testing')))).toMatchObject({ id: '1', mode: 'testing' });
    world.clock.advance(DAY);
    expect(await read(known, failing[0]![1])).toBeNull();
  });
});

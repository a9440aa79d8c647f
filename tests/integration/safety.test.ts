import { sql } from 'kysely';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { mayOpenAccount, openAuth } from '@/server/auth/auth';
import { mayMailTo } from '@/server/limits';
import { acceptInvitation, invitationOf, invite } from '@/server/newsletters/members';
import { addSender } from '@/server/senders/senders';
import { TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let account: ReturnType<typeof openAuth>;

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterAll(() => world.close());
beforeEach(() => {
  Object.assign(world.ctx.config, { signUp: 'open' });
  account = openAuth(world.ctx, world.pool);
});

const call = (path: string, body: object) =>
  account.handler(
    new Request(`https://inkset.example/api/auth/${path}`, {
      method: 'POST',
      headers: {
        'content-type': 'application/json',
        origin: 'https://inkset.example',
        'x-forwarded-for': `203.0.113.${Math.floor(Math.random() * 250)}`,
      },
      body: JSON.stringify(body),
    }),
  );
const PASSWORD = 'six hundred metres down';
const signUp = (email: string) => call('sign-up/email', { name: 'Mara', email, password: PASSWORD, callbackURL: '/' });
const verify = async (email: string) => {
  await world.work();
  const link = new URL(await world.linkIn(email, '/verify'));
  return account.handler(
    new Request(`https://inkset.example/api/auth/verify-email?token=${link.searchParams.get('token')}&callbackURL=/verify`),
  );
};
const codeOf = async (response: Response) => ((await response.json()) as { code?: string }).code;

describe('who may open an account', () => {
  it('outside the demo the first person, and whoever is invited', async () => {
    const own = await TestWorld.open();
    try {
      account = openAuth({ ...own.ctx, config: { ...own.ctx.config, signUp: 'first' } }, own.pool);
      const ctx = { ...own.ctx, config: { ...own.ctx.config, signUp: 'first' as const } };
      expect(await mayOpenAccount(ctx, null)).toBe(true);
      expect((await signUp('first@postbird.example')).status).toBe(200);
      await sql`update "user" set "emailVerified" = true`.execute(own.ctx.db);
      const stranger = await signUp('stranger@postbird.example');
      expect([stranger.status, await codeOf(stranger)]).toEqual([403, 'SIGN_UP_CLOSED']);
      const theirs = await own.newsletter();
      await invite(ctx, theirs, { email: 'Friend@postbird.example', role: 'editor' });
      expect((await signUp('friend@postbird.example')).status).toBe(200);
      const { rows } = await sql<{ email: string }>`select email from "user" order by email`.execute(own.ctx.db);
      expect(rows.map((row) => row.email)).not.toContain('stranger@postbird.example');
    } finally {
      await own.close();
    }
  });
  it('and is asked to press a button: what is mailed leads to a page that does nothing by being fetched', async () => {
    await signUp('new@postbird.example');
    await world.work();
    expect(await world.linkIn('new@postbird.example', '/verify')).toMatch(/^https:\/\/inkset\.example\/verify\?token=/);
    expect((await verify('new@postbird.example')).headers.get('location')).toBe('/verify');
  });
});

describe('guessing', () => {
  it('is braked for each account, from however many networks', async () => {
    await signUp('guessed@postbird.example');
    await verify('guessed@postbird.example');
    const statuses: number[] = [];
    for (let n = 0; n < 13; n += 1)
      statuses.push(
        (
          await call('sign-in/email', {
            email: n % 2 ? 'guessed@postbird.example' : ' GUESSED@postbird.example',
            password: `wrong password ${n}`,
          })
        ).status,
      );
    expect(statuses.slice(0, 10)).not.toContain(429);
    expect(statuses.slice(10)).toEqual([429, 429, 429]);
  });
});

describe('mail to strangers', () => {
  it('is counted for each mailbox over all newsletters and kinds of mail', async () => {
    const others = await Promise.all([1, 2, 3, 4].map((n) => world.newsletter(`N${n}`)));
    const victim = 'victim@heronmail.example';
    for (const one of others) await addSender(world.ctx, one, { name: 'X', address: victim });
    for (const one of others.slice(0, 2)) await invite(world.ctx, one, { email: 'Victim@heronmail.example', role: 'editor' });
    await expect(addSender(world.ctx, newsletter, { name: 'X', address: victim })).rejects.toMatchObject({ code: 'too-many' });
    await expect(invite(world.ctx, newsletter, { email: victim, role: 'editor' })).rejects.toMatchObject({ code: 'too-many' });
    const { rows } = await sql<{
      n: number;
    }>`select count(*)::int as n from senders where newsletter_id = ${newsletter.id} and address = ${victim}`.execute(
      world.ctx.db,
    );
    expect(rows[0]?.n).toBe(0);
    // A password that somebody else asks for is not mailed without end either, and the answer is the same.
    await sql`insert into "user" (id, name, email, "emailVerified") values ('v', 'V', ${victim}, true)`.execute(world.ctx.db);
    await world.work();
    const before = world.mail.to(victim).length;
    expect((await call('request-password-reset', { email: victim, redirectTo: '/reset' })).status).toBe(200);
    await world.work();
    expect(world.mail.to(victim)).toHaveLength(before);
    expect(await mayMailTo(world.ctx, 'somebody-else@heronmail.example')).toBe(true);
  });
});

describe('mailed links', () => {
  it('stand nowhere in clear once they are sent', async () => {
    const email = 'links@postbird.example';
    await signUp(email);
    await verify(email);
    await call('request-password-reset', { email, redirectTo: '/reset' });
    await invite(world.ctx, newsletter, { email, role: 'editor' });
    await addSender(world.ctx, newsletter, { name: 'X', address: email });
    await world.work();
    const links = await Promise.all(
      ['/verify', '/reset-password/', '/invitation/', '/sender/'].map(async (part) => {
        for (const mail of [...world.mail.to(email)].reverse()) {
          const found = new RegExp(`https?://\\S*${part}\\S*`).exec(mail.source.replace(/=\r\n/g, '').replace(/=3D/g, '='));
          if (found) return /[A-Za-z0-9_-]{20,}(?:\.[A-Za-z0-9_.-]+)?/.exec(found[0].split(part)[1]!)![0];
        }
        throw new Error(`no ${part}`);
      }),
    );
    expect(new Set(links).size).toBe(4);
    const { rows: tables } = await sql<{
      name: string;
    }>`select tablename as name from pg_tables where schemaname = 'public'`.execute(world.ctx.db);
    for (const { name } of tables)
      for (const link of links) {
        const { rows } = await sql`select 1 from ${sql.table(name)} t where t::text like ${`%${link}%`} limit 1`.execute(
          world.ctx.db,
        );
        expect(rows, `${link} in ${name}`).toEqual([]);
      }
  });
  it('of an invitation says what it is and joins nobody by being looked at', async () => {
    const invited = await world.newsletter('Inviting');
    await invite(world.ctx, invited, { email: 'joins@postbird.example', role: 'editor' });
    await world.work();
    const token = (await world.linkIn('joins@postbird.example', '/invitation/')).split('/').at(-1)!;
    for (let looks = 0; looks < 2; looks += 1)
      expect(await invitationOf(world.ctx, token)).toMatchObject({ newsletter: 'Inviting', role: 'editor' });
    await sql`insert into "user" (id, name, email, "emailVerified") values ('j', 'J', 'joins@postbird.example', true)`.execute(
      world.ctx.db,
    );
    const person = { id: 'j', email: 'joins@postbird.example' };
    expect(await acceptInvitation(world.ctx, person, token)).toMatchObject({ name: 'Inviting' });
    await expect(invitationOf(world.ctx, token)).rejects.toMatchObject({ code: 'not-found' });
  });
});

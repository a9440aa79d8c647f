import { existsSync } from 'node:fs';
import sharp from 'sharp';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { confirm } from '@/server/forms/confirm';
import { newId } from '@/server/ids';
import { post } from '@/server/mail/post';
import { keepRelay, relayOf } from '@/server/mail/relay';
import { dropLogo, keepLogo, readMedia } from '@/server/newsletters/media';
import { acceptInvitation, invite, membersOf, setRole, withdraw } from '@/server/newsletters/members';
import { changeNewsletter, openNewsletter } from '@/server/newsletters/newsletters';
import { dropRelay } from '@/server/sending/routing';
import { letterOf } from '@/server/sending/views';
import { createNewsletter } from '@/server/site/founding';
import { DAY, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterAll(() => world.close());

const SETTINGS = {
  name: 'Lanternfish Letters',
  postalAddress: 'PO Box 600, Lisbon',
  timeZone: 'Europe/Lisbon',
  reasonLine: 'You get this because you signed up on lanternfish.example.',
  colour: '#10282f',
  accent: '#17645C',
};
const reload = () => openNewsletter(world.ctx, newsletter.owner, newsletter.slug);

describe('identity', () => {
  it('gets a free public name, and faults beside each field', async () => {
    const again = await world.newsletter();
    expect(again.slug).not.toBe(newsletter.slug);
    await expect(
      createNewsletter(world.ctx, newsletter.owner, { name: '', postalAddress: 'x', timeZone: 'Mars/Base' }),
    ).rejects.toMatchObject({
      fields: { name: expect.any(String), postalAddress: expect.any(String), timeZone: expect.any(String) },
    });
    await expect(
      changeNewsletter(world.ctx, newsletter, { ...SETTINGS, accent: 'green', socialLinks: 'no address here' }),
    ).rejects.toMatchObject({ fields: { accent: expect.any(String), socialLinks: expect.stringContaining('no address here') } });
    await changeNewsletter(world.ctx, newsletter, {
      ...SETTINGS,
      site: 'https://lanternfish.example/',
      socialLinks: 'The site https://lanternfish.example',
    });
    expect(await reload()).toMatchObject({
      accent: '#17645c',
      site: 'lanternfish.example',
      social_links: [{ label: 'The site', url: 'https://lanternfish.example' }],
    });
  });

  it('keeps an uploaded picture small and written anew, and refuses what is none', async () => {
    const large = await sharp({ create: { width: 1600, height: 900, channels: 3, background: '#17645c' } })
      .jpeg()
      .withMetadata()
      .toBuffer();
    await keepLogo(world.ctx, newsletter, new Blob([new Uint8Array(large)]));
    const { logo_id } = await reload();
    const info = await sharp((await readMedia(world.ctx, logo_id!))!.bytes).metadata();
    expect([info.format, info.width, info.height]).toEqual(['png', 480, 270]);
    await expect(keepLogo(world.ctx, newsletter, new Blob(['<html>']))).rejects.toMatchObject({ code: 'invalid' });
    await expect(keepLogo(world.ctx, newsletter, null)).rejects.toMatchObject({ code: 'invalid' });
    expect(await readMedia(world.ctx, '../../etc/passwd')).toBeNull();
    await dropLogo(world.ctx, newsletter);
    expect((await reload()).logo_id).toBeNull();
    expect(existsSync(world.ctx.config.mediaDir)).toBe(true);
  });
});

describe('members', () => {
  const person = async (email: string) => {
    const id = newId();
    await world.ctx.db.insertInto('user').values({ id, name: 'Mara', email, emailVerified: true }).execute();
    return { id, email };
  };
  const tokenTo = async (email: string) => {
    await world.work();
    return (await world.linkIn(email, '/invitation/')).split('/').at(-1)!;
  };

  it('come by invitation to their own address, once, and may do what their role says', async () => {
    const mara = await person('mara@postbird.example');
    const other = await person('other@postbird.example');
    await invite(world.ctx, newsletter, { email: mara.email, role: 'reader-only' });
    const token = await tokenTo(mara.email);
    await expect(acceptInvitation(world.ctx, other, token)).rejects.toMatchObject({ code: 'forbidden' });
    await acceptInvitation(world.ctx, mara, token);
    await expect(acceptInvitation(world.ctx, mara, token)).rejects.toMatchObject({ code: 'not-found' });
    expect((await openNewsletter(world.ctx, mara.id, newsletter.slug)).role).toBe('reader-only');
    await expect(openNewsletter(world.ctx, mara.id, newsletter.slug, 'edit')).rejects.toMatchObject({
      code: 'forbidden',
      sentence: expect.stringContaining('Nothing was changed'),
    });
    await setRole(world.ctx, newsletter, mara.id, 'editor');
    await openNewsletter(world.ctx, mara.id, newsletter.slug, 'edit');
    await expect(openNewsletter(world.ctx, mara.id, newsletter.slug, 'own')).rejects.toMatchObject({ code: 'forbidden' });
    await expect(openNewsletter(world.ctx, other.id, newsletter.slug)).rejects.toMatchObject({ code: 'not-found' });
    await expect(invite(world.ctx, newsletter, { email: mara.email, role: 'editor' })).rejects.toMatchObject({
      code: 'conflict',
    });
  });
  it('an invitation runs out, can be sent anew and taken back', async () => {
    const late = await person('late@postbird.example');
    await invite(world.ctx, newsletter, { email: late.email, role: 'editor' });
    const old = await tokenTo(late.email);
    world.clock.advance(8 * DAY);
    await expect(acceptInvitation(world.ctx, late, old)).rejects.toMatchObject({ code: 'expired' });
    await invite(world.ctx, newsletter, { email: late.email, role: 'editor' });
    const fresh = await tokenTo(late.email);
    const { invitations } = await membersOf(world.ctx, newsletter);
    await withdraw(world.ctx, newsletter, invitations[0]!.id);
    await expect(acceptInvitation(world.ctx, late, fresh)).rejects.toMatchObject({ code: 'not-found' });
  });
  it('there is always an owner left', async () => {
    await expect(setRole(world.ctx, newsletter, newsletter.owner, 'editor')).rejects.toMatchObject({ code: 'conflict' });
    await expect(setRole(world.ctx, newsletter, newsletter.owner, null)).rejects.toMatchObject({ code: 'conflict' });
  });
});

describe('owner alerts', () => {
  const readerJoins = async (address: string) => {
    await world.signUps.join(await world.form(newsletter), { email: address }, { network: address, agent: 'A browser' });
    await world.work();
    await confirm(world.ctx, (await world.linkIn(address, '/e/confirm/')).split('/').at(-1)!, { network: 'n', agent: 'a' });
    await world.work();
  };
  const alerts = () =>
    world.mail.to(`${newsletter.owner}@postbird.example`).filter((mail) => /Subject: .*(joined|left)/.test(mail.source));

  it('come at once, the next morning in one mail, or not at all', async () => {
    await readerJoins('quiet@heronmail.example');
    expect(alerts()).toHaveLength(0);
    await changeNewsletter(world.ctx, newsletter, { ...SETTINGS, alertJoins: 'at once' });
    await readerJoins('now@heronmail.example');
    expect(alerts()).toHaveLength(1);
    await changeNewsletter(world.ctx, newsletter, { ...SETTINGS, alertJoins: 'daily' });
    await readerJoins('later1@heronmail.example');
    await readerJoins('later2@heronmail.example');
    expect(alerts()).toHaveLength(1);
    world.clock.advance(DAY);
    await world.work();
    expect(alerts()).toHaveLength(2);
    expect(alerts()[1]!.source).toMatch(/4 people joined/);
    world.clock.advance(3 * DAY);
    await world.work();
    expect(alerts()).toHaveLength(2);
  });
});

describe('an SMTP service of one’s own', () => {
  let relay: SMTPServer;
  let port = 0;
  const taken: string[] = [];
  beforeAll(async () => {
    relay = new SMTPServer({
      disabledCommands: ['STARTTLS'],
      allowInsecureAuth: true,
      onAuth: ({ username, password }, _s, done) =>
        password === 'lamp' ? done(null, { user: username }) : done(Object.assign(new Error('Not right'), { responseCode: 535 })),
      onData: (stream, session, done) => {
        stream.resume();
        stream.on('end', () => {
          taken.push(...session.envelope.rcptTo.map((r) => r.address));
          done();
        });
      },
    });
    relay.on('error', () => {});
    await new Promise<void>((resolve) => relay.listen(0, '127.0.0.1', resolve));
    port = (relay.server.address() as { port: number }).port;
  });
  afterAll(() => new Promise<void>((resolve) => relay.close(() => resolve())));
  const input = (more: object = {}) => ({
    host: '127.0.0.1',
    port,
    tls: 'none',
    user: 'ottoline',
    password: 'lamp',
    perHour: 1000,
    perDay: 1000,
    ...more,
  });

  it('is tried before it is used, each failure explained, its password sealed', async () => {
    const fault = async (more: object) => (await keepRelay(world.ctx, newsletter, input(more))).fault;
    expect(await fault({ password: 'wrong' })).toMatch(/said: 535 .*Check name and password/);
    expect((await relayOf(world.ctx, newsletter))?.switchedOn).toBe(false);
    expect(await fault({ tls: 'required' })).toMatch(/offers no encryption.*Try the other kind/);
    expect(await fault({ port: 1 })).toMatch(/refused the connection.*Check host and port/);
    expect(await fault({ host: '10.0.0.1' })).toMatch(/not on the public internet/);
    await expect(keepRelay(world.ctx, newsletter, input({ host: 'no host!', perHour: 0 }))).rejects.toMatchObject({
      fields: { host: expect.any(String), perHour: expect.any(String) },
    });
    expect(await fault({})).toBeNull();
    const { rows } = await world.pool.query('select password from relays');
    expect(rows[0].password.toString('latin1')).not.toContain('lamp');
    expect(await fault({ password: '' })).toBeNull();
  });

  it('carries letters instead of the direct way, within its limits an hour, and lets go of them when it is taken away', async () => {
    const { senderId } = await world.sender(newsletter);
    await world.readers(
      newsletter,
      Array.from({ length: 12 }, (_, n) => `relayed${n}@fjordbox.example`),
    );
    await keepRelay(world.ctx, newsletter, input({ perHour: 5 }));
    const id = await world.letter(newsletter, senderId, { subject: 'By relay' });
    await world.work();
    const { counts } = await letterOf(world.ctx, newsletter, id);
    expect(counts.delivered).toBe(5);
    expect(taken).toHaveLength(5);
    world.clock.advance(61 * MINUTE);
    await world.work();
    expect(taken).toHaveLength(10);
    await dropRelay(world.ctx, newsletter);
    await world.work();
    expect((await letterOf(world.ctx, newsletter, id)).state).toBe('sent');
    expect(taken).toHaveLength(10);
  });

  it('keeps a twentieth of its hour for single mails, and lets those wait for the next hour too when that is used up', async () => {
    const { senderId } = await world.sender(newsletter, 'second.example');
    const before = taken.length;
    await keepRelay(world.ctx, newsletter, input({ perHour: 40 }));
    world.clock.advance(120 * MINUTE);
    await world.readers(
      newsletter,
      Array.from({ length: 60 }, (_, n) => `more${n}@fjordbox.example`),
    );
    const id = await world.letter(newsletter, senderId, { subject: 'Sixty and more' });
    await world.work();
    expect(taken.length - before).toBe(38);
    expect((await letterOf(world.ctx, newsletter, id)).resting[0]?.reason).toMatch(/takes no more letters for now/);
    for (let n = 0; n < 4; n += 1)
      await post(world.ctx, world.ctx.db, {
        newsletterId: newsletter.id,
        kind: 'confirmation',
        to: `new${n}@fjordbox.example`,
        subject: 'Please confirm',
        notice: { name: 'N', colour: '#17645c', heading: 'H', paragraphs: ['P'], footer: ['F'] },
      });
    await world.work();
    expect(taken.length - before).toBe(40);
    world.clock.advance(61 * MINUTE);
    await world.work();
    const { rows } = await world.pool.query("select state from mails where to_address like 'new%'");
    expect(rows.map((row) => row.state)).toEqual(Array.from({ length: 4 }, () => 'delivered'));
    await dropRelay(world.ctx, newsletter);
  });
});

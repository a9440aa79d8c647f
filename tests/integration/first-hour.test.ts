import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { MarkBook } from '@/server/delivery/marks';
import { formsOf } from '@/server/forms/forms';
import { today } from '@/server/growth/today';
import { overFetch } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { mailRecords } from '@/server/senders/alarm';
import { domainOf, domainsOf } from '@/server/senders/domains';
import { sendersOf } from '@/server/senders/senders';
import { callBack } from '@/server/sending/letters';
import { reachOf } from '@/server/sending/reach';
import { previewOf } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { foundNewsletter } from '@/server/site/founding';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let senderId: string;
beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  ({ senderId } = await world.sender(newsletter));
});
afterAll(() => world.close());

const person = async () => {
  const row = await sql<{ id: string; email: string }>`select id, email from "user" where id = ${newsletter.owner}`.execute(
    world.ctx.db,
  );
  return row.rows[0]!;
};
const answers = {
  name: 'Saltmarsh Notes',
  postalAddress: 'PO Box 12, Lisbon',
  timeZone: 'Europe/Lisbon',
  senderName: 'Mira Hallam',
};

describe('one flow that asks each thing once', () => {
  it('makes sender, domain and a form; the account’s own address needs no second proof', async () => {
    const me = await person();
    const made = await foundNewsletter(
      world.ctx,
      { id: me.id, email: 'mira@saltmarsh.example' },
      { ...answers, senderAddress: 'Mira@saltmarsh.example' },
    );
    const [sender] = await sendersOf(world.ctx, { ...made, default_sender_id: null });
    expect(sender).toMatchObject({ name: 'Mira Hallam', state: 'confirmed', domain: 'saltmarsh.example' });
    expect((await domainsOf(world.ctx, made)).map((domain) => domain.name)).toEqual(['saltmarsh.example']);
    const forms = await formsOf(world.ctx, made);
    expect(forms.map((form) => [form.name, form.definition.placement.kind, form.definition.next.welcome.on])).toEqual([
      ['Sign-up page', 'panel', true],
      ['After every article', 'after-post', true],
    ]);
    const data = await today(world.ctx, made);
    expect([data.form?.name, data.letters.length, data.formsSeen, data.tried]).toEqual(['After every article', 0, false, false]);
  });
  it('another’s address is proven by mail, and a mailbox service’s domain is not asked to be', async () => {
    const me = await person();
    const made = await foundNewsletter(world.ctx, me, { ...answers, senderAddress: 'somebody@webmail.example' });
    expect((await sendersOf(world.ctx, made))[0]).toMatchObject({ state: 'pending' });
    expect(await domainsOf(world.ctx, made)).toEqual([]);
  });
  it('what is wrong is said beside its field, and nothing is made', async () => {
    const me = await person();
    const before = await sql<{ n: number }>`select count(*)::int as n from newsletters`.execute(world.ctx.db);
    await expect(foundNewsletter(world.ctx, me, { ...answers, senderAddress: 'nobody' })).rejects.toMatchObject({
      fields: { senderAddress: expect.anything() },
    });
    await expect(foundNewsletter(world.ctx, me, { ...answers, name: '', senderAddress: 'a@b.example' })).rejects.toMatchObject({
      fields: { name: expect.anything() },
    });
    await expect(
      foundNewsletter(world.ctx, me, { ...answers, name: 'x'.repeat(81), senderAddress: 'a@b.example' }),
    ).rejects.toMatchObject({ fields: { name: expect.stringContaining('80') } });
    expect((await sql<{ n: number }>`select count(*)::int as n from newsletters`.execute(world.ctx.db)).rows).toEqual(
      before.rows,
    );
  });
  it('a site that cannot be read costs nothing', async () => {
    const me = await person();
    for (const site of ['http://127.0.0.1:9/', 'no.such.site.example', 'javascript:alert(1)', '169.254.169.254'])
      expect(
        await foundNewsletter(world.ctx, me, { ...answers, site, senderAddress: `s${Math.random()}@quiet.example` }),
      ).toMatchObject({ colour: '#10282f' });
  });
});

describe('the records of a domain', () => {
  it('go as one mail to whoever runs it, whose answer goes to the writer', async () => {
    const [domain] = await domainsOf(world.ctx, newsletter);
    const view = await domainOf(world.ctx, newsletter, domain!.id);
    const me = { name: 'Ottoline Vance', email: 'ottoline@heronmail.example' };
    await mailRecords(world.ctx, newsletter, me, view, 'keeper@kestrel.example');
    await world.work();
    const mail = await simpleParser(world.mail.to('keeper@kestrel.example').at(-1)!.source);
    expect([mail.subject, mail.replyTo?.text]).toEqual([`DNS records for ${view.name}`, expect.stringContaining(me.email)]);
    for (const record of view.records.filter((one) => one.value))
      expect(mail.text!.replace(/\s+/g, '')).toContain(record.value.replace(/\s+/g, '').slice(0, 60));
    await expect(mailRecords(world.ctx, newsletter, me, view, 'nobody')).rejects.toMatchObject({ code: 'invalid' });
  });
});

describe('a scheduled letter', () => {
  it('says how many will get it and who will not, shows itself, and can be moved and called back until it leaves', async () => {
    await world.readers(newsletter, [
      'a@heronmail.example',
      'b@heronmail.example',
      'dead@heronmail.example',
      'asked@heronmail.example',
    ]);
    await sql`update readers set address_state = 'bouncing' where address = 'dead@heronmail.example'`.execute(world.ctx.db);
    await sql`update memberships set state = 'waiting' where reader_id in (select id from readers where address = 'asked@heronmail.example')`.execute(
      world.ctx.db,
    );
    const id = await world.letter(newsletter, senderId, {
      subject: 'Later',
      dueAt: new Date(world.clock.now().getTime() + 2 * DAY),
      nodes: [{ kind: 'button', label: 'Go', href: 'https://lanternfish.example/' }],
    });
    const { audience } = await letterOf(world.ctx, newsletter, id);
    expect(await reachOf(world.ctx, newsletter, audience)).toMatchObject({ will: 2, out: { suppressed: 1, waiting: 1 } });
    // The same, however it is asked.
    const twice = { to: [...audience.to, { kind: 'tag' as const, tag: 'none' }], without: [] };
    expect(await reachOf(world.ctx, newsletter, twice)).toMatchObject({ will: 2, out: { suppressed: 1 } });
    expect((await today(world.ctx, newsletter)).reach.get(id)).toEqual({ will: 2, exact: true });
    expect((await previewOf(world.ctx, newsletter, id))!.html).toContain('Go');

    const zone = newsletter.time_zone;
    await expect(world.lets(newsletter, id, '2020-01-01T09:00')).rejects.toMatchObject({
      fields: { local: expect.stringContaining('over') },
    });
    for (const none of ['', 'soon', '2027-02-30T09:00'])
      await expect(world.lets({ ...newsletter, time_zone: 'Europe/Lisbon' }, id, none)).rejects.toMatchObject({
        code: 'invalid',
      });
    await world.lets(newsletter, id, '2026-12-24T08:30');
    expect([zone, (await letterOf(world.ctx, newsletter, id)).dueAt.toISOString()]).toEqual([
      'Europe/Lisbon',
      '2026-12-24T08:30:00.000Z',
    ]);
    await callBack(world.ctx, newsletter, id, 'O');
    world.clock.advance(40 * DAY);
    await world.work();
    expect((await letterOf(world.ctx, newsletter, id)).state).toBe('draft');
    await world.lets(newsletter, id, '2027-02-01T08:30');
    world.clock.advance(40 * DAY);
    await world.work();
    const sent = await letterOf(world.ctx, newsletter, id);
    expect([sent.state, sent.counts.recipients]).toEqual(['sent', 2]);
    await expect(world.lets(newsletter, id, '2028-01-01T08:30')).rejects.toMatchObject({ code: 'conflict' });
    await expect(callBack(world.ctx, newsletter, id, 'O')).rejects.toMatchObject({ code: 'conflict' });
    await expect(callBack(world.ctx, await world.newsletter('Another'), id, 'O')).rejects.toMatchObject({ code: 'not-found' });
  });
});

describe('a newsletter that counts nothing', () => {
  it('sends letters without a counting picture, with links that lead straight, and says so to readers', async () => {
    const quiet = await world.newsletter('Quiet');
    const { senderId: from } = await world.sender(quiet);
    await world.ctx.db
      .updateTable('newsletters')
      .set({ count_opens: false, count_clicks: false })
      .where('id', '=', quiet.id)
      .execute();
    await world.readers(quiet, ['quiet@heronmail.example']);
    const id = await world.letter(quiet, from, {
      subject: 'Quietly',
      nodes: [{ kind: 'button', label: 'Go', href: 'https://lanternfish.example/straight' }],
    });
    await world.work();
    const { html } = await simpleParser(world.mail.to('quiet@heronmail.example').at(-1)!.source);
    expect(String(html)).not.toMatch(/\/e\/(o|c)\//);
    expect(String(html)).toContain('href="https://lanternfish.example/straight"');
    expect((await letterOf(world.ctx, quiet, id)).counted).toEqual({ opens: false, clicks: false });
    const leave = /https:\/\/go\S*\/e\/leave\/[a-z2-7]+/.exec(String(html))![0];
    const handle = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
    expect(await (await handle(new Request(leave))).text()).toContain('count neither whether they are opened nor which links');
  });
});

import { existsSync, readdirSync } from 'node:fs';
import { sql } from 'kysely';
import pino from 'pino';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { leaveToken } from '@/core/sending/token';
import { MarkBook } from '@/server/delivery/marks';
import { confirm } from '@/server/forms/confirm';
import { jobs } from '@/server/jobs/jobs';
import { askForOwn } from '@/server/keeping/choices';
import { post } from '@/server/mail/post';
import { openNewsletter } from '@/server/newsletters/newsletters';
import { overFetch } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { totalsOf } from '@/server/readers/readers';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { closeNewsletter, eraseNewsletter, keepNewsletter } from '@/server/site/removing';
import { startWhole } from '@/server/transfer/exports';
import { live } from './lived';
import { DAY, formPoster, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter('Going Under');
});
afterEach(() => world.close());

const OTTO = 'Ottoline Vance';
const close = () => closeNewsletter(world.ctx, newsletter, ' Going Under ', OTTO);
const handle = () => overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
const open = () => openNewsletter(world.ctx, newsletter.owner, newsletter.slug);

describe('a newsletter that is to be deleted', () => {
  it('asks for its name, is closed at once, and every owner is told until when it can be kept', async () => {
    await expect(closeNewsletter(world.ctx, newsletter, 'going under', OTTO)).rejects.toMatchObject({
      fields: { name: expect.anything() },
    });
    expect((await open()).closing_at).toBeNull();
    const { at } = await close();
    expect(at).toEqual(new Date(world.clock.now().getTime() + 7 * DAY));
    // Pressed again, the week is the same and nobody is told twice.
    world.clock.advance(DAY);
    expect(await closeNewsletter(world.ctx, await open(), 'Going Under', OTTO)).toEqual({ at });
    await world.work();
    const told = world.mail.to(`${newsletter.owner}@postbird.example`);
    expect(told).toHaveLength(1);
    expect(told[0]!.source).toContain('Going Under will be deleted on Tuesday, 1 December');
    expect(told[0]!.source).not.toContain('asked to be told');
  });

  it('sends nothing for a week, whatever was under way, and takes nobody in', async () => {
    const form = await world.form(newsletter);
    const send = formPoster(handle());
    await send(form.publicId, { email: 'waits@heronmail.example' });
    await world.work();
    const link = (await world.linkIn('waits@heronmail.example', '/e/confirm/')).split('/').at(-1)!;
    const { senderId } = await world.sender(newsletter);
    const readers = await world.readers(newsletter, ['a@heronmail.example', 'b@heronmail.example']);
    const half = await world.letter(newsletter, senderId, { subject: 'Half' });
    await startLetter(world.ctx, half);
    const due = await world.letter(newsletter, senderId, { subject: 'Due', dueAt: new Date(world.clock.now().getTime() + DAY) });
    const later = await world.letter(newsletter, senderId, {
      subject: 'Later',
      dueAt: new Date(world.clock.now().getTime() + 30 * DAY),
    });
    const single = {
      newsletterId: newsletter.id,
      kind: 'welcome' as const,
      readerId: readers[0]!,
      to: 'a@heronmail.example',
      subject: 'Single',
      rendered: { html: '<p>x</p>', text: 'x' },
    };
    await post(world.ctx, world.ctx.db, single);
    await close();
    await post(world.ctx, world.ctx.db, single);
    const before = world.mail.taken.length;
    for (let days = 0; days < 6; days += 1) {
      world.clock.advance(DAY);
      await world.work();
    }
    const since = world.mail.taken.slice(before).filter((mail) => !mail.to.endsWith('@postbird.example'));
    expect(since).toEqual([]);
    const answer = await send(form.publicId, { email: 'new@heronmail.example' });
    expect([answer.status, (await answer.json()).error?.sentence]).toEqual([410, expect.stringContaining('closed this form')]);
    await expect(confirm(world.ctx, link, { network: '', agent: '' })).rejects.toMatchObject({
      code: 'expired',
      sentence: expect.stringContaining('is closing'),
    });
    await expect(
      askForOwn(world.ctx, leaveToken({ readerId: readers[0]!, delivery: null }, 'choices', world.ctx.config.keys)),
    ).rejects.toMatchObject({
      sentence: expect.stringContaining('is closing'),
    });

    // Kept in the last hour: what was due meanwhile waits for the writer, and so does what was stopped on its way.
    await keepNewsletter(world.ctx, await open());
    await world.work();
    const states = async () =>
      Promise.all([half, due, later].map(async (id) => (await letterOf(world.ctx, newsletter, id)).state));
    expect(await states()).toEqual(['paused', 'draft', 'scheduled']);
    expect((await send(form.publicId, { email: 'new@heronmail.example' })).status).toBe(200);
    await expect(keepNewsletter(world.ctx, newsletter)).rejects.toMatchObject({ code: 'conflict' });
    world.clock.advance(30 * DAY);
    await world.work();
    expect(await states()).toEqual(['paused', 'draft', 'sent']);
    expect((await totalsOf(world.ctx, newsletter)).reading).toBe(2);
  });

  it('a letter that begins in the same moment is stopped on its way', async () => {
    const { senderId } = await world.sender(newsletter);
    await world.readers(newsletter, ['a@heronmail.example']);
    const letter = await world.letter(newsletter, senderId);
    await Promise.all([startLetter(world.ctx, letter), close()]);
    const before = world.mail.taken.length;
    await world.work();
    world.clock.advance(10 * MINUTE);
    await world.work();
    expect(world.mail.taken.slice(before).filter((mail) => mail.to === 'a@heronmail.example')).toEqual([]);
  });

  it('is then truly gone: from every table, every file and every log, and nothing of others with it', async () => {
    const logged: string[] = [];
    Object.assign(world.ctx, { log: pino({ level: 'trace' }, { write: (line: string) => void logged.push(line) }) });
    const stays = await world.newsletter('Staying Afloat');
    const { senderId: other } = await world.sender(stays, 'afloat.example');
    await world.readers(stays, ['above@elsewhere.example']);
    await world.letter(stays, other, { subject: 'From above' });
    await world.ctx.db
      .updateTable('newsletters')
      .set({ alert_joins: 'at once', alert_leaves: 'at once' })
      .where('id', '=', newsletter.id)
      .execute();
    const { readers } = await live(world, newsletter);
    await world.readers(
      newsletter,
      Array.from({ length: 620 }, (_, n) => `under${n}@heronmail.example`),
    );
    await sql`insert into reports (kind, to_local, received_at, bytes) values ('complaint', 'x', now(), convert_to('To: r1@heronmail.example', 'UTF8'))`.execute(
      world.ctx.db,
    );
    await startWhole(world.ctx, newsletter, { name: OTTO, email: `${newsletter.owner}@postbird.example` });
    await world.work();
    const media = world.ctx.config.mediaDir;
    expect(readdirSync(media)).toHaveLength(3);
    const form = await world.form(newsletter);
    await close();
    world.clock.advance(7 * DAY - 1);
    await jobs(world.ctx)['erase-newsletter']({ id: newsletter.id }, undefined as never);
    expect((await totalsOf(world.ctx, newsletter)).reading).toBeGreaterThan(600);
    world.clock.advance(1);
    await expect(keepNewsletter(world.ctx, newsletter)).rejects.toMatchObject({ code: 'conflict' });
    // Broken off in the middle, side by side, and called again.
    const broken = world.brokenAfter(12);
    await expect(eraseNewsletter(broken, newsletter.id)).rejects.toThrow();
    await expect(open()).rejects.toMatchObject({ code: 'not-found' });
    const script = await handle()(new Request(`https://go.inkset.example/e/form/${form.publicId}.js`));
    expect(await script.text()).toContain('has closed this form');
    await Promise.all([0, 1].map(() => eraseNewsletter(world.ctx, newsletter.id).catch(() => null)));
    await eraseNewsletter(world.ctx, newsletter.id);
    await world.work();

    const marks = [
      newsletter.id,
      'going under',
      'heronmail',
      'tinyharbour',
      'zoë@',
      'née reef',
      'anglerfish',
      'at the pier',
      'diver, keen',
      'your boat',
      readers[0]!,
      'saltmarsh',
    ];
    const { rows: tables } = await sql<{ name: string }>`
      select quote_ident(schemaname) || '.' || quote_ident(tablename) as name from pg_tables where schemaname in ('public', 'rehearsal', 'graphile_worker')`.execute(
      world.ctx.db,
    );
    const found: string[] = [];
    for (const { name } of tables) {
      const { rows } = await sql<{ text: string }>`select t::text as text from ${sql.raw(name)} t`.execute(world.ctx.db);
      const readable = rows.map(({ text }) =>
        text.replace(/\\\\x((?:[0-9a-f]{2})+)/g, (_, hex: string) => Buffer.from(hex, 'hex').toString('utf8')).toLowerCase(),
      );
      for (const mark of marks) if (readable.some((text) => text.includes(mark))) found.push(`${name}: ${mark}`);
    }
    // The names of mail domains are nobody's: what the DNS says of them is kept for everybody. Brakes run out within a day.
    const shared = /^public\.(mail_domains|routes|route_names|rate_limits): (heronmail|tinyharbour)$/;
    expect(found.filter((one) => !shared.test(one))).toEqual([]);
    expect(readdirSync(media)).toEqual([]);
    expect(existsSync(media)).toBe(true);
    const said = logged.join('').toLowerCase();
    expect(said).toContain('is erased');
    expect(marks.filter((mark) => mark !== newsletter.id && said.includes(mark))).toEqual([]);
    expect((await totalsOf(world.ctx, stays)).reading).toBe(1);
    expect(world.mail.to('above@elsewhere.example')).toHaveLength(1);
  });
});

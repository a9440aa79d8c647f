import { readFile } from 'node:fs/promises';
import { gzipSync } from 'node:zlib';
import { sql } from 'kysely';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { accessibilityFaults } from './axe';
import { onDesk, until } from './desk';
import { type Founded, TestWorld } from './world';

/* What came of letters, and what grows the list, as their writer reads it. */
const MANNERS = ['gone-a', 'gone-b', 'gone-c', 'junk-a', 'listed-a', 'late-a', 'away-a', 'answers-a', 'complains-a', 'grey-a'];
const PEOPLE = [...MANNERS, ...Array.from({ length: 20 }, (_, n) => `marsh-${n}`)].map((name) => `${name}@heronmail.example`);

let world: TestWorld;
let desk: Page;
let founded: Founded;
const { section, letGo, written } = onDesk(() => desk);

beforeAll(async () => {
  world = await TestWorld.open();
  founded = await world.founded('Marsh Letters', 'marshletters.example');
  ({ desk } = founded);
  await founded.ctx.db.updateTable('newsletters').set({ call_back_seconds: 0 }).where('id', '=', founded.newsletter.id).execute();
  await founded.readers(PEOPLE);
});
afterAll(() => world?.close());

const saved = async (name: string): Promise<string> => {
  const download = desk.waitForEvent('download');
  await desk.getByRole('button', { name }).click();
  return readFile(await (await download).path(), 'utf8');
};

/** A letter is written, and let go. */
const send = async (title: string) => {
  await written(title, () => desk.keyboard.type(`Words of ${title.toLowerCase()}.`));
  await desk.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name: 'Send' }).click();
  await letGo();
};

describe('delivery', () => {
  it('is told provider by provider, reason by reason, in the servers’ words, from what really came back', async () => {
    await send('Reeds');
    await desk.getByText('Reeds').first().waitFor();
    await section('Delivery');
    await until(desk, /heronmail\.example\s+29\s+/);
    await world.advance(3);
    // Twenty-four and the greylisted one are taken; three are gone, two are turned away.
    await until(desk, /heronmail\.example\s+30\s+83\.3%/);
    const words = await desk.getByRole('main').innerText();
    expect(words).toMatch(/Address dead[\s\S]*?\t3\t/);
    expect(words).toMatch(/Blocked for its content[\s\S]*554 5\.7\.1 Message rejected as spam by content scanner/);
    expect(words).toMatch(/Blocked for its sender’s name[\s\S]*blocked using bl\.lists\.example/);
    expect(words).toMatch(/Come again later/);
    expect(words).toMatch(/1 of 25 copies were reported as junk/);
    expect(words).toMatch(/Takes letters for junk/);
    expect(words).not.toContain('gone-a@');
    expect(await accessibilityFaults(desk)).toEqual([]);
    // A person's answer to the return path reached the writer; an absence did not.
    await world.letter('letters@marshletters.example', 'Re: your letter', 1);
    expect((await world.letters('letters@marshletters.example')).map(({ subject }) => subject)).not.toContain('Out of office');
  });

  it('has its drawing as a table and as files, by the keyboard alone', async () => {
    await desk.getByText('As a table').focus();
    await desk.keyboard.press('Enter');
    await desk.getByRole('table', { name: 'Taken week by week' }).waitFor();
    expect(await saved('Taken week by week as CSV')).toMatch(/^Week of,heronmail\.example\r\n.*83\.3%/);
    expect(await saved('Taken week by week as SVG')).toMatch(/^<svg/);
    expect(await saved('Taken week by week as PNG')).toContain('PNG');
    // Another share of the same copies, by the arrow keys.
    await desk.getByRole('radio', { name: 'Taken' }).focus();
    for (let n = 0; n < 2; n += 1) await desk.keyboard.press('ArrowRight');
    await desk.getByRole('radio', { name: 'Turned away', checked: true }).waitFor();
    expect(await saved('Turned away week by week as CSV')).toMatch(/^Week of,heronmail\.example\r\n/);
    await desk.getByRole('navigation', { name: 'Period' }).getByRole('link', { name: 'a year' }).focus();
    await desk.keyboard.press('Enter');
    await desk.waitForURL(/days=365/);
    await until(desk, /30\s+83\.3%/);
  });

  it('takes a report that a provider sent elsewhere, once, and says in words what is none', async () => {
    await desk.getByRole('link', { name: 'marshletters.example', exact: true }).click();
    await desk.getByRole('heading', { name: 'What others saw in your name' }).waitFor();
    const row = (ip: string, count: number, good: boolean) =>
      `<record><row><source_ip>${ip}</source_ip><count>${count}</count><policy_evaluated><disposition>none</disposition><dkim>${good ? 'pass' : 'fail'}</dkim><spf>${good ? 'pass' : 'fail'}</spf></policy_evaluated></row><identifiers><header_from>marshletters.example</header_from></identifiers><auth_results>${good ? '<spf><domain>bounce.marshletters.example</domain><result>pass</result></spf>' : ''}</auth_results></record>`;
    const now = Math.round((founded.ctx.clock.now().getTime() - 86_400_000) / 1_000);
    const xml = `<feedback><report_metadata><org_name>Heron Mail</org_name><report_id>r1</report_id><date_range><begin>${now - 86_400}</begin><end>${now}</end></date_range></report_metadata><policy_published><domain>marshletters.example</domain><p>none</p></policy_published>${row('192.0.2.7', 40, true)}${row('203.0.113.9', 3, false)}</feedback>`;
    const bring = desk.locator('input[type=file]');
    const status = desk.getByRole('status').filter({ hasText: /report|Read/ });
    await bring.setInputFiles({ name: 'r.xml.gz', mimeType: 'application/gzip', buffer: gzipSync(xml) });
    await status.filter({ hasText: 'Read: 43 mails, reported by Heron Mail.' }).waitFor();
    await desk.getByText('3 came from strangers.', { exact: false }).waitFor();
    await bring.setInputFiles({ name: 'r.xml', mimeType: 'text/xml', buffer: Buffer.from(xml) });
    await status.filter({ hasText: 'was read before. It counts once.' }).waitFor();
    await bring.setInputFiles({ name: 'x.zip', mimeType: 'application/zip', buffer: Buffer.from('PK no') });
    await status.filter({ hasText: 'the pack is broken' }).waitFor();
    await desk.reload();
    expect(await desk.getByRole('main').innerText()).toMatch(/43 mails in the name of marshletters\.example were reported/);
    expect(await accessibilityFaults(desk)).toEqual([]);
  });

  it('is tried in boxes of the writer’s own, who says where each copy lay', async () => {
    await section('Delivery');
    await desk.getByRole('link', { name: 'Add boxes' }).click();
    await desk.getByRole('heading', { level: 1, name: 'Where letters land' }).waitFor();
    const address = desk.getByLabel('A mailbox of your own');
    await address.fill('nobody');
    await desk.getByRole('button', { name: 'Add box' }).click();
    await desk.getByText('This does not look like an email address.').waitFor();
    for (const box of ['seed.one@heronmail.example', 'nobody-seed@kestrel.example']) {
      await address.fill(box);
      await desk.getByRole('button', { name: 'Add box' }).click();
      await desk.getByRole('listitem').filter({ hasText: box }).waitFor();
    }
    await desk.getByLabel('Letter', { exact: true }).selectOption({ label: 'Reeds' });
    await desk.getByRole('button', { name: 'Send it to 2 boxes' }).click();
    const came = await world.letter('seed.one@heronmail.example', 'Reeds', 1);
    const text = await (await fetch(world.at('inbox', `/letter/${came.id}/text`))).text();
    expect(text.indexOf('Words of reeds.')).toBeLessThan(text.indexOf('A test of where this lands'));
    await until(desk, /nobody-seed@kestrel\.example\s+Not taken/);
    await desk.getByLabel('Where it lay in seed.one@heronmail.example').selectOption('In junk');
    await until(desk, /Of 2: 1 in junk, 1 not taken\./);
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('listitem').filter({ hasText: 'nobody-seed' }).getByRole('button', { name: 'Remove' }).click();
    await desk.getByRole('button', { name: 'Send it to 1 box' }).waitFor();
    // It is a test, and no letter of any reader’s.
    await section('Delivery');
    await until(desk, /1 of 25 copies were reported as junk/);
  });

  it('hears from providers once a day is over', async () => {
    await desk.getByRole('link', { name: 'marshletters.example', exact: true }).click();
    await desk.getByRole('heading', { name: 'What others saw in your name' }).waitFor();
    await world.advance(1_440);
    await until(desk, /heronmail\.example[\s\S]*the last 30 days/);
    await until(desk, /Yours, from here/);
  });
});

describe('the public', () => {
  it('reads once it is woken; nobody counts as having read who did not', async () => {
    await world.post('inbox', '/public', { awake: 'yes' });
    await send('Sedges');
    const { db } = founded.ctx;
    type Truth = { to: string; subject: string; read: boolean };
    const truth = async () =>
      ((await (await fetch(world.at('inbox', '/public'))).json()) as Truth[]).filter(({ subject }) => subject === 'Sedges');
    await expect.poll(async () => (await truth()).length, { timeout: 40_000, interval: 300 }).toBe(20);
    for (let hour = 0; hour < 12; hour += 1) await world.advance(60);
    const copies = () =>
      db
        .selectFrom('deliveries')
        .innerJoin('letters', 'letters.id', 'deliveries.letter_id')
        .select(['address', 'opened_at', 'opened_by_machine_at'])
        .where('letters.subject', '=', 'Sedges')
        .where('deliveries.newsletter_id', '=', founded.newsletter.id)
        .execute();
    const readers = (await truth()).filter(({ read }) => read).map(({ to }) => to);
    // Whoever read was seen to, or a program of their mailbox had fetched its pictures before.
    const missed = async () => {
      const known = (await copies()).filter((copy) => copy.opened_at !== null || copy.opened_by_machine_at !== null);
      return readers.filter((one) => !known.some(({ address }) => address === one));
    };
    await expect.poll(missed, { timeout: 20_000 }).toEqual([]);
    const seen = (await copies()).filter((copy) => copy.opened_at !== null).map(({ address }) => address);
    expect(seen.length).toBeGreaterThan(0);
    for (const address of seen) expect(readers).toContain(address);
    await world.post('inbox', '/public', { awake: 'no' });
  });
});

describe('growth', () => {
  it('is drawn with its table and files; a goal and a note are kept, and taken away', async () => {
    await section('Growth');
    await desk.getByText('people read now', { exact: false }).waitFor();
    const csv = await saved('Readers day by day as CSV');
    expect(csv.split('\r\n')[0]).toBe('Day,Readers,At least,At most');
    expect(csv.split('\r\n')).toHaveLength(30);
    // Any days, by the keyboard; beside the same a year before.
    await desk.getByRole('button', { name: 'Other days' }).focus();
    await desk.keyboard.press('Enter');
    const today = founded.ctx.clock.now().toISOString().slice(0, 10);
    await desk.getByLabel('From', { exact: true }).fill(today);
    await desk.getByLabel('To', { exact: true }).fill(today);
    await desk.getByLabel('Beside', { exact: true }).selectOption('a year earlier');
    await desk.getByRole('button', { name: 'Show these days' }).click();
    await desk.waitForURL(/from=/);
    await desk.getByRole('columnheader', { name: 'A year earlier' }).waitFor();
    expect((await saved('Readers day by day as CSV')).trim().split('\r\n')).toHaveLength(2);
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('navigation', { name: 'Period' }).getByRole('link', { name: '28 days' }).click();
    await desk.getByRole('button', { name: 'Set a goal' }).click();
    await desk.getByLabel('Readers', { exact: true }).fill('0');
    await desk.getByRole('button', { name: 'Keep it' }).click();
    await desk.getByRole('alert').first().waitFor();
    await desk.getByLabel('Readers', { exact: true }).fill('20');
    await desk.getByRole('button', { name: 'Keep it' }).click();
    await desk.getByText('readers: you have them.', { exact: false }).waitFor();
    await desk.getByRole('button', { name: 'Note a day' }).click();
    await desk.getByLabel('What happened', { exact: true }).fill('A talk at the mill');
    await desk.getByRole('button', { name: 'Note it' }).click();
    await desk.getByText('A talk at the mill', { exact: false }).first().waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Take away' }).click();
    await desk.getByText('A guest post, a talk, a new form', { exact: false }).waitFor();
    await desk.setViewportSize({ width: 390, height: 844 });
    for (const name of ['Growth', 'Delivery']) {
      await desk.goto(desk.url().replace(/\/(?:growth|delivery).*/, `/${name.toLowerCase()}`));
      await desk.getByRole('heading', { level: 1, name }).waitFor();
      expect(await desk.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth)).toBe(0);
    }
  });
});

describe('what is out of the usual', () => {
  it('stands on Today and on its own screen, with what to do', async () => {
    const { db, clock } = founded.ctx;
    // For half a year forty people joined a day; then, but for the thirty of these tests, nobody.
    await sql`insert into day_changes (newsletter_id, day, joined, left_count)
      select ${founded.newsletter.id}::uuid, ${clock.now()}::date - n, 40, 0 from generate_series(18, 190) n`.execute(db);
    await db
      .updateTable('newsletters')
      .set({ created_at: new Date(clock.now().getTime() - 200 * 86_400_000), watched_at: null })
      .where('id', '=', founded.newsletter.id)
      .execute();
    await world.letter('writer@marshletters.example', 'Far fewer people than usual join', 1);
    await desk.setViewportSize({ width: 1280, height: 800 });
    await desk.getByRole('navigation', { name: 'Sections' }).getByRole('link', { name: 'Today' }).click();
    const needs = desk.getByRole('complementary').filter({ hasText: 'Far fewer people than usual join' });
    await needs.getByRole('link', { name: 'See why' }).and(desk.locator('[href$="/growth"]')).click();
    await desk.getByRole('heading', { level: 1, name: 'Growth' }).waitFor();
    await desk.getByText('Look whether your forms are still where they were', { exact: false }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
  });
});

import { readFile, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { leaveToken } from '../../src/core/sending/token';
import { accessibilityFaults } from './axe';
import { onDesk } from './desk';
import { type Founded, TestWorld } from './world';

/* Bringing readers from a file, mending what could not be read, taking it back, exporting; and a reader's own way without script. */
let world: TestWorld;
let desk: Page;
let founded: Founded;
const { section, headline } = onDesk(() => desk);
const FILE = [
  'E-Mail-Adresse;Vorname;Status;Angemeldet am;Stadt',
  'mareike@heronmail.example;Mareike;aktiv;03.05.2024;Bremen',
  'jon@postbird.example;Jon;aktiv;14.01.2025;Kiel',
  'sigrid@postbird.example;Sigrid;abgemeldet;02.02.2023;',
  'ottokar(at)heronmail.example;Ottokar;aktiv;18.03.2025;Husum',
].join('\n');

beforeAll(async () => {
  world = await TestWorld.open();
  founded = await world.founded('Tern Letters', 'tern.example');
  ({ desk } = founded);
});
afterAll(() => world?.close());

const upload = async (text: string | Buffer, name = 'alte-liste.csv') => {
  const path = join(tmpdir(), name);
  await writeFile(path, text);
  await desk.getByLabel('File of readers').setInputFiles(path);
};

describe('a file of readers', () => {
  it('is refused in words where it is none', async () => {
    await section('Readers');
    await desk.getByRole('link', { name: 'Bring them from a file' }).click();
    await desk.getByRole('heading', { name: 'Bring readers' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await upload(Buffer.from('PK\x03\x04a spreadsheet'), 'readers.csv');
    await desk.getByRole('alert').filter({ hasText: 'This is a spreadsheet and not a CSV file' }).waitFor();
  });

  it('is looked through before anything is brought, and brought with the consent question', async () => {
    await upload(FILE);
    await desk.getByRole('heading', { name: 'alte-liste.csv' }).waitFor();
    await desk.getByText('UTF-8, semicolons between the cells, names of columns in the first row.').waitFor();
    expect(await desk.getByLabel('“Vorname” is').inputValue()).toBe('first name');
    await desk.getByLabel('“Stadt” is').selectOption('new text');
    await desk.getByLabel('A tag for all of them').fill('Old site');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Look through all of it' }).click();
    await headline('Of 4 rows, 2 become readers of Tern Letters, 1 is suppressed and 1 cannot be read.');
    await desk
      .getByRole('row', { name: /Cannot be read/ })
      .getByText('Row 5: This is no address: it has no @.')
      .waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    const none = await founded.ctx.db
      .selectFrom('readers')
      .select('id')
      .where('newsletter_id', '=', founded.newsletter.id)
      .execute();
    expect(none).toEqual([]);
    await desk.getByLabel('Have they agreed?').selectOption('vouched');
    await desk.getByRole('button', { name: 'Bring them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'Say in a sentence where and when they agreed' }).waitFor();
    await desk.getByLabel('Where and when they agreed').fill('They signed up on my old site, 2024 and 2025.');
    await desk.getByRole('button', { name: 'Bring them' }).click();
    await headline('Of 4 rows, 2 became readers of Tern Letters, 1 was suppressed and 1 could not be read.');
  });

  it('gives back what could not be read, to be mended and brought again', async () => {
    const download = desk.waitForEvent('download');
    await desk.getByRole('link', { name: 'Get them with their reasons' }).click();
    const text = await readFile(await (await download).path(), 'utf8');
    expect(text).toContain('ottokar(at)heronmail.example');
    await desk.getByRole('link', { name: 'Bring readers' }).click();
    await upload(text.replace('(at)', '@'), 'mended.csv');
    await desk.getByRole('button', { name: 'Look through all of it' }).click();
    await headline('Of 1 row, 1 becomes a reader of Tern Letters.');
    await desk.getByRole('button', { name: 'Bring them' }).click();
    await headline('Of 1 row, 1 was asked for Tern Letters.');
  });

  it('leads to its people, who tell how they came', async () => {
    await desk.getByRole('link', { name: 'See them among your readers' }).click();
    await desk.getByText('1 person', { exact: true }).waitFor();
    await desk.getByRole('link', { name: 'ottokar@heronmail.example' }).click();
    await desk.getByText('by the file “mended.csv”').first().waitFor();
  });

  it('is taken back as a whole', async () => {
    await section('Readers');
    await desk.getByRole('link', { name: 'Bring from a file' }).click();
    await desk.getByRole('link', { name: 'alte-liste.csv' }).click();
    await desk.getByRole('button', { name: 'Take it back' }).click();
    await desk.getByRole('dialog').getByRole('button', { name: 'Take it back' }).click();
    await headline('Taken back. Whoever has done something since, or to whom one of you has, stays.');
    const left = await founded.ctx.db
      .selectFrom('readers')
      .select('address')
      .where('newsletter_id', '=', founded.newsletter.id)
      .execute();
    expect(left).toEqual([{ address: 'ottokar@heronmail.example' }]);
  });
});

describe('readers as a file', () => {
  it('are chosen, written, told of by mail and fetched', async () => {
    await founded.readers(['wren@heronmail.example', 'solveig@heronmail.example']);
    await section('Readers');
    await desk.getByRole('searchbox').fill('heronmail');
    await desk.waitForURL(/q=heronmail/);
    await desk.getByText('3 people', { exact: true }).waitFor();
    await desk.getByRole('grid', { name: 'Readers' }).getByRole('row').nth(1).focus();
    await desk.keyboard.press('Control+a');
    await desk.getByText('3 chosen').waitFor();
    await desk.getByRole('button', { name: 'Export', exact: true }).click();
    await desk.getByRole('checkbox', { name: 'Lists' }).uncheck();
    await desk.getByRole('button', { name: 'Write the file' }).click();
    await desk.getByRole('link', { name: 'Exports' }).click();
    const download = desk.waitForEvent('download');
    await desk.getByRole('link', { name: /Fetch it: CSV/ }).click();
    const file = await download;
    expect(file.suggestedFilename()).toMatch(/^tern-letters-readers-\d{4}-\d\d-\d\d\.csv$/);
    const text = await readFile(await file.path(), 'utf8');
    expect(text.split('\r\n')[0]).toBe('\ufeffEmail,First name,State,Tags,Agreed,Stadt');
    expect(text.trim().split('\r\n')).toHaveLength(4);
    expect(await accessibilityFaults(desk)).toEqual([]);
    await world.letter('writer@tern.example', '3 readers of Tern Letters, as a file', 1);
  });
});

describe('a reader without script', () => {
  it('chooses what they get, pauses, asks for what is kept of them and has it erased', async () => {
    const { ctx, newsletter } = founded;
    const { id } = await ctx.db
      .selectFrom('readers')
      .select('id')
      .where('address', '=', 'wren@heronmail.example')
      .where('newsletter_id', '=', newsletter.id)
      .executeTakeFirstOrThrow();
    const context = await world.visitor({ javaScriptEnabled: false });
    let page = await context.newPage();
    await page.goto(`${world.at('edge')}/e/choices/${leaveToken({ readerId: id, delivery: null }, 'choices', ctx.config.keys)}`);
    await page.getByRole('heading', { name: 'Choose what you get' }).waitFor();
    await page.getByLabel('As text alone, without pictures').check();
    await page.getByRole('button', { name: 'Keep this' }).click();
    await page.getByText('Kept.').waitFor();
    expect(await page.getByLabel('As text alone, without pictures').isChecked()).toBe(true);
    await page.getByRole('button', { name: 'a month' }).click();
    await page.getByText(/^No letters come until/).waitFor();
    await page.getByRole('button', { name: 'Let them come again' }).click();
    await page.getByRole('button', { name: 'Send me the link' }).click();
    await page.getByText('The link is on its way to w…@heronmail.example.').waitFor();
    const letter = await world.letter('wren@heronmail.example', 'What is kept of you by Tern Letters', 1);
    page = await world.click(context, letter, 'What is kept of you');
    await page.getByText('wren@heronmail.example').first().waitFor();
    await page.getByLabel('First name').fill('Wren');
    await page.getByRole('button', { name: 'Keep this' }).click();
    await page.getByText('Kept.').waitFor();
    await page.getByLabel('Yes, I mean it').check();
    await page.getByRole('button', { name: 'Erase all of it' }).click();
    await page.getByText('All of it is erased.').waitFor();
    const gone = await ctx.db.selectFrom('readers').select('id').where('id', '=', id).execute();
    expect(gone).toEqual([]);
    await context.close();
  });
});

import { readFile } from 'node:fs/promises';
import { sql } from 'kysely';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { accessibilityFaults } from './axe';
import { onDesk } from './desk';
import { type Founded, TestWorld } from './world';

/* Letting go: of cold readers, of a whole newsletter, which is taken out before and brought back. */
let world: TestWorld;
let desk: Page;
let founded: Founded;
const { section, headline } = onDesk(() => desk);

beforeAll(async () => {
  world = await TestWorld.open();
  founded = await world.founded('Curlew Letters', 'curlew.example');
  ({ desk } = founded);
});
afterAll(() => world?.close());

describe('cold readers', () => {
  it('are found, asked once more, and one of them stays', async () => {
    const { ctx, newsletter } = founded;
    await founded.readers(['silent@heronmail.example', 'sleepy@heronmail.example', 'keen@heronmail.example']);
    const now = ctx.clock.now();
    await sql`update readers set letters_got = 12, last_sent_at = ${now}, created_at = ${new Date(now.getTime() - 400 * 86_400_000)}, warmth = 0, warmth_at = ${now}
      where newsletter_id = ${newsletter.id} and address <> 'keen@heronmail.example'`.execute(ctx.db);
    await section('Readers');
    await desk.getByRole('link', { name: 'Who has been cold for long' }).click();
    await headline('2 people have opened nothing and followed no link for half a year, of 3 who read by their standing.');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Ask 2 people …' }).click();
    await desk.getByLabel('Subject').fill('');
    await desk.getByRole('button', { name: 'Send it to 2 people' }).click();
    await desk.getByText('“Subject” is empty.').first().waitFor();
    await desk.getByLabel('Subject').fill('Shall the curlew go on calling?');
    await desk.getByRole('button', { name: 'Send it to 2 people' }).click();
    await desk.getByText('The question is out').waitFor();
    const letter = await world.letter('sleepy@heronmail.example', 'Shall the curlew go on calling?', 1);
    const visitor = await world.visitor();
    const page = await world.click(visitor, letter, 'Yes, let it come');
    await page.getByRole('heading', { name: 'Go on reading Curlew Letters?' }).waitFor();
    await page.getByRole('button', { name: 'Yes, let it come' }).click();
    await page.getByText('Thank you. The letters go on.').waitFor();
    await visitor.close();
    await desk.reload();
    await desk.getByText('1 is as silent as before.').waitFor();
    await desk.getByRole('button', { name: 'End it and keep everybody' }).click();
    await desk.getByText('The question is out').waitFor({ state: 'detached' });
  });
});

describe('a whole newsletter', () => {
  let file = '';
  it('is taken out as one file', async () => {
    await section('Readers');
    await desk.getByRole('link', { name: 'Exports' }).click();
    await desk.getByRole('button', { name: 'Write the whole newsletter' }).click();
    const download = desk.waitForEvent('download');
    await desk.getByRole('link', { name: /Fetch it: zip/ }).click();
    const fetched = await download;
    expect(fetched.suggestedFilename()).toMatch(/^curlew-letters-whole-\d{4}-\d\d-\d\d\.zip$/);
    file = await fetched.path();
    expect((await readFile(file)).subarray(0, 2).toString()).toBe('PK');
    await world.letter('writer@curlew.example', 'All of Curlew Letters, as a file', 1);
  });

  it('is deleted by typing its name, says so over every screen, and is kept', async () => {
    const slug = founded.newsletter.slug;
    await desk.goto(`${world.at('web')}/desk/${slug}/settings`);
    await desk.getByRole('button', { name: 'Delete this newsletter …' }).click();
    await desk.getByLabel('Type its name, Curlew Letters').fill('curlew');
    await desk.getByRole('button', { name: 'Delete it', exact: true }).click();
    await desk.getByText('This is not its name.').waitFor();
    await desk.getByLabel('Type its name, Curlew Letters').fill('Curlew Letters');
    await desk.getByRole('button', { name: 'Delete it', exact: true }).click();
    const banner = desk.getByRole('region', { name: 'To be deleted' });
    await banner.getByText(/^Curlew Letters will be deleted on/).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await section('Forms');
    await banner.waitFor();
    await banner.getByRole('button', { name: 'Keep it' }).click();
    await banner.waitFor({ state: 'detached' });
  });

  it('is brought back out of the file, and another file is refused in words', async () => {
    await desk.goto(`${world.at('web')}/new`);
    await desk.getByRole('link', { name: 'bring one back' }).click();
    await desk
      .getByLabel('File of a newsletter')
      .setInputFiles({ name: 'x.zip', mimeType: 'application/zip', buffer: Buffer.from('PK\x03\x04') });
    await desk.getByRole('alert').filter({ hasText: 'This is no file of a whole newsletter' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByLabel('File of a newsletter').setInputFiles(file);
    await desk.getByRole('heading', { name: 'Curlew Letters' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Bring it back' }).click();
    await desk.getByRole('link', { name: 'Open Curlew Letters' }).click();
    await desk.waitForURL(/curlew-letters-2\/today/);
    await section('Readers');
    await desk.getByText('silent@heronmail.example').waitFor();
    await desk.getByText('3 people read', { exact: false }).first().waitFor();
  });
});

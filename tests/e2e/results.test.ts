import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { accessibilityFaults } from './axe';
import { onDesk, until } from './desk';
import { type Founded, TestWorld } from './world';

/* What becomes of a letter, as its writer sees it: tried in versions, watched, read, sent again, and held against the others. */
const PEOPLE = Array.from({ length: 8 }, (_, n) => `teal-${n}@heronmail.example`);
const OTHER = 'Eels, and what they owe us';

let world: TestWorld;
let desk: Page;
let founded: Founded;
const { section, letGo, written } = onDesk(() => desk);
const dialog = () => desk.getByRole('dialog');
const copiesOf = async (subject: string) => {
  const all = await Promise.all(PEOPLE.map((one) => world.letters(one)));
  return PEOPLE.filter((_, n) => all[n]!.some((letter) => letter.subject === subject));
};

beforeAll(async () => {
  world = await TestWorld.open();
  founded = await world.founded('Teal Letters', 'teal.example');
  ({ desk } = founded);
  await founded.ctx.db.updateTable('newsletters').set({ call_back_seconds: 0 }).where('id', '=', founded.newsletter.id).execute();
  await founded.readers(PEOPLE);
});
afterAll(() => world?.close());

describe('a letter that is tried in versions', () => {
  it('says beforehand what that could show, and goes to a part of its readers', async () => {
    await written('A census of eels', async (letter) => {
      await letter.evaluate((element) => {
        const clipboardData = new DataTransfer();
        clipboardData.setData('text/html', '<p>Nineteen, and a <a href="https://teal.example/tray">tray</a>.</p>');
        element.dispatchEvent(new ClipboardEvent('paste', { clipboardData, bubbles: true, cancelable: true }));
      });
      await letter.getByText('Nineteen').waitFor();
    });
    await desk.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name: 'Send' }).click();
    await desk.getByText('It goes to').waitFor();
    await desk.getByRole('button', { name: 'Try two subjects first …' }).click();
    await dialog().getByLabel('Version 2').fill('A census of eels');
    await dialog().getByLabel('On how many in a hundred').fill('50');
    await dialog().getByText('Each group holds 2 people.', { exact: false }).waitFor();
    await dialog().getByRole('button', { name: 'Keep it so' }).click();
    await dialog().getByRole('alert').filter({ hasText: 'Two of these subjects are the same.' }).waitFor();
    await dialog().getByLabel('Version 2').fill(OTHER);
    await dialog().getByLabel('Then the rest').selectOption('waits for me');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await dialog().getByRole('button', { name: 'Keep it so' }).click();
    await desk
      .getByText('2 subjects (its own and “Eels, and what they owe us”) are tried on 50% of them, 2 people each')
      .waitFor();
    await letGo();
    await desk.getByText('It is being tried', { exact: false }).waitFor();
    await desk.getByText('4 wait for what comes of it', { exact: false }).waitFor();
    expect((await copiesOf('A census of eels')).length).toBe(2);
    expect((await copiesOf(OTHER)).length).toBe(2);
    expect(await accessibilityFaults(desk)).toEqual([]);
  });

  it('is decided by what its readers do, and the rest gets what its writer chooses, each one copy', async () => {
    const visitor = await world.visitor();
    await world.advance(5);
    for (const reader of await copiesOf(OTHER)) {
      const letter = (await world.letters(reader)).find((one) => one.subject === OTHER)!;
      // Where it leads nobody answers; that it was followed is counted before.
      await world.click(visitor, letter, 'tray').catch(() => undefined);
    }
    await visitor.close();
    await world.advance(5 * 60);
    await until(desk, /The rest waits until you choose/);
    await desk.getByRole('navigation', { name: 'Sections' }).getByRole('link', { name: 'Today' }).click();
    await desk.getByText('The rest of “A census of eels” waits for you').waitFor();
    await desk.getByRole('link', { name: 'Say which version they get' }).click();
    await desk.getByRole('button', { name: `Send the rest this: “${OTHER}”` }).click();
    await dialog().getByRole('button', { name: 'Yes, send it' }).click();
    await until(desk, /It was delivered to 100% of 8 recipients/);
    expect((await copiesOf(OTHER)).length).toBe(6);
    for (const reader of PEOPLE)
      expect(
        (await world.letters(reader)).filter((one) => one.subject === OTHER || one.subject === 'A census of eels'),
      ).toHaveLength(1);
  });

  it('has a result: a curve with its table, clicks on the letter itself, its recipients one by one and as a file', async () => {
    await until(desk, /Its first two days/);
    await desk.getByText('As a table').first().click();
    await desk.getByRole('cell', { name: 'the first hour' }).waitFor();
    await desk.getByRole('tab', { name: 'Clicks' }).waitFor();
    const clicks = desk.frameLocator('iframe[title="The letter"]').locator('a[data-clicks]');
    expect(await clicks.filter({ hasText: 'tray' }).getAttribute('data-clicks')).toBe('2');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('link', { name: 'Recipients' }).click();
    await desk.getByRole('row').filter({ hasText: PEOPLE[0]! }).waitFor();
    expect(await desk.getByRole('row').count()).toBe(9);
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByLabel('A part of an address').fill('teal-3');
    await desk.keyboard.press('Enter');
    await desk.waitForURL(/find=teal-3/);
    await expect.poll(() => desk.getByRole('row').count()).toBe(2);
    const file = await desk.getByRole('link', { name: 'Take them out as CSV' }).getAttribute('href');
    const answer = await desk.context().request.get(new URL(file!, desk.url()).href);
    expect(answer.headers()['content-type']).toContain('text/csv');
    const lines = (await answer.text()).trim().split('\r\n');
    expect(lines).toHaveLength(2);
    expect(lines[1]).toMatch(/^teal-3@heronmail\.example,delivered,[12],/);
    // Who may only look sees them, and takes no file of them.
    const role = (role: 'owner' | 'reader-only') =>
      founded.ctx.db.updateTable('members').set({ role }).where('newsletter_id', '=', founded.newsletter.id).execute();
    await role('reader-only');
    await desk.reload();
    await desk.getByRole('row').filter({ hasText: 'teal-3' }).waitFor();
    expect(await desk.getByRole('link', { name: 'Take them out as CSV' }).count()).toBe(0);
    expect((await desk.context().request.get(new URL(file!, desk.url()).href)).status()).toBe(403);
    await role('owner');
  });

  it('is sent again once, by another subject, to those who did not open it', async () => {
    await desk.getByRole('link', { name: 'Its result' }).click();
    await desk.getByRole('button', { name: 'Send again …' }).click();
    await dialog().getByLabel('Another subject').fill('A census of eels');
    await dialog().getByRole('button', { name: 'Begin it' }).click();
    await dialog().getByRole('alert').filter({ hasText: 'That is the subject they did not open' }).waitFor();
    await dialog().getByLabel('Another subject').fill('In case it was lost among the reeds');
    await dialog().getByRole('button', { name: 'Begin it' }).click();
    await desk.getByText('These words were sent lately').waitFor();
    await desk.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name: 'Address' }).click();
    await desk.getByText('did not get “A census of eels”', { exact: false }).first().waitFor();
    // What keeps it from everybody else cannot be taken out.
    expect(await desk.getByRole('button', { name: /^Take out/ }).count()).toBe(0);
    await desk.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name: 'Send' }).click();
    const will = (await copiesOf('A census of eels')).length;
    expect(will).toBe(2);
    await letGo();
    await until(desk, /It was delivered to 100%/);
    await desk.getByRole('link', { name: 'The first time' }).click();
    await desk.getByText('It was sent again already, or is about to be.').waitFor();
    expect(await desk.getByRole('button', { name: 'Send again …' }).count()).toBe(0);
  });
});

describe('letters side by side', () => {
  it('are sorted by any title, and taken out as a file', async () => {
    await section('Letters');
    await desk.getByRole('link', { name: 'Compare' }).click();
    await desk.getByRole('heading', { level: 1, name: 'Letters compared' }).waitFor();
    const first = () => desk.getByRole('row').nth(1).innerText();
    expect(await first()).toContain('In case it was lost');
    await desk.getByRole('link', { name: /^Delivered/ }).click();
    await desk.waitForURL(/by=delivered/);
    expect(await first()).toContain('A census of eels');
    expect(await first()).toContain('tried in 2 versions');
    expect(await accessibilityFaults(desk)).toEqual([]);
    const file = await desk.getByRole('link', { name: 'Take them out as CSV' }).getAttribute('href');
    const answer = await desk.context().request.get(new URL(file!, desk.url()).href);
    expect((await answer.text()).trim().split('\r\n')).toHaveLength(3);
  });
});

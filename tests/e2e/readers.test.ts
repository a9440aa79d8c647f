import { sql } from 'kysely';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { newId } from '../../src/server/ids';
import { accessibilityFaults } from './axe';
import { onDesk } from './desk';
import { type Founded, TestWorld } from './world';

/* Finding readers, keeping whom one found, and doing something to many of them, for a newsletter with two hundred. */
let world: TestWorld;
let desk: Page;
let founded: Founded;
const { section, headline } = onDesk(() => desk);
const grid = () => desk.getByRole('grid', { name: 'Readers' });
const people = (words: string) => desk.getByText(words, { exact: true }).waitFor();

beforeAll(async () => {
  world = await TestWorld.open();
  founded = await world.founded('Shoal Letters', 'shoal.example');
  ({ desk } = founded);
  const { ctx, newsletter } = founded;
  const at = ctx.clock.now();
  const names = ['Wren', 'Solveig', 'Mara', 'Jorun'];
  const rows = Array.from({ length: 200 }, (_, n) => ({
    id: newId(),
    newsletter_id: newsletter.id,
    address: `${names[n % 4]!.toLowerCase()}${n}@heronmail.example`,
    address_key: `${names[n % 4]!.toLowerCase()}${n}@heronmail.example`,
    first_name: names[n % 4]!,
    name_key: names[n % 4]!.toLowerCase(),
    source_name: n % 5 ? 'direct' : 'reefboard',
    created_at: new Date(at.getTime() - n * 3_600_000),
  }));
  await ctx.db.insertInto('readers').values(rows).execute();
  await sql`insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
    select r.id, l.id, r.newsletter_id, 'reading', ${at}, ${at} from readers r join lists l on l.newsletter_id = r.newsletter_id where r.newsletter_id = ${newsletter.id}`.execute(
    ctx.db,
  );
});
afterAll(() => world?.close());

describe('two hundred readers', () => {
  it('are looked through, searched, narrowed and put in order, and the address bar holds it all', async () => {
    await section('Readers');
    await headline('200 people read');
    await people('200 people');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await grid()
      .getByRole('row', { name: /wren0@/ })
      .waitFor();
    // Further ones come as one scrolls, and only those in sight are drawn.
    await expect
      .poll(
        async () => {
          await desk.mouse.wheel(0, 20_000);
          return grid()
            .getByRole('row', { name: /jorun199@/ })
            .count();
        },
        { timeout: 15_000 },
      )
      .toBe(1);
    await grid()
      .getByRole('row', { name: /jorun199@/ })
      .waitFor();
    expect(await grid().getByRole('row').count()).toBeLessThan(80);
    await desk.getByRole('searchbox', { name: 'Find by address, name or answer' }).fill('solveig1');
    await people('28 people');
    await desk.waitForURL(/q=solveig1/);
    await desk.getByRole('searchbox').fill('');
    await people('200 people');
    await desk.getByRole('link', { name: /^reefboard/ }).click();
    await people('40 people');
    await desk.getByText('Of those who are reading, and who came by reefboard:').waitFor();
    await desk.getByRole('button', { name: 'the newest first' }).click();
    await desk.getByLabel('Order').selectOption('address');
    await desk.waitForURL(/order=address/);
    await desk.keyboard.press('Escape');
    await grid().getByRole('row').nth(1).getByText('jorun115@heronmail.example').waitFor();
    await desk.goBack();
    await desk.reload();
    await people('40 people');
  });

  it('are said who in a sentence, kept as a segment, tagged by the keyboard, and that is taken back', async () => {
    await desk.getByRole('button', { name: 'Clear' }).click();
    await people('200 people');
    await desk.getByRole('button', { name: 'Say who' }).click();
    await desk.getByRole('menuitem', { name: 'What they answered' }).click();
    await desk.getByRole('button', { name: 'gave a first name' }).click();
    await desk.getByLabel('How', { exact: true }).selectOption('text');
    await desk.getByLabel('It', { exact: true }).selectOption('is');
    await desk.getByLabel('These words').fill('WREN');
    await desk.keyboard.press('Escape');
    await people('50 people');
    await desk.getByRole('button', { name: 'Add a part' }).click();
    await desk.getByRole('menuitem', { name: 'How they came' }).click();
    await people('40 people');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Keep as a segment' }).click();
    await desk.getByLabel('Name', { exact: true }).fill('Wrens who came by themselves');
    await desk.getByRole('button', { name: 'Keep it' }).click();
    await desk.waitForURL(/segment=/);
    await desk.getByText('People who gave a first name: “WREN”, and who came by direct.').waitFor();
    await people('40 people');

    // By the keyboard alone: the first row, the two below it, then everyone.
    await grid().getByRole('row').nth(1).focus();
    await desk.keyboard.press('Space');
    await desk.keyboard.press('Shift+ArrowDown');
    await desk.keyboard.press('Shift+ArrowDown');
    await people('3 chosen');
    await desk.getByRole('button', { name: 'Choose all 40' }).click();
    await people('40 chosen');
    await desk.getByRole('button', { name: 'Tag', exact: true }).click();
    await desk.getByRole('dialog').getByText('Tag 40 readers').waitFor();
    await desk.getByRole('button', { name: 'Tag them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'empty' }).waitFor();
    await desk.getByLabel('Tag', { exact: true }).fill('Birds');
    await desk.getByRole('button', { name: 'Tag them' }).click();
    await desk.getByText('Done for 40 readers, by Ottoline Vance.').waitFor();
    // Leaving the page and coming back, it stands there still.
    await section('Growth');
    await section('Readers');
    await desk
      .getByRole('link', { name: /^birds/ })
      .filter({ hasText: '40' })
      .waitFor();
    await desk.getByRole('button', { name: 'Take it back' }).click();
    await desk.getByText('Taken back. Whoever had moved on stays as they are.').waitFor();
    expect(
      (await founded.ctx.db.selectFrom('reader_tags').select('tag').where('newsletter_id', '=', founded.newsletter.id).execute())
        .length,
    ).toBe(0);
  });

  it('one is added by hand, with the question of consent; a few are erased by typing how many', async () => {
    await section('Readers');
    await people('200 people');
    await desk.getByRole('button', { name: 'Add one' }).click();
    await desk.getByLabel('Address', { exact: true }).fill('wren0@heronmail.example');
    await desk.getByRole('button', { name: 'Add them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'on this list already' }).waitFor();
    await desk.getByLabel('Address', { exact: true }).fill('ada@heronmail.example');
    await desk.getByLabel('Have they agreed?').selectOption('vouched');
    await desk.getByRole('button', { name: 'Add them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'where and when they agreed' }).waitFor();
    await desk.getByLabel('Where and when they agreed').fill('She wrote her address on a card at the reading in May.');
    await desk.getByRole('button', { name: 'Add them' }).click();
    await headline('201 people read');

    await desk.getByRole('searchbox').fill('solveig19');
    await people('2 people');
    await desk.getByRole('checkbox', { name: 'Choose all that are shown' }).click();
    await desk.getByRole('button', { name: 'Erase', exact: true }).click();
    await desk.getByRole('dialog').getByLabel('Type 2 to erase them').fill('3');
    await desk.getByRole('button', { name: 'Erase them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'Nobody was touched' }).waitFor();
    await desk.getByRole('dialog').getByLabel('Type 2 to erase them').fill('2');
    await desk.getByRole('button', { name: 'Erase them' }).click();
    await headline('199 people read');
    await desk.getByText('Nobody fits').waitFor();
    // Nobody brings them back by hand.
    await desk.getByRole('button', { name: 'Add one' }).click();
    await desk.getByLabel('Address', { exact: true }).fill('solveig193@heronmail.example');
    await desk.getByRole('button', { name: 'Add them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'erased at their wish' }).waitFor();
    await desk.keyboard.press('Escape');
  });

  it('one is opened: changed in place, tagged, suppressed and allowed again, with each act told by whom', async () => {
    await desk.getByRole('searchbox').fill('mara10');
    await grid()
      .getByRole('link', { name: /mara10@/ })
      .click();
    await desk.getByRole('heading', { level: 1, name: 'mara10@heronmail.example' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByLabel('First name').fill('Mára');
    await desk.getByLabel('Your note').fill('Met on the pier.');
    await desk.getByRole('button', { name: 'Save' }).click();
    await desk.getByText('Saved', { exact: true }).first().waitFor();
    await desk.getByRole('button', { name: 'Add a tag' }).click();
    await desk.getByLabel('Tag', { exact: true }).fill('Pier');
    await desk.getByRole('button', { name: 'Add it' }).click();
    await desk.getByRole('button', { name: 'Take off the tag pier' }).waitFor();
    await desk.getByRole('button', { name: 'Suppress', exact: true }).click();
    await desk.getByRole('dialog').getByRole('button', { name: 'Suppress', exact: true }).click();
    await desk.getByText('This address is suppressed').waitFor();
    await desk.getByText('Suppressed by Ottoline Vance').waitFor();
    await desk.getByRole('button', { name: 'Allow again' }).click();
    await desk.getByText('Allowed again by Ottoline Vance').waitFor();
    await desk.reload();
    expect(await desk.getByLabel('Your note').inputValue()).toBe('Met on the pier.');
    const [file] = await Promise.all([desk.waitForEvent('download'), desk.getByRole('link', { name: 'as a file' }).click()]);
    expect(file.suggestedFilename()).toMatch(/^reader-.*\.json$/);
  });

  it('are kept by lists, tags and fields, which say what needs them before they go', async () => {
    await desk.getByRole('link', { name: 'Settings of this newsletter' }).click();
    await desk.getByRole('navigation', { name: 'Settings' }).getByRole('link', { name: 'Lists, tags, fields' }).click();
    await desk.getByRole('table', { name: 'Lists' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByLabel('Name', { exact: true }).fill('Field notes');
    await desk.getByRole('button', { name: 'Make it' }).click();
    const row = desk.getByRole('row', { name: /Field notes/ });
    await row.waitFor();
    await row.getByRole('button', { name: 'Up' }).click();
    await desk.getByRole('table', { name: 'Lists' }).getByRole('row').nth(1).getByText('Field notes').waitFor();
    await desk.getByRole('button', { name: 'Delete Everyone' }).click();
    await desk.getByRole('dialog').getByRole('button', { name: 'Delete', exact: true }).click();
    await desk.getByRole('alert').filter({ hasText: 'is needed by the form' }).waitFor();
    await desk.keyboard.press('Escape');
    await desk.getByRole('button', { name: 'Rename pier' }).click();
    await desk.getByRole('dialog').getByLabel('Name', { exact: true }).fill('quay');
    await desk.getByRole('button', { name: 'Rename it' }).click();
    await desk.getByRole('row', { name: /quay/ }).waitFor();
    await desk.getByRole('button', { name: 'Delete Field notes' }).click();
    await desk.getByRole('dialog').getByRole('button', { name: 'Delete', exact: true }).click();
    await row.waitFor({ state: 'detached' });
  });
});

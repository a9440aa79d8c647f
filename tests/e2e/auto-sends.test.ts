import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { accessibilityFaults } from './axe';
import { onDesk, until } from './desk';
import { type Founded, TestWorld } from './world';

const DAILY = 'ada.daily@heronmail.example';
const EACH = 'bo.each@heronmail.example';
let world: TestWorld;
let desk: Page;
let ctx: Founded['ctx'];
const { section } = onDesk(() => desk);

beforeAll(async () => {
  world = await TestWorld.open();
  const founded = await world.founded('Saltpan Letters', 'saltpan.example');
  ({ desk, ctx } = founded);
  await founded.readers([DAILY, EACH]);
  await world.olderPost();
  posts = await (await fetch(world.at('blog', '/api/posts'))).text();
});
// The other files find the blog as it was.
let posts = '';
afterAll(async () => {
  if (posts) await fetch(world.at('blog', '/api/posts'), { method: 'PUT', body: posts });
  await world?.close();
});

const publish = (title: string) =>
  world.post('blog', '/publish', { title, summary: `About ${title}.`, text: `Words of ${title}.` });
/** Published, read, and ready: its last edits are made. */
const ready = async (title: string) => {
  await publish(title);
  await world.advance(2);
  await until(desk, new RegExp(`so far “${title}”|gathered since`));
  await world.advance(6);
  await until(desk, new RegExp(`\\d posts? “${title}”|gathered since`));
};
const subjects = async (to: string) => (await world.letters(to)).map((letter) => letter.subject);
/** A day goes by, and with it the hour. */
const aDay = () => world.advance(1_440);
const clause = async (words: string | RegExp, choose: (page: Page) => Promise<unknown>) => {
  await desk.getByRole('button', { name: words }).click();
  await choose(desk);
  await desk.keyboard.press('Escape');
};

describe('new posts go out by themselves', () => {
  it('a rule is made of a blog, found by its front page’s address, and told as a sentence', async () => {
    await section('Auto-sends');
    await desk.getByLabel('Address of your blog').fill(world.at('blog', '/').replace('http://', ''));
    await desk.getByRole('button', { name: 'Look for its feed' }).click();
    await desk.getByRole('button', { name: 'Connect it' }).click();
    await clause('post by post, at once', async (page) => {
      await page.getByLabel('A letter', { exact: true }).selectOption('every day');
      await page.getByRole('button', { name: 'every day at 07:00 in Lisbon' }).waitFor();
    });
    await clause('at no other rhythm', (page) => page.getByLabel('Readers may choose their rhythm').check());
    await clause('20 minutes', (page) => page.getByLabel('Unchanged for').selectOption('5 minutes'));
    await clause('no note', (page) => page.getByLabel('Before its posts').fill('From the salt pans, hello.'));
    await desk.getByRole('button', { name: 'your note' }).waitFor();
    await desk.getByText('Kept', { exact: true }).waitFor();
    await desk.getByRole('button', { name: 'Switch on' }).click();
    await until(desk, /An older post[\s\S]*stood there before/);
    expect(await accessibilityFaults(desk)).toEqual([]);
    // What was chosen is there when the page is opened anew.
    await desk.reload();
    await desk.getByRole('button', { name: 'every day at 07:00 in Lisbon' }).waitFor();
    await desk.getByRole('button', { name: 'unless they chose post by post, at once or on Sundays at 09:00' }).waitFor();
    // The blog's hub was asked to tell of new posts, asked back, and was told that it was meant.
    await expect
      .poll(async () => (await desk.reload()) && desk.getByRole('complementary').innerText(), { timeout: 20_000 })
      .toContain('Its hub tells us of new posts.');
    expect(await (await fetch(world.at('blog', '/publish'))).text()).toMatch(/It tells \d+ who asked/);
  });

  it('four posts of a day are one letter, seen and proved before it leaves', async () => {
    for (const title of ['Brine', 'Salt', 'Stilts', 'Glasswort']) await publish(title);
    await world.advance(2);
    await until(desk, /4 posts so far “Brine”/);
    await world.advance(6);
    await until(desk, /4 posts “Brine”/);
    await desk.getByRole('link', { name: 'Look', exact: true }).click();
    await desk.getByRole('heading', { level: 1, name: 'Brine and 3 more' }).waitFor();
    const letter = desk.frameLocator('iframe');
    await letter.getByText('From the salt pans, hello.').waitFor();
    await letter.getByRole('heading', { name: 'Glasswort' }).waitFor();
    await desk.goBack();
    await desk.getByRole('button', { name: 'Proof' }).first().click();
    await desk.getByLabel('To', { exact: true }).fill('writer@saltpan.example');
    await desk.getByRole('button', { name: 'Send the proof' }).click();
    await world.letter('writer@saltpan.example', 'Brine and 3 more', 1);
    expect(await subjects(DAILY)).toEqual([]);
    await aDay();
    const came = await world.letter(DAILY, 'Brine and 3 more', 1);
    const text = await (await fetch(world.at('inbox', `/letter/${came.id}/text`))).text();
    for (const words of [
      'From the salt pans, hello.',
      'Words of Brine.',
      'Words of Salt.',
      'Words of Stilts.',
      'Words of Glasswort.',
    ])
      expect(text.replace(/\s+/g, ' ')).toContain(words);
    expect(text).not.toContain('A proof');
    await until(desk, /Brine and 3 more/);
  });

  it('no post is no letter, and the log says so', async () => {
    const before = (await subjects(DAILY)).length;
    await aDay();
    await until(desk, /There was no new post/);
    await desk.getByRole('list', { name: 'Runs so far' }).getByText('no letter').first().waitFor();
    expect(await subjects(DAILY)).toHaveLength(before);
  });

  it('a reader changes their rhythm by the link in a letter, and gets each post once', async () => {
    const visitor = await world.visitor();
    const page = await world.click(visitor, await world.letter(EACH, 'Brine and 3 more'), 'Choose what you get');
    await page.getByLabel('Each post by itself, as soon as it is there').check();
    await page.getByRole('button', { name: 'Keep this' }).click();
    await page.getByText('Kept.').waitFor();
    expect(await page.getByLabel('Each post by itself, as soon as it is there').isChecked()).toBe(true);
    expect(await accessibilityFaults(page)).toEqual([]);
    await publish('Avocets');
    await world.letter(EACH, 'Avocets', 2);
    expect(await subjects(DAILY)).not.toContain('Avocets');
    await desk.reload();
    expect(await desk.getByRole('complementary').innerText()).toMatch(
      /every day at 07:00 \(the usual\)\s+1\s+post by post, at once\s+1/,
    );
    await aDay();
    await world.letter(DAILY, 'Avocets', 1);
    // And back again: what was had does not come a second time.
    await page.getByLabel('Once a day, at 07:00').check();
    await page.getByRole('button', { name: 'Keep this' }).click();
    await page.getByText('Kept.').waitFor();
    await ready('Sluices');
    await aDay();
    await world.letter(DAILY, 'Sluices', 1);
    await world.letter(EACH, 'Sluices', 1);
    for (const who of [DAILY, EACH])
      expect((await subjects(who)).filter((one) => one === 'Avocets' || one === 'Sluices').sort(), who).toEqual([
        'Avocets',
        'Sluices',
      ]);
    await visitor.close();
  });

  it('a flood is braked, said, and goes or not as somebody says', async () => {
    // What is usual for a blog that all files share is not this file's to say: a number is, and all of them in one go.
    await clause(/^\d+ new posts$/, (page) => page.getByLabel('New posts at once').selectOption('10'));
    await desk.getByRole('button', { name: '10 new posts' }).waitFor();
    await desk.getByText('Kept', { exact: true }).waitFor();
    const at = ctx.clock.now().toISOString();
    const flood = Array.from({ length: 12 }, (_, n) => `Flood ${n + 1}`).map((title) => ({
      slug: title.replace(' ', '-').toLowerCase(),
      title,
      summary: `About ${title}.`,
      html: `<p>Words of ${title}.</p>`,
      at,
    }));
    const there = JSON.parse(await (await fetch(world.at('blog', '/api/posts'))).text()) as unknown[];
    await fetch(world.at('blog', '/api/posts'), { method: 'PUT', body: JSON.stringify([...there, ...flood]) });
    await world.advance(2);
    await world.letter('writer@saltpan.example', '12 new posts came at once', 1);
    await until(desk, /12 new posts came at once/);
    await desk.getByRole('button', { name: 'Mail none' }).click();
    await until(desk, /Flood 3[\s\S]*was left out/);
    await aDay();
    await until(desk, /There was no new post/);
    expect((await subjects(DAILY)).filter((one) => one.startsWith('Flood'))).toEqual([]);
  });

  it('a pause gathers, and going on asks what becomes of it', async () => {
    await desk.getByRole('button', { name: 'Pause' }).click();
    await desk.getByText('Paused today', { exact: false }).first().waitFor();
    await publish('Gathered one');
    await world.advance(60);
    await until(desk, /1 post has gathered since/);
    await publish('Gathered two');
    await aDay();
    await world.advance(2);
    await world.advance(6);
    await until(desk, /2 posts have gathered since/);
    // Whoever is quicker than the page finds a button at rest, and not one that does nothing.
    let come = () => {};
    const held = new Promise<void>((resolve) => {
      come = resolve;
    });
    await desk.route('**/*.js', async (route) => {
      await held;
      await route.continue();
    });
    await desk.reload({ waitUntil: 'commit' });
    const goOn = desk.getByRole('button', { name: 'Go on' });
    await goOn.waitFor();
    expect(await goOn.isDisabled()).toBe(true);
    come();
    await goOn.click();
    const dialog = desk.getByRole('dialog');
    await dialog.getByLabel('Mail', { exact: true }).selectOption('The newest alone');
    await dialog.getByRole('button', { name: 'Go on' }).click();
    await desk.unroute('**/*.js');
    await world.advance(6);
    await until(desk, /1 post “Gathered two”/);
    await aDay();
    await world.letter(DAILY, 'Gathered two', 1);
    expect(await subjects(DAILY)).not.toContain('Gathered one');
  });

  it('fits a phone, and the keyboard alone reaches every choice', async () => {
    await desk.setViewportSize({ width: 390, height: 844 });
    expect(await desk.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth)).toBe(0);
    await desk.setViewportSize({ width: 1280, height: 800 });
    const choice = desk.getByRole('button', { name: 'on any topic' });
    await choice.focus();
    await desk.keyboard.press('Enter');
    await desk.getByLabel('Without these words').waitFor();
    await desk.keyboard.press('Escape');
    expect(await choice.evaluate((node) => node === document.activeElement)).toBe(true);
  });
});

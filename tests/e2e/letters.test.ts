import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { accessibilityFaults } from './axe';
import { onDesk, until } from './desk';
import { TestWorld } from './world';

/* From a post on the blog to a letter in an inbox, and what comes back, for a newsletter with three readers. */
const READER = 'mara.lowtide@heronmail.example';
const POST = 'Why the anglerfish waits';

let world: TestWorld;
let desk: Page;
let slug: string;
const { section, headline } = onDesk(() => desk);

beforeAll(async () => {
  world = await TestWorld.open();
  const founded = await world.founded('Lowtide Letters', 'lowtide.example');
  ({ desk, slug } = founded);
  await founded.ctx.db
    .updateTable('newsletters')
    .set({ social_links: JSON.stringify([{ label: 'The site', url: 'https://lowtide.example/' }]) })
    .where('id', '=', founded.newsletter.id)
    .execute();
  await founded.readers([READER, 'slow-tomas@fjordbox.example', 'gone-ilse@kestrel.example']);
  await founded.form('After every article');
  await world.olderPost();
});
afterAll(() => world?.close());

describe('from a post on a blog to a letter in an inbox', () => {
  it('a blog is connected by its own address; what is none is refused with a sentence', async () => {
    await section('Auto-sends');
    const connect = async (url: string) => {
      await desk.getByLabel('Address of your blog').fill(url);
      await desk.getByRole('button', { name: 'Look for its feed' }).click();
    };
    await connect('ftp://lanternfish.example/feed');
    await desk.getByText('That is no web address.', { exact: false }).first().waitFor();
    await connect(`${world.at('blog', '')}/nothing-here`);
    await desk.getByText('answered with error 404', { exact: false }).first().waitFor();
    // By its front page's address: what stands in its feed is shown, and that it is never mailed.
    await connect(world.at('blog', '/'));
    await desk
      .getByRole('list', { name: /^Never mailed/ })
      .getByText('An older post')
      .waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Connect it' }).click();
    // The rule is one sentence; what can be chosen in it is chosen in place.
    await desk.getByRole('button', { name: '20 minutes' }).click();
    await desk.getByLabel('Unchanged for').selectOption('no time at all');
    await desk.getByRole('button', { name: 'no time at all' }).waitFor();
    await desk.getByText('Kept', { exact: true }).waitFor();
    await desk.keyboard.press('Escape');
    await desk.getByRole('button', { name: 'Switch on' }).click();
    await until(desk, /An older post[\s\S]*stood there before/);
  });

  it('a new post becomes a letter by itself: signed, aligned, with every way to leave', async () => {
    // The feed is away for a while first; the post must not be lost by that.
    await world.post('blog', '/mood', { mood: 'away' });
    await world.post('blog', '/publish', {
      title: POST,
      summary: 'Patience is a metabolism.',
      text: 'It waits, with a <b>lamp</b>.\n\nWe wait too.',
    });
    await world.advance(1);
    await until(desk, /answered with error 503/);
    await world.post('blog', '/mood', { mood: 'broken' });
    await world.advance(5);
    await until(desk, /not a feed we can read/);
    await world.post('blog', '/mood', { mood: 'normal' });
    await world.advance(20);

    const letter = await world.letter(READER, POST);
    expect(letter.verdicts).toMatchObject({ spf: { result: 'pass' }, dkim: { result: 'pass' }, dmarc: { result: 'pass' } });
    expect(letter.from).toContain('letters@lowtide.example');
    const source = (await world.source(letter)).replace(/\r?\n[ \t]+/g, ' ');
    expect(source).toMatch(/^List-Unsubscribe: <http\S+>, <mailto:\S+>/m);
    expect(source).toMatch(/^List-Unsubscribe-Post: List-Unsubscribe=One-Click/m);
    expect(source).toMatch(/^List-Id: .Lowtide Letters. <lowtide-letters\.lowtide\.example>/m);
    expect(source.replace(/: +/g, ':')).toMatch(/h=from:to:[a-z:-]*list-unsubscribe:list-unsubscribe-post/);
    expect(source).toContain('text/plain');
    const text = await (await fetch(world.at('inbox', `/letter/${letter.id}/text`))).text();
    expect(text.replace(/\s+/g, ' ')).toContain('You get this because you');
    expect(text).toMatch(/The site \[\d\]/);
    expect(text).toMatch(/\[\d\] https:\/\/lowtide\.example\/\n/);
    expect(text).toContain('PO Box 600, 1100-001 Lisbon');
    expect(text).toMatch(/Unsubscribe:\nhttp/);
    expect((await world.letters(READER)).filter((l) => l.subject === 'An older post')).toHaveLength(0);
    const unchanged = async () => ((await (await fetch(world.at('blog', '/asked'))).json()) as { unchanged: number }).unchanged;
    await world.advance(1);
    await expect.poll(unchanged, { timeout: 20_000 }).toBeGreaterThan(0);
  });

  it('what comes back changes the reader and the counts', async () => {
    // Put off by its mailbox for two minutes; the next try comes when it comes.
    await world.letter('slow-tomas@fjordbox.example', POST, 1);
    await world.advance(10);
    const visitor = await world.visitor();
    const post = await world.click(visitor, await world.letter(READER, POST), 'Read it on the site');
    expect(new URL(post.url()).pathname).toBe('/posts/why-the-anglerfish-waits');
    // The one-click button of a mail program.
    const tomas = await world.letter('slow-tomas@fjordbox.example', POST);
    const inbox = await visitor.newPage();
    await inbox.goto(world.at('inbox', `/letter/${tomas.id}`));
    await inbox.getByRole('button', { name: 'Unsubscribe' }).click();
    await inbox.getByText('The list answered 200').waitFor();
    // The link in the letter asks first, and says that he has left already.
    const again = await world.click(visitor, tomas, 'Unsubscribe');
    await again.getByRole('heading', { name: 'You have unsubscribed' }).waitFor();
    await visitor.close();

    await section('Readers');
    await until(desk, /1 person reads[\s\S]*1 left[\s\S]*1 address cannot be reached/);
    await desk.getByRole('link', { name: /^Cannot be reached/ }).click();
    await desk.waitForURL(/state=unreachable/);
    await desk
      .getByRole('row', { name: /gone-ilse/ })
      .getByText('suppressed')
      .waitFor();
    await section('Letters');
    await desk.getByRole('link', { name: POST }).click();
    await desk.getByRole('heading', { level: 1, name: POST }).waitFor();
    // Tomas looked too, but perhaps so soon after the delivery that it counts as a machine's look.
    await until(desk, /(1 person|2 people) read it and 1 clicked/);
    const results = await desk.getByRole('complementary').innerText();
    expect(results).toMatch(/Recipients\s+3/);
    expect(results).toMatch(/Delivered\s+2/);
    expect(results).toMatch(/Left\s+1/);
    expect(results).toMatch(/Bounced\s+1/);
  });

  it('Today says it all, from the database, and the keyboard gets everywhere', async () => {
    await desk.keyboard.press('g');
    await desk.keyboard.press('t');
    await headline('1 person reads Lowtide Letters');
    await desk.getByRole('table', { name: 'Letters' }).getByText(POST).waitFor();
    await desk.getByText('Signed and aligned').waitFor();
    await desk.keyboard.press('Control+k');
    await desk.getByRole('combobox', { name: 'Find anything' }).fill('lowtide@heron');
    await desk.getByRole('option', { name: new RegExp(READER) }).waitFor();
    await desk.keyboard.press('Enter');
    await desk.getByRole('heading', { name: READER }).waitFor();
  });

  it('no screen has an accessibility fault, in light or dark, wide or narrow', async () => {
    const base = `/desk/${slug}`;
    const paths = [
      'today',
      'letters',
      'readers',
      'forms',
      'auto-sends',
      'growth',
      'delivery',
      'settings',
      'settings/people',
      'settings/relay',
    ].map((path) => `${base}/${path}`);
    for (const colorScheme of ['light', 'dark'] as const) {
      const viewport = colorScheme === 'light' ? { width: 1280, height: 800 } : { width: 390, height: 844 };
      await desk.emulateMedia({ colorScheme });
      for (const path of [...paths, '/new']) {
        await desk.setViewportSize(viewport);
        await desk.goto(world.at('web', path));
        const faults = await accessibilityFaults(desk);
        expect(faults, `${path} in ${colorScheme}`).toEqual([]);
        const wider = await desk.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
        expect(wider, `${path} is wider than the screen`).toBeLessThanOrEqual(0);
      }
      // A newsletter's own page runs no script, so none that looks at it either: its policy is left out for that.
      const context = await desk.context().browser()!.newContext({ bypassCSP: true, colorScheme, viewport });
      const page = await context.newPage();
      await page.goto(world.at('web', `/at/${slug}`));
      expect(await accessibilityFaults(page), `/at in ${colorScheme}`).toEqual([]);
      await context.close();
    }
    await desk.emulateMedia({ colorScheme: 'light' });
    await desk.setViewportSize({ width: 1280, height: 800 });
    await desk.goto(world.at('web', `${base}/forms`));
    await desk.getByRole('link', { name: 'After every article' }).click();
    for (const view of ['Phone', 'Thanks', 'Mails', 'Page']) {
      await desk.getByRole('tab', { name: view }).click();
      expect(await accessibilityFaults(desk), view).toEqual([]);
    }
    for (const panel of ['Try it', 'One line to paste']) {
      await desk.getByRole('button', { name: panel }).click();
      expect(await accessibilityFaults(desk), panel).toEqual([]);
    }
    await section('Delivery');
    await desk.getByRole('link', { name: 'lowtide.example', exact: true }).click();
    await headline('4 of 4 records');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('link', { name: 'Try a zone file first' }).click();
    await desk.getByRole('heading', { name: 'Try a zone file' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
  });
});

import type { Locator, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { HONEYPOT } from '../../src/core/forms/answers';
import { accessibilityFaults } from './axe';
import { onDesk, until } from './desk';
import { TestWorld } from './world';

/* From a form in the builder to a reader who confirmed, for a newsletter whose sender and domain are proven. */
const READER = 'mara.tidewell@heronmail.example';

let world: TestWorld;
let desk: Page;
let slug: string;
const { say, section } = onDesk(() => desk);

beforeAll(async () => {
  world = await TestWorld.open();
  ({ desk, slug } = await world.founded('Tidepool Notes', 'tidepool.example'));
});
afterAll(() => world?.close());

describe('from a form on a page to a reader', () => {
  /** The form on its imitation of a page. */
  const stage = () => desk.frameLocator('iframe[title="The form on a page"]');
  const settings = () => desk.locator('[data-settings]').first();

  it('a form is made where it stands, saves itself, is published, and its one line stands on the blog', async () => {
    await section('Forms');
    await desk.getByLabel('Where will it stand?').fill('After every article');
    await desk.getByRole('button', { name: 'Make a form' }).click();
    await say('version 1 is live').waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    // Words are written where they stand.
    await stage().getByRole('heading', { name: 'Tidepool Notes, by email' }).click();
    await desk.keyboard.press('Control+a');
    await desk.keyboard.type('Letters from the deep');
    await say('Saving').waitFor();
    await say('not published').waitFor();
    expect(await settings().getByLabel('Words', { exact: true }).inputValue()).toBe('Letters from the deep');
    await desk.getByLabel('Put in something more').selectOption('first_name');
    await settings().getByRole('heading', { name: 'First name' }).waitFor();
    await stage().getByText('Send me the next one').click();
    await settings().getByRole('heading', { name: 'Button' }).waitFor();
    await settings().getByLabel('Words', { exact: true }).fill('');
    await say('Not saved').waitFor();
    expect(await desk.getByRole('button', { name: 'Publish', exact: true }).isEnabled()).toBe(false);
    await settings().getByLabel('Words', { exact: true }).fill('Send me the next one');
    await say('not published').waitFor();
    // Somebody who goes to another screen at once loses nothing.
    await settings().getByLabel('Words', { exact: true }).fill('Send me the very next one');
    await desk.getByRole('navigation', { name: 'Where you are' }).getByRole('link', { name: 'Forms' }).click();
    await desk.getByLabel('Where will it stand?').waitFor();
    await desk.goBack();
    await stage().getByText('Send me the very next one').waitFor();
    // What is typed on is nobody's business until it is published.
    await desk.reload();
    await say('not published').waitFor();
    await stage().getByRole('heading', { name: 'Letters from the deep' }).waitFor();
    await stage().getByLabel('First name').waitFor();
    await desk.getByRole('button', { name: 'Publish', exact: true }).click();
    await desk.getByText('Version 2 is live on every page that is opened from now on').waitFor();
    await desk.getByRole('button', { name: 'One line to paste' }).click();
    const code = (await desk.locator('[data-code=script]').textContent()) ?? '';
    expect(code).toMatch(/^<script async src="[^"]+"><\/script>$/);
    await world.post('blog', '/code', { code });
    await world.olderPost();
  });

  it('its sentences open their choices, each heard whole, and what is chosen is told at once', async () => {
    const clause = (words: string | RegExp) => desk.getByRole('button', { name: words });
    await clause('as a panel where its line stands').click();
    await desk.getByLabel('It stands as').selectOption('corner card');
    await clause('as a card in the corner where lines end').waitFor();
    await stage().getByRole('button', { name: 'Close' }).waitFor();
    await desk.getByLabel('It stands as').selectOption('panel');
    await desk.keyboard.press('Escape');
    await clause('every page').focus();
    await desk.keyboard.press('Enter');
    await desk.getByLabel('Not on these pages').fill('/about');
    await clause('every page but /about').waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.keyboard.press('Escape');
    await clause('no welcome letter').click();
    await desk.getByLabel('Send a welcome letter').check();
    await desk.getByRole('button', { name: 'Write its words' }).click();
    await desk.getByLabel('Its subject').fill('Hello from the tidepool');
    await desk.frameLocator('iframe[title="The mails"]').getByRole('heading', { name: 'Hello from the tidepool' }).waitFor();
    await say('not published').waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    // Another form of this name is pointed out.
    await desk.getByLabel('Name of the form').fill('Sign-up page');
    await say('Another form has this name').waitFor();
    await desk.getByLabel('Name of the form').fill('After every article');
    await say('Saved').waitFor();
  });

  it('a visitor joins from the blog, and reads only after confirming', async () => {
    const visitor = await world.visitor();
    const page = await visitor.newPage();
    await page.goto(world.at('blog', '/'));
    await page.getByRole('link', { name: 'An older post' }).click();
    const form = page.locator('[data-inkset-form]');
    await form.getByLabel('Email').fill('not an address');
    await form.locator('form').evaluate((element: HTMLFormElement) => element.setAttribute('novalidate', ''));
    await form.getByRole('button').click();
    await form.getByRole('alert').filter({ hasText: 'This does not look like an email address' }).waitFor();
    await form.getByLabel('First name').fill('Mara');
    await form.getByLabel('Email').fill(READER);
    // Twice at once: one sign-up, one confirmation letter, one answer.
    await form.getByRole('button').dblclick();
    await form.getByText('Nearly there').waitFor();

    const confirmation = await world.letter(READER, 'Please confirm');
    await section('Readers');
    await until(desk, /1 waits/);
    const opened = await world.click(visitor, confirmation, 'Yes, send me the letters');
    await opened.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();
    await opened.reload();
    await opened.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();
    await opened.goto(world.at('edge', '/e/confirm/forged'));
    await opened.getByRole('heading', { name: 'This link does not work' }).waitFor();
    await until(desk, /1 person reads/);
    expect(await world.letters(READER)).toHaveLength(1);

    await desk.getByRole('link', { name: READER }).click();
    await desk.getByText(world.at('blog', '/posts/an-older-post')).first().waitFor();
    expect(await desk.getByRole('complementary').innerText()).toContain(world.at('blog', '/'));
    await desk.getByText('Confirmed Everyone').waitFor();
    await visitor.close();
  });

  it('the form works with JavaScript off, and on its own page', async () => {
    const visitor = await world.visitor({ javaScriptEnabled: false, viewport: { width: 390, height: 844 } });
    const page = await visitor.newPage();
    const [, address] = /src="([^"]+)\.js"/.exec(await (await fetch(world.at('blog', '/posts/an-older-post'))).text())!;
    await page.goto(address!);
    // Opened by itself it is a page of the newsletter's: its name, and where it lives.
    await page.getByRole('heading', { level: 1, name: 'Tidepool Notes' }).waitFor();
    await page.getByText('PO Box 600, 1100-001 Lisbon').waitFor();
    expect(await page.locator('script').count()).toBe(0);
    await page.getByLabel('Email', { exact: true }).fill('gone-ilse@kestrel.example');
    await page.getByRole('button').click();
    // It was sent in sooner than most people type; nobody is thanked for nothing.
    await page.getByRole('alert').filter({ hasText: 'Please wait 15 seconds' }).waitFor();
    expect(await page.getByLabel('Email', { exact: true }).inputValue()).toBe('gone-ilse@kestrel.example');
    const asked = Date.now();
    await expect.poll(() => Date.now() - asked, { timeout: 20_000 }).toBeGreaterThan(15_000);
    await page.getByRole('button').click();
    await page.getByText('Nearly there').waitFor();
    const confirmed = await world.click(
      visitor,
      await world.letter('gone-ilse@kestrel.example', 'Please confirm'),
      'Yes, send me the letters',
    );
    // A fetched page confirms nobody; without script the reader presses its button.
    await confirmed.getByRole('heading', { name: 'One click, and you are on the list' }).waitFor();
    await confirmed.getByRole('button', { name: 'Yes, send me the letters' }).click();
    await confirmed.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();

    await page.goto(world.at('web', `/at/${slug}`));
    const opened = Date.now();
    await page.getByLabel('Email').fill('slow-tomas@fjordbox.example');
    // As long as most people need to type.
    await expect.poll(() => Date.now() - opened, { timeout: 5_000 }).toBeGreaterThan(2_100);
    await page.getByRole('button').click();
    await page.getByText('Nearly there').waitFor();
    // The provider asks to come again later; that is minutes of this world's time, which pass while we wait.
    const second = await world.click(
      visitor,
      await world.letter('slow-tomas@fjordbox.example', 'Please confirm', 1),
      'Yes, send me the letters',
    );
    await second.getByRole('button', { name: 'Yes, send me the letters' }).click();
    await second.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();
    await visitor.close();
  });

  it('the builder is worked with the keyboard alone: walked, set, put in, moved and taken out', async () => {
    await section('Forms');
    await desk.getByRole('link', { name: 'After every article' }).click();
    const parts = desk.getByRole('listbox', { name: /^Parts of the form/ });
    await parts.focus();
    const here = () => settings().getByRole('heading').innerText();
    expect(await here()).toBe('Heading');
    for (const [key, name] of [
      ['ArrowDown', 'Words'],
      ['ArrowRight', 'Email'],
      ['End', 'Ground'],
      ['ArrowDown', 'Heading'],
      ['ArrowUp', 'Ground'],
      ['Home', 'Heading'],
    ] as const) {
      await desk.keyboard.press(key);
      await expect.poll(here).toBe(name);
    }
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('More ');
    await stage().getByRole('heading', { name: /More/ }).waitFor();
    await desk.getByRole('button', { name: 'Undo' }).focus();
    for (let n = 0; n < 5; n += 1) await desk.keyboard.press('Enter');
    const order = () =>
      stage()
        .locator('[data-part^="field:"]')
        .evaluateAll((all) => all.map((one) => one.querySelector('span')!.textContent));
    await desk.getByLabel('Put in something more').focus();
    // A letter chooses in a list, as everywhere.
    await desk.keyboard.press('p');
    await expect.poll(order).toEqual(['Email', 'First name', 'New: phone']);
    await desk.getByRole('button', { name: 'Move New: phone up' }).focus();
    await desk.keyboard.press('Enter');
    await expect.poll(order).toEqual(['Email', 'New: phone', 'First name']);
    await desk.getByRole('button', { name: 'Undo' }).focus();
    await desk.keyboard.press('Enter');
    await expect.poll(order).toEqual(['Email', 'First name', 'New: phone']);
    await desk.getByRole('button', { name: 'Take it out' }).focus();
    await desk.keyboard.press('Enter');
    await expect.poll(order).toEqual(['Email', 'First name']);
    await say('Saved').waitFor();
  });

  it('the writer tries the form with their own address, sees each step arrive, and cleans up', async () => {
    await desk.getByRole('button', { name: 'Try it' }).click();
    await desk.getByLabel('Your address').fill('nonsense');
    await desk.getByRole('button', { name: 'Send it in' }).click();
    await desk.getByRole('alert').filter({ hasText: 'does not look like an email address' }).waitFor();
    await desk.getByLabel('Your address').fill('try-me@postbird.example');
    await desk.getByRole('button', { name: 'Send it in' }).click();
    const steps = desk.getByRole('list', { name: 'Steps of the try' });
    const state = (step: string, is: string) => steps.locator(`[data-step="${step}"][data-state="${is}"]`).waitFor();
    await state('mailbox accepted', 'done');
    await state('clicked', 'waiting');
    await desk.getByText('click the button in the letter').waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    const visitor = await world.visitor();
    const letter = await world.letter('try-me@postbird.example', 'Please confirm');
    const opened = await world.click(visitor, letter, 'Yes, send me the letters');
    await opened.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();
    await visitor.close();
    await state('clicked', 'done');
    await state('reading', 'done');
    await state('welcome left', 'skipped');
    await desk.getByRole('button', { name: 'Clean up' }).click();
    await desk.getByRole('button', { name: 'Send it in' }).waitFor();
    await section('Readers');
    expect(await desk.getByText('try-me@postbird.example').count()).toBe(0);
  });

  it('where an article ends is shown by clicking in a copy of the blog', async () => {
    await section('Forms');
    await desk.getByRole('link', { name: 'After every article' }).click();
    await desk.getByRole('button', { name: 'as a panel where its line stands' }).click();
    await desk.getByLabel('It stands as').selectOption('after-post');
    await desk.getByRole('button', { name: 'Show it on a page' }).click();
    await desk.getByLabel('A post of yours').fill(world.at('blog', '/no-such-post'));
    await desk.getByRole('button', { name: 'Show it', exact: true }).click();
    await desk.getByRole('alert').filter({ hasText: 'answered 404' }).waitFor();
    await desk.getByLabel('A post of yours').fill(world.at('blog', '/posts/an-older-post'));
    await desk.getByRole('button', { name: 'Show it', exact: true }).click();
    const copy = desk.frameLocator('iframe[title="A copy of your page"]');
    await copy.getByText('It stood here already').click();
    await desk.getByRole('radio', { name: /^article/, checked: true }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    // No script of the page runs in the copy: its form has not come.
    expect(await copy.locator('[data-inkset-form]').count()).toBe(0);
    await desk.getByRole('button', { name: 'Take it' }).click();
    await desk.getByRole('button', { name: 'after each article' }).waitFor();
    await say('Saved').waitFor();
  });
});

describe('a person who is quick', () => {
  /** A visitor on the blog, whose form has just come. */
  const visit = async () => {
    const visitor = await world.visitor();
    const page = await visitor.newPage();
    await page.goto(world.at('blog', '/posts/an-older-post'));
    const form = page.locator('[data-inkset-form]');
    await form.getByLabel('Email', { exact: true }).waitFor();
    return { visitor, page, form };
  };
  const thanked = async (form: Locator, address: string) => {
    await form.getByText('Nearly there').waitFor();
    await world.letter(address, 'Please confirm');
    expect(await world.letters(address)).toHaveLength(1);
  };
  const fill = (form: Locator, values: Record<string, string>) =>
    form.evaluate((host, all) => {
      const inside = host.shadowRoot!;
      for (const [name, value] of Object.entries(all)) {
        const input = inside.querySelector<HTMLInputElement>(`[name="${name}"]`)!;
        input.value = value;
        for (const kind of ['input', 'change']) input.dispatchEvent(new Event(kind, { bubbles: true }));
      }
      inside.querySelector<HTMLButtonElement>('button[type=submit]')!.click();
    }, values);

  it('whose browser fills the form in and sends it at once gets the letter', async () => {
    const { form, visitor } = await visit();
    await fill(form, { email: 'autofill@heronmail.example' });
    await thanked(form, 'autofill@heronmail.example');
    await visitor.close();
  });

  it('whose password manager fills in what nobody can see gets the letter', async () => {
    const { form, visitor } = await visit();
    await fill(form, { email: 'manager@heronmail.example', [HONEYPOT]: 'https://heronmail.example' });
    await thanked(form, 'manager@heronmail.example');
    await visitor.close();
  });

  it('who goes back, reloads and sends again, or has two tabs, gets one letter and no false word', async () => {
    const { form, page, visitor } = await visit();
    const address = 'backandforth@heronmail.example';
    await fill(form, { email: address });
    await form.getByText('Nearly there').waitFor();
    await page.goto(world.at('blog', '/'));
    await page.goBack();
    await form.getByLabel('Email', { exact: true }).waitFor();
    await fill(form, { email: address });
    await form.getByText('Nearly there').waitFor();
    await page.reload();
    const other = await visitor.newPage();
    await other.goto(world.at('blog', '/posts/an-older-post'));
    const second = other.locator('[data-inkset-form]');
    await second.getByLabel('Email', { exact: true }).waitFor();
    await Promise.all([fill(form, { email: address }), fill(second, { email: address })]);
    await second.getByText('Nearly there').waitFor();
    await thanked(form, address);
    await visitor.close();
  });

  it('who shows no work is told so, stands with the form as held back, and is let in by the writer', async () => {
    const [, address] = /src="([^"]+)\.js"/.exec(await (await fetch(world.at('blog', '/posts/an-older-post'))).text())!;
    const html = await (await fetch(address!)).text();
    const stamp = /name="stamp" value="([^"]+)"/.exec(html)![1]!;
    const answer = await fetch(address!, {
      method: 'POST',
      headers: { accept: 'application/json' },
      body: new URLSearchParams({ email: 'noscript@heronmail.example', stamp }),
    });
    expect([answer.status, (await answer.json()).error.sentence]).toEqual([428, expect.stringContaining('nothing was lost')]);
    await section('Forms');
    await desk.getByRole('link', { name: 'After every article' }).click();
    await desk.getByText('1 was held back').waitFor();
    await desk.getByRole('link', { name: 'Look at them' }).click();
    await desk.getByText('noscript@heronmail.example').waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Let in' }).click();
    await world.letter('noscript@heronmail.example', 'Please confirm');
    await until(desk, /Nobody\. What looks like/);
  });
});

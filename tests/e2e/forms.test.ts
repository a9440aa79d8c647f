import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
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
  it('a form is made, saves itself, is published, and its code stands on the blog', async () => {
    await section('Forms');
    await desk.getByLabel('Where will it stand?').fill('After every article');
    await desk.getByRole('button', { name: 'Make a form' }).click();
    await say('version 1 is live').waitFor();
    await desk.getByLabel('Heading', { exact: true }).fill('Letters from the deep');
    await say('Saving').waitFor();
    await say('not published').waitFor();
    await desk.getByLabel('Ask something more').selectOption('first_name');
    await desk.getByLabel('Button', { exact: true }).fill('');
    await say('Not saved').waitFor();
    expect(await desk.getByRole('button', { name: 'Publish', exact: true }).isEnabled()).toBe(false);
    await desk.getByLabel('Button', { exact: true }).fill('Send me the next one');
    await say('not published').waitFor();
    const preview = desk.frameLocator('iframe[title="The form on a page"]');
    await preview.getByText('Letters from the deep').waitFor();
    await preview.getByLabel('First name').waitFor();
    // What is typed on is nobody's business until it is published.
    await desk.reload();
    await say('not published').waitFor();
    expect(await desk.getByLabel('Heading', { exact: true }).inputValue()).toBe('Letters from the deep');
    await desk.getByRole('button', { name: 'Publish', exact: true }).click();
    await desk.getByText('Version 2 is live wherever the form stands').waitFor();
    await desk.getByRole('button', { name: 'Take it to your site' }).click();
    const code = (await desk.locator('[data-code=script]').textContent()) ?? '';
    expect(code).toContain('<noscript>');
    await world.post('blog', '/code', { code });
    await world.olderPost();
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
    await page.goto(world.at('blog', '/posts/an-older-post'));
    const frame = page.frameLocator('iframe');
    await frame.getByLabel('Email').fill('gone-ilse@kestrel.example');
    await frame.getByRole('button').click();
    await frame.getByText('Nearly there').waitFor();
    const opened = await world.click(
      visitor,
      await world.letter('gone-ilse@kestrel.example', 'Please confirm'),
      'Yes, send me the letters',
    );
    // A fetched page confirms nobody; without script the reader presses its button.
    await opened.getByRole('heading', { name: 'One click, and you are on the list' }).waitFor();
    await opened.getByRole('button', { name: 'Yes, send me the letters' }).click();
    await opened.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();

    await page.goto(world.at('web', `/at/${slug}`));
    await page.getByLabel('Email').fill('slow-tomas@fjordbox.example');
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

  it('the builder is worked with the keyboard alone: a question is put in, moved up and taken out', async () => {
    await section('Forms');
    await desk.getByRole('link', { name: 'After every article' }).click();
    await desk.getByRole('button', { name: 'What it asks' }).focus();
    if ((await desk.getByRole('button', { name: 'What it asks' }).getAttribute('aria-expanded')) === 'false')
      await desk.keyboard.press('Enter');
    const order = () => desk.getByRole('button', { name: /^Move .* up$/ }).evaluateAll((all) => all.map((one) => one.ariaLabel));
    await desk.getByLabel('Ask something more').focus();
    // A letter chooses in a list, as everywhere.
    await desk.keyboard.press('p');
    await desk.getByRole('button', { name: 'Move New: phone up' }).waitFor();
    await desk.getByRole('button', { name: 'Move New: phone up' }).focus();
    await desk.keyboard.press('Enter');
    await expect.poll(order).toEqual(['Move Email up', 'Move New: phone up', 'Move First name up']);
    await desk.getByRole('button', { name: 'Undo' }).focus();
    await desk.keyboard.press('Enter');
    await expect.poll(order).toEqual(['Move Email up', 'Move First name up', 'Move New: phone up']);
    // What was put in stands open.
    await desk.getByRole('button', { name: 'Take it out of this form' }).focus();
    await desk.keyboard.press('Enter');
    await expect.poll(order).toEqual(['Move Email up', 'Move First name up']);
    await say('Saved').waitFor();
  });

  it('the writer tries the form with their own address, sees each step arrive, and cleans up', async () => {
    await desk.getByRole('button', { name: 'Take it to your site' }).click();
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
    await desk.getByRole('button', { name: 'Where it stands' }).click();
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
    expect(await desk.getByLabel('What an article is').inputValue()).toBe('article');
    await desk.getByRole('button', { name: 'Undo' }).click();
    await desk.getByRole('button', { name: 'Undo' }).click();
    await say('Saved').waitFor();
  });
});

import { readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { sql } from 'kysely';
import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openHome } from '../../cli/home';
import { startPostgres, stopPostgres } from '../../cli/postgres';
import { startProcess, stopProcess } from '../../cli/processes';
import { insideEnv, plans } from '../../cli/world';
import { loadDemo } from '../../demo/load';
import { type FormCode, formCodes } from '../../src/core/forms/codes';
import { type FormDefinition, startingForm } from '../../src/core/forms/definition';
import { PLACEMENTS, type Placement, type PlacementKind, STARTING_PLACEMENT } from '../../src/core/forms/placement';
import { readConfig } from '../../src/server/config';
import type { Newsletter } from '../../src/server/context';
import { formOf, formsOf, publishForm, saveDraft } from '../../src/server/forms/forms';
import { openRuntime } from '../../src/server/runtime';
import { accessibilityFaults } from './axe';
import { TestWorld } from './world';

/*
 * From nothing to a letter in a reader's inbox, with every process real: Inkset's four, the Backlot's four, PostgreSQL and Chromium.
 * The steps build on each other, in the order a writer takes them.
 */
const WRITER = 'ottoline@postbird.example';
const READER = 'mara.tidewell@heronmail.example';
const POST = 'Why the anglerfish waits';

let world: TestWorld;
let writer: BrowserContext;
let desk: Page;

const say = (name: string) => desk.getByRole('status').filter({ hasText: name }).first();
const section = async (name: string) => {
  await desk.getByRole('navigation', { name: 'Sections' }).getByRole('link', { name }).click();
  await desk.getByRole('heading', { level: 1, name }).waitFor();
};
const headline = (words: string | RegExp) =>
  desk.getByRole('main').locator('header p').filter({ hasText: words }).first().waitFor();

/** Makes a page anew until it says something. */
async function until(page: Page, words: string | RegExp): Promise<void> {
  await expect
    .poll(
      async () => {
        await page.reload();
        return page.getByRole('main').innerText();
      },
      { timeout: 40_000, interval: 400 },
    )
    .toMatch(words);
}

beforeAll(async () => {
  world = await TestWorld.open();
  writer = await world.visitor();
  desk = await writer.newPage();
  desk.setDefaultTimeout(20_000);
});
afterAll(() => world?.close());

describe('from a form on a page to a post in an inbox', () => {
  it('a writer opens an account and confirms it from the mail', async () => {
    await desk.goto(world.at('web', '/sign-up'));
    await desk.getByText('At least 10 characters').waitFor();
    await desk.getByLabel('Your name').fill('Ottoline Vance');
    await desk.getByLabel('Email').fill(WRITER);
    await desk.getByLabel('Password').fill('short');
    await desk.getByRole('button', { name: 'Open an account' }).click();
    await desk.getByRole('alert').filter({ hasText: 'The password is too short.' }).waitFor();
    expect(await desk.getByLabel('Email').inputValue()).toBe(WRITER);
    await desk.getByLabel('Password').fill('six hundred metres down');
    await desk.getByRole('button', { name: 'Open an account' }).click();
    await desk.getByRole('heading', { name: 'Look in your inbox' }).waitFor();

    const early = await (await world.visitor()).newPage();
    await early.goto(world.at('web', '/sign-in'));
    await early.getByLabel('Email').fill(WRITER);
    await early.getByLabel('Password').fill('six hundred metres down');
    await early.getByRole('button', { name: 'Sign in' }).click();
    await early.getByText('This address is not confirmed yet').waitFor();
    await early.context().close();

    const opened = await world.click(writer, await world.letter(WRITER, 'Confirm your address'), 'Confirm my address');
    await opened.getByRole('heading', { name: 'A new newsletter' }).waitFor();
    await opened.close();
  });

  it('a newsletter is made, and its sign-up page is live at once', async () => {
    await desk.goto(world.at('web', '/'));
    await desk.getByRole('button', { name: 'Make the newsletter' }).click();
    await desk.getByRole('alert').filter({ hasText: 'empty' }).waitFor();
    await desk.getByLabel('Name').fill('Lanternfish Letters');
    await desk.getByLabel('One line about it').fill('Essays on deep-sea life.');
    await desk.getByLabel('Postal address').fill('PO Box 600\n1100-001 Lisbon');
    await desk.getByLabel('Time zone').selectOption('Europe/Lisbon');
    await desk.getByRole('button', { name: 'Make the newsletter' }).click();
    await headline('Nobody reads Lanternfish Letters yet');
    const page = await desk.context().newPage();
    await page.goto(world.at('web', '/at/lanternfish-letters'));
    await page.getByRole('button', { name: 'Send me the next one' }).waitFor();
    await page.close();
  });

  it('a sender turns from pending to confirmed by the mailed link', async () => {
    await section('Delivery');
    const add = async (name: string, address: string) => {
      await desk.getByLabel('Name', { exact: true }).fill(name);
      await desk.getByLabel('Address', { exact: true }).fill(address);
      await desk.getByRole('button', { name: 'Add sender' }).click();
    };
    await add('Ottoline Vance', 'letters.lanternfish.example');
    await desk.getByText('This does not look like an email address.').first().waitFor();
    // The writer's mail for that domain is hosted at one of the providers; the DNS host knows,
    // before anything is sent there: a zone without its MX would refuse it for good.
    await world.post('dnsPage', '/zones', { domain: 'lanternfish.example' });
    await world.post('dnsPage', '/zones/lanternfish.example/add', { host: '@', type: 'MX', value: '10 mx.postbird.example' });
    await add('Ottoline Vance', 'letters@lanternfish.example');
    await desk.getByText('Awaiting click').waitFor();
    await world.advance(2);
    const proof = await world.letter('letters@lanternfish.example', 'Confirm letters@lanternfish.example');
    const opened = await world.click(writer, proof, 'Yes, it is mine');
    await opened.getByRole('heading', { name: 'This address is confirmed' }).waitFor();
    await opened.goto(world.at('web', '/sender/not-a-token'));
    await opened.getByText('This link is not known').waitFor();
    await opened.close();
    await until(desk, /Confirmed/);
  });

  it('a domain is proven record by record, with one wrong one mended on the way', async () => {
    await desk.getByLabel('Domain', { exact: true }).fill('https://lanternfish.example/');
    await desk.getByRole('button', { name: 'Add domain' }).click();
    await headline('0 of 4 records');
    const value = async (purpose: string) =>
      (await desk.locator(`tr[data-purpose="${purpose}"] [data-value]`).textContent())?.trim() ?? '';
    const host = async (purpose: string) =>
      (await desk.locator(`tr[data-purpose="${purpose}"] [data-host]`).textContent())?.trim() ?? '';
    expect(await value('dkim')).toMatch(/^v=DKIM1; k=rsa; p=[A-Za-z0-9+/]{390,}/);

    const dns = await writer.newPage();
    const publish = async (purpose: string, type: string, text?: string) => {
      await dns.goto(world.at('dnsPage', '/zones/lanternfish.example'));
      await dns.getByLabel('Host', { exact: true }).fill(await host(purpose));
      await dns.getByLabel('Type').selectOption(type);
      await dns.getByLabel('Value').fill(text ?? (await value(purpose)));
      await dns.getByRole('button', { name: 'Add record' }).click();
    };
    await publish('dkim', 'TXT');
    await publish('spf', 'TXT', 'v=spf1 include:_spf.oldhost.example ~all');
    await publish('return-path', 'CNAME', 'mx.oldhost.example');
    await publish('dmarc', 'TXT');
    await desk.getByRole('button', { name: 'Check now' }).click();
    await headline('2 of 4 records');
    await desk.getByText('Points elsewhere', { exact: true }).waitFor();
    await desk.getByText('Add 1 part', { exact: true }).waitFor();
    expect(await value('spf')).toBe('v=spf1 include:_spf.oldhost.example include:spf.inkset.example ~all');

    // The old records go, and what Inkset says comes in their place.
    const remove = (text: string) => dns.locator('tr').filter({ hasText: text }).getByRole('button', { name: 'Remove' }).click();
    await remove('oldhost.example ~all');
    await remove('mx.oldhost.example');
    await publish('spf', 'TXT');
    await publish('return-path', 'CNAME');
    await desk.getByRole('button', { name: 'Check now' }).click();
    await headline('4 of 4 records');
    await dns.close();

    await world.post('dnsPage', '/mood', { mood: 'silent' });
    await desk.getByRole('button', { name: 'Check now' }).click();
    await desk.getByText('The name server did not answer in time').first().waitFor();
    await headline('4 of 4 records');
    await world.post('dnsPage', '/mood', { mood: 'normal' });
  });

  it('a test letter passes everywhere, and its verdicts stand beside the records', async () => {
    await desk.getByRole('button', { name: 'Send a test letter' }).click();
    const verdicts = desk.getByRole('list', { name: 'What the mailbox thought' });
    await verdicts.waitFor();
    const said = (await verdicts.innerText()).replace(/\s+/g, ' ');
    for (const check of ['SPF', 'DKIM', 'DMARC', 'Alignment', 'Encryption', 'Reverse name'])
      expect(said).toContain(`${check} pass`);
    await world.letter(WRITER, 'A test letter from lanternfish.example');
  });

  it('a zone file is tried before it is published, and a broken one says its line', async () => {
    await desk.getByRole('link', { name: 'Try a zone file first' }).click();
    await desk.getByRole('heading', { name: 'Try a zone file' }).waitFor();
    await desk
      .getByLabel('Zone file', { exact: true })
      .fill('@ IN TXT "v=spf1 include:_spf.oldhost.example ~all"\nbounce IN MX oops\n');
    await desk.getByRole('button', { name: 'See what it would do' }).click();
    await desk.getByText('Letters would have to wait').waitFor();
    await desk.getByText('Line 2').waitFor();
    await desk.getByText('Add 1 part', { exact: true }).waitFor();
    await desk.getByRole('navigation', { name: 'Where you are' }).getByRole('link', { name: 'lanternfish.example' }).click();
    await headline('4 of 4 records');
  });

  it('keys are changed and a ramp-up planned; removing what is used says what would stop', async () => {
    await desk.getByRole('button', { name: 'Prepare the next key' }).click();
    await desk.getByText('Next signature').waitFor();
    await desk.getByRole('button', { name: 'Take the next key into use' }).click();
    await desk.getByText('The next key is not found in DNS yet').waitFor();
    await desk.getByRole('button', { name: 'Plan a ramp-up' }).click();
    await desk.getByLabel('Letters on the first day').fill('0');
    await desk.getByRole('button', { name: 'Start today' }).click();
    await desk.getByText('A whole number from 1').first().waitFor();
    await desk.getByLabel('Letters on the first day').fill('25');
    await desk.getByLabel('Full volume a day').fill('400');
    await desk.getByRole('button', { name: 'Start today' }).click();
    await desk.getByRole('table', { name: 'Ceilings of the next days' }).waitFor();
    await desk.getByRole('button', { name: 'End it' }).click();
    await desk.getByRole('dialog').getByRole('button', { name: 'End it' }).click();
    await desk.getByRole('button', { name: 'Plan a ramp-up' }).waitFor();
    await desk.getByRole('button', { name: 'Remove this domain' }).click();
    await desk.getByRole('dialog').getByRole('button', { name: 'Remove' }).click();
    await desk.getByText('letters@lanternfish.example could no longer send').waitFor();
    await desk.keyboard.press('Escape');
  });

  it('identity, people and an SMTP service are set up', async () => {
    await desk.getByRole('link', { name: 'Settings of this newsletter' }).click();
    await desk.getByLabel('Reason line').fill('You get this because you asked.');
    await desk.getByText('Put “Lanternfish Letters” in').waitFor();
    await desk
      .getByLabel('Reason line')
      .fill('You get this because you asked for Lanternfish Letters on lanternfish.example and confirmed it by email.');
    await desk.getByLabel('Your site').fill('https://lanternfish.example/');
    await desk.getByLabel('Links at the end').fill('nothing here');
    await desk.getByRole('button', { name: 'Save' }).click();
    await desk.getByText('“nothing here” has no address').first().waitFor();
    await desk.getByLabel('Links at the end').fill('The site https://lanternfish.example/');
    await desk.getByRole('button', { name: 'Save' }).click();
    await desk.getByText('Saved', { exact: true }).first().waitFor();
    const picture = await desk.screenshot({ clip: { x: 0, y: 0, width: 300, height: 200 } });
    await desk.getByLabel('A picture').setInputFiles({ name: 'logo.png', mimeType: 'image/png', buffer: picture });
    await desk.getByRole('button', { name: 'Upload' }).click();
    await desk.getByRole('img', { name: 'Logo of Lanternfish Letters' }).waitFor();

    await desk.getByRole('navigation', { name: 'Settings' }).getByRole('link', { name: 'People' }).click();
    await desk.getByRole('button', { name: 'Send an invitation' }).waitFor();
    await desk.getByLabel('Address', { exact: true }).fill('mara@kestrel.example');
    await desk.getByRole('button', { name: 'Send an invitation' }).click();
    await desk.getByText('mara@kestrel.example').first().waitFor();
    const mail = await world.letter('mara@kestrel.example', 'An invitation to Lanternfish Letters');
    const wrong = await world.click(writer, mail, 'Accept the invitation');
    await wrong.getByText('It is for mara@kestrel.example').waitFor();
    await wrong.close();

    await desk.getByRole('navigation', { name: 'Settings' }).getByRole('link', { name: 'SMTP service' }).click();
    const relay = async (password: string) => {
      await desk.getByLabel('Host', { exact: true }).fill('127.0.0.1');
      await desk.getByLabel('Port').fill(String(world.stack.world.ports.relay));
      await desk.getByLabel('Name').fill('ottoline');
      await desk.getByLabel('Password').fill(password);
      await desk.getByRole('button', { name: 'Save and try it' }).click();
    };
    await relay('wrong');
    await desk.getByText('Check name and password').waitFor();
    await relay('lamp');
    await desk.getByText('In use', { exact: true }).waitFor();
  });

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
    await world.post('blog', '/publish', { title: 'An older post', summary: 'From before', text: 'It stood here already.' });
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

    await page.goto(world.at('web', '/at/lanternfish-letters'));
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

  it('a feed that is none is refused with a sentence, a real one is switched on', async () => {
    await section('Auto-sends');
    const connect = async (url: string) => {
      await desk.getByLabel('Feed address').fill(url);
      await desk.getByRole('button', { name: 'Read the feed' }).click();
    };
    await connect(world.at('blog', '/'));
    await desk.getByText('This is a web page, not a feed.').first().waitFor();
    await connect('ftp://lanternfish.example/feed');
    await desk.getByText('A feed address starts with https:// or http://.').first().waitFor();
    await connect(world.at('blog', '/feed.xml'));
    await desk.getByRole('button', { name: 'Switch on' }).click();
    await until(desk, /An older post[\s\S]*was there before/);
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
    expect(letter.from).toContain('letters@lanternfish.example');
    const source = (await world.source(letter)).replace(/\r?\n[ \t]+/g, ' ');
    expect(source).toMatch(/^List-Unsubscribe: <http\S+>, <mailto:\S+>/m);
    expect(source).toMatch(/^List-Unsubscribe-Post: List-Unsubscribe=One-Click/m);
    expect(source).toMatch(/^List-Id: .Lanternfish Letters. <lanternfish-letters\.lanternfish\.example>/m);
    expect(source.replace(/: +/g, ':')).toMatch(/h=from:to:[a-z:-]*list-unsubscribe:list-unsubscribe-post/);
    expect(source).toContain('text/plain');
    const text = await (await fetch(world.at('inbox', `/letter/${letter.id}/text`))).text();
    expect(text.replace(/\s+/g, ' ')).toContain('You get this because you asked for Lanternfish Letters on lanternfish.example');
    expect(text).toMatch(/The site \[\d\]/);
    expect(text).toMatch(/\[\d\] https:\/\/lanternfish\.example\/\n/);
    expect(text).toContain('PO Box 600, 1100-001 Lisbon');
    expect(text).toMatch(/Unsubscribe:\nhttp/);
    expect((await world.letters(READER)).filter((l) => l.subject === 'An older post')).toHaveLength(0);
    const unchanged = async () => ((await (await fetch(world.at('blog', '/asked'))).json()) as { unchanged: number }).unchanged;
    await world.advance(1);
    await expect.poll(unchanged, { timeout: 20_000 }).toBeGreaterThan(0);
  });

  it('what comes back changes the reader and the counts', async () => {
    await world.letter('slow-tomas@fjordbox.example', POST);
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
    await desk.getByRole('combobox', { name: 'State' }).selectOption('bouncing');
    await desk.waitForURL(/state=bouncing/);
    await desk.getByText('no such mailbox').waitFor();
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
    await headline('1 person reads Lanternfish Letters');
    await desk.getByRole('table', { name: 'Letters' }).getByText(POST).waitFor();
    await desk.getByText('Signed and aligned').waitFor();
    await desk.keyboard.press('Control+k');
    await desk.getByRole('combobox', { name: 'Find anything' }).fill('tidewell');
    await desk.getByRole('option', { name: new RegExp(READER) }).waitFor();
    await desk.keyboard.press('Enter');
    await desk.getByRole('heading', { name: READER }).waitFor();
  });

  it('no screen has an accessibility fault, in light or dark, wide or narrow', async () => {
    const base = '/desk/lanternfish-letters';
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
      await desk.emulateMedia({ colorScheme });
      for (const path of [...paths, '/at/lanternfish-letters', '/new']) {
        await desk.setViewportSize(colorScheme === 'light' ? { width: 1280, height: 800 } : { width: 390, height: 844 });
        await desk.goto(world.at('web', path));
        const faults = await accessibilityFaults(desk);
        expect(faults, `${path} in ${colorScheme}`).toEqual([]);
        const wider = await desk.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
        expect(wider, `${path} is wider than the screen`).toBeLessThanOrEqual(0);
      }
    }
    await desk.emulateMedia({ colorScheme: 'light' });
    await desk.setViewportSize({ width: 1280, height: 800 });
    await desk.goto(world.at('web', `${base}/forms`));
    await desk.getByRole('link', { name: 'After every article' }).click();
    for (const part of ['How it looks', 'Where it stands', 'What happens next', 'Take it to your site', 'What it asks']) {
      await desk.getByRole('button', { name: part }).click();
      expect(await accessibilityFaults(desk), part).toEqual([]);
    }
    await section('Delivery');
    await desk.getByRole('link', { name: 'lanternfish.example', exact: true }).click();
    await headline('4 of 4 records');
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('link', { name: 'Try a zone file first' }).click();
    await desk.getByRole('heading', { name: 'Try a zone file' }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
  });
});

describe('a form on somebody’s page, wherever it stands', () => {
  let ctx: Awaited<ReturnType<typeof openRuntime>>;
  let newsletter: Newsletter;
  let form: Awaited<ReturnType<typeof formOf>>;
  beforeAll(async () => {
    const { home, world: plan } = world.stack;
    ctx = await openRuntime('test', readConfig({ ...insideEnv(home, plan), INKSET_LOG_LEVEL: 'error' }), 2);
    newsletter = await ctx.db
      .selectFrom('newsletters')
      .selectAll()
      .where('slug', '=', 'lanternfish-letters')
      .executeTakeFirstOrThrow();
    form = (await formsOf(ctx, newsletter)).find((entry) => entry.name === 'After every article')!;
  });
  afterAll(() => ctx?.close());

  const place = async (kind: PlacementKind, part: Partial<FormDefinition> = {}, trigger: Partial<Placement['trigger']> = {}) => {
    const placement = { ...STARTING_PLACEMENT, kind, trigger: { ...STARTING_PLACEMENT.trigger, seconds: 0, ...trigger } };
    await saveDraft(ctx, newsletter, form.id, {
      name: form.name,
      listIds: form.listIds,
      definition: { ...form.definition, ...part, placement },
    });
    await publishForm(ctx, newsletter, form.id);
  };
  const POST_PAGE = '/posts/an-older-post';
  const open = async (options: Parameters<TestWorld['visitor']>[0] = {}) => {
    const page = await (await world.visitor(options)).newPage();
    page.setDefaultTimeout(10_000);
    await page.goto(world.at('blog', POST_PAGE));
    return { page, box: page.locator('[data-inkset-form]') };
  };
  /** A site of one page, whatever its path. */
  const site = async (html: string, headers: Record<string, string> = {}) => {
    const server = createServer((_request, response) => {
      response.writeHead(200, { 'content-type': 'text/html; charset=utf-8', ...headers });
      response.end(html);
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    return { origin: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, close: () => server.close() };
  };
  const narrow = { viewport: { width: 360, height: 740 }, colorScheme: 'dark' } as const;

  it.each(PLACEMENTS)(
    '%s: at 360 pixels in the dark and wide in the light, it can be read, sent in, and is thanked',
    async (kind) => {
      await place(kind, { look: { ...form.definition.look, dark: { on: true, background: '#14171d', ink: '#ece8dd' } } });
      for (const options of [narrow, { colorScheme: 'light' as const }]) {
        const { page, box } = await open(options);
        await box.getByLabel('Email').waitFor();
        expect(await accessibilityFaults(page)).toEqual([]);
        expect(await page.evaluate(() => document.documentElement.scrollWidth - innerWidth)).toBeLessThanOrEqual(0);
        await box.getByLabel('Email').fill(`${kind.replace(/\W/g, '')}-${options === narrow ? 'n' : 'w'}@heronmail.example`);
        await box.getByRole('button', { name: 'Send me the next one' }).click();
        await box.getByText('Nearly there').waitFor();
        await page.reload();
        // What comes over the page does not come to somebody who joined; what stands in it stays.
        await page.getByRole('heading', { name: 'An older post' }).waitFor();
        if (kind === 'panel' || kind === 'one line' || kind === 'after-post') await box.getByLabel('Email').waitFor();
        else expect(await box.count()).toBe(0);
        await page.context().close();
      }
    },
  );

  it('holds back what is no address, and tells what happened when the page is put away, not while it is read', async () => {
    await place('panel');
    const quiet = await site(`<!doctype html><html lang="en"><title>Quiet</title><main>${await codeOf('script')}</main>`);
    const page = await (await world.visitor()).newPage();
    page.setDefaultTimeout(10_000);
    await page.goto(`${quiet.origin}/quiet`);
    const sent: string[] = [];
    page.on('request', (request) => sent.push(request.url()));
    const email = page.getByLabel('Email');
    await email.fill('nobody at all');
    await page.getByRole('button', { name: 'Send me the next one' }).click();
    expect(await email.evaluate((input: HTMLInputElement) => input.validity.typeMismatch)).toBe(true);
    expect(sent).toEqual([]);
    await page.goto('about:blank');
    const told = () =>
      ctx.db
        .selectFrom('form_places')
        .select(['path', 'loads'])
        .where('form_id', '=', form.id)
        .where('path', '=', '/quiet')
        .execute();
    await expect.poll(told, { timeout: 15_000 }).toEqual([{ path: '/quiet', loads: '1' }]);
    quiet.close();
    await page.context().close();
  });

  it('a pop-up comes on a click, keeps the keyboard inside, goes with Escape, and gives the focus back', async () => {
    await place('pop-up', {}, { click: 'h1' });
    const { page, box } = await open();
    await page.waitForLoadState('networkidle');
    expect(await box.count()).toBe(0);
    await page.locator('h1').first().click();
    await box.getByRole('dialog').waitFor();
    const inside = () => page.evaluate(() => document.activeElement?.hasAttribute('data-inkset-form'));
    for (let n = 0; n < 8; n += 1) {
      await page.keyboard.press('Tab');
      expect(await inside()).toBe(true);
    }
    await page.keyboard.press('Escape');
    await box.waitFor({ state: 'detached' });
    await page.context().close();
  });

  it('a ribbon that somebody closed stays closed; one shown by scrolling waits for it', async () => {
    await place('ribbon', {}, { scroll: 50 });
    const { page, box } = await open({ viewport: { width: 390, height: 300 } });
    await page.waitForLoadState('networkidle');
    expect(await box.count()).toBe(0);
    await page.mouse.wheel(0, 5_000);
    await box.getByRole('button', { name: 'Close' }).click();
    await box.waitFor({ state: 'detached' });
    await page.reload();
    await page.waitForLoadState('networkidle');
    await page.mouse.wheel(0, 5_000);
    await page.waitForFunction(() => scrollY > 0);
    expect(await box.count()).toBe(0);
    await page.context().close();
  });

  it('speaks another language from right to left, on the page and when a fault comes back', async () => {
    const start = startingForm(newsletter.name, 'ar');
    await place('panel', start);
    const { page, box } = await open(narrow);
    await box.locator('form[dir=rtl]').waitFor();
    await box.locator('input[name=email]').fill('nobody@');
    await box.locator('form').evaluate((element: HTMLFormElement) => element.setAttribute('novalidate', ''));
    await box.locator('button[type=submit]').click();
    await box
      .getByRole('alert')
      .filter({ hasText: /[\u0600-\u06ff]/ })
      .waitFor();
    expect(await accessibilityFaults(page)).toEqual([]);
    await page.context().close();
    await place('panel', form.definition);
  });

  const codes = async () =>
    formCodes(
      { publicId: form.publicId, definition: (await formOf(ctx, newsletter, form.id)).definition, lists: [] },
      world.at('edge'),
    );
  const codeOf = async (kind: FormCode['kind']) => (await codes()).find((code) => code.kind === kind)!.code;

  it('moves nothing of the page when it comes late, wide or narrow, or in a narrow column', async () => {
    await place('panel');
    const code = await codeOf('script');
    for (const [width, column] of [
      [1280, 0],
      [390, 0],
      [1280, 240],
    ] as const) {
      await world.post('blog', '/code', { code: column ? `<div style="width:${column}px">${code}</div>` : code });
      const page = await (await world.visitor({ viewport: { width, height: 800 } })).newPage();
      await page.addInitScript(() => {
        Object.assign(window, { shift: 0 });
        new PerformanceObserver((list) => {
          for (const entry of list.getEntries())
            (window as unknown as { shift: number }).shift += (entry as unknown as { value: number }).value;
        }).observe({ type: 'layout-shift', buffered: true });
      });
      // It comes when the page has long been painted.
      await page.route('**/e/form/*.js', async (route) => {
        await page.waitForFunction(() => performance.getEntriesByName('first-contentful-paint').length > 0);
        await route.continue();
      });
      await page.goto(world.at('blog', POST_PAGE));
      await page.evaluate(() =>
        document.querySelector('main, body')!.append(Object.assign(document.createElement('p'), { textContent: 'Below' })),
      );
      await page.locator('[data-inkset-form]').getByLabel('Email').waitFor();
      await page.evaluate(() => new Promise((resolve) => requestAnimationFrame(() => requestAnimationFrame(resolve))));
      expect(
        await page.evaluate(() => (window as unknown as { shift: number }).shift),
        `${width} pixels wide, column ${column}`,
      ).toBe(0);
      await page.context().close();
    }
    await world.post('blog', '/code', { code });
  });

  it('in a frame takes the height that it has, with nothing cut off', async () => {
    await world.post('blog', '/code', { code: await codeOf('iframe') });
    const page = await (await world.visitor({ viewport: { width: 390, height: 800 } })).newPage();
    await page.goto(world.at('blog', POST_PAGE));
    const inside = page.frameLocator('iframe').locator('html');
    await expect
      .poll(async () => {
        const frame = (await page.locator('iframe').boundingBox())?.height ?? 0;
        const content = await inside.evaluate((element) => element.getBoundingClientRect().height);
        return Math.abs(frame - content);
      })
      .toBeLessThanOrEqual(1);
    await page.context().close();
    await world.post('blog', '/code', { code: await codeOf('script') });
  });

  it('stands styled on a page with a strict policy for scripts and styles', async () => {
    const edge = world.at('edge');
    const code = await codeOf('script');
    const strict = await site(`<!doctype html><title>A strict site</title><article><p>A post.</p>${code}</article>`, {
      'content-security-policy': `default-src 'none'; script-src ${edge}; connect-src ${edge}; style-src 'none'`,
    });
    const page = await (await world.visitor()).newPage();
    await page.goto(strict.origin);
    const box = page.locator('[data-inkset-form]');
    await box.getByLabel('Email').fill('strict@heronmail.example');
    const padding = await box.locator('.ink-form').evaluate((element) => getComputedStyle(element).paddingTop);
    expect(padding).toBe(`${form.definition.look.padding}px`);
    await box.getByRole('button', { name: 'Send me the next one' }).click();
    await box.getByText('Nearly there').waitFor();
    strict.close();
    await page.context().close();
  });

  it('under attack solves its work unseen, in the page and on its own page; without a script it asks to wait', async () => {
    // This machine's network has been very busy, in this window and the next.
    const storm = () =>
      sql`insert into rate_limits (key, window_start, count)
          select 'join-network:' || host, to_timestamp((floor(extract(epoch from now()) / 600) + later) * 600), 30
          from (values ('127.0.0.1'), ('::1'), ('::ffff:127.0.0.1')) as hosts (host), generate_series(0, 1) as later
          on conflict (key, window_start) do update set count = 30`.execute(ctx.db);
    await storm();
    const { page, box } = await open();
    const statuses: number[] = [];
    page.on('response', (response) => {
      if (response.request().method() === 'POST' && !response.url().includes('/note')) statuses.push(response.status());
    });
    await box.getByLabel('Email').fill('patient@heronmail.example');
    await box.getByRole('button', { name: 'Send me the next one' }).click();
    await box.getByText('Nearly there').waitFor();
    expect(statuses).toEqual([428, 200]);
    const own = world.at('edge', `/e/form/${form.publicId}`);
    await page.goto(own);
    await page.getByLabel('Email').fill('patient-too@heronmail.example');
    await page.getByRole('button', { name: 'Send me the next one' }).click();
    await page.getByText('Nearly there').waitFor();
    await page.context().close();
    const plain = await (await world.visitor({ javaScriptEnabled: false })).newPage();
    await plain.goto(own);
    await plain.getByLabel('Email').fill('without@heronmail.example');
    await plain.getByRole('button', { name: 'Send me the next one' }).click();
    await plain.getByText('wait 15 seconds').waitFor();
    expect(await plain.getByLabel('Email').inputValue()).toBe('without@heronmail.example');
    await plain.context().close();
    await ctx.db.deleteFrom('rate_limits').execute();
  });

  it('answers what is far too long with a sentence, in JSON and as a page', async () => {
    const send = (accept: string, body: string) =>
      fetch(world.at('edge', `/e/form/${form.publicId}`), {
        method: 'POST',
        headers: { accept, 'content-type': 'application/x-www-form-urlencoded' },
        body,
      });
    const body = `email=${'x'.repeat(1_000_000)}`;
    const json = await send('application/json', body);
    expect([json.status, (await json.json()).error.sentence]).toEqual([422, 'This is more than a form can hold.']);
    const page = await send('text/html', body);
    expect([page.status, await page.text()]).toEqual([422, expect.stringContaining('more than a form can hold')]);
    expect((await send('application/json', 'email=short@heronmail.example')).status).toBe(200);
    // An address that is none at all.
    expect((await fetch(world.at('edge', '//'))).status).toBe(400);
  });

  it('says so when we cannot be reached, keeps what was typed, and never thanks falsely', async () => {
    const { page, box } = await open();
    await box.getByLabel('Email').fill('later@heronmail.example');
    await page.route(/\/e\/form\/[0-9a-f]+$/, (route) => route.abort());
    await box.getByRole('button', { name: 'Send me the next one' }).click();
    await box.getByRole('alert').filter({ hasText: 'you are not signed up yet' }).waitFor();
    expect(await box.getByLabel('Email').inputValue()).toBe('later@heronmail.example');
    await page.context().close();
  });
});

describe('with the demo newsletter', () => {
  let page: Page;
  it('loads in under a minute and shows its figures', async () => {
    const { home, world: plan } = world.stack;
    const began = performance.now();
    const { account } = await loadDemo(insideEnv(home, plan), { dnsPage: world.at('dnsPage'), blog: world.at('blog') }, () => {});
    expect(performance.now() - began).toBeLessThan(60_000);
    page = await (await world.visitor()).newPage();
    await page.goto(world.at('web', '/sign-in'));
    await page.getByLabel('Email').fill(account.email);
    await page.getByLabel('Password').fill(account.password);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page
      .getByText(/2,\d{3} people/)
      .first()
      .waitFor();
  });

  it('a killed worker, closed doors and a database restart in the middle of a send lose no letter', async () => {
    const { home, world: plan } = world.stack;
    const { rows } = await query<{ count: string }>(
      "select count(*) from memberships m join lists l on l.id = m.list_id join readers r on r.id = m.reader_id where l.name = 'Thursday letters' and m.state = 'reading' and r.address_state = 'fine'",
    );
    const readers = Number(rows[0]?.count);
    expect(readers).toBeGreaterThan(2_000);
    const state = async () =>
      (
        await query<{ state: string; delivered: number; recipients: number; id: string }>(
          "select l.id, l.state, c.delivered, c.recipients from letters l join letter_counts c on c.letter_id = l.id where l.subjects->>0 = 'Slow light, again' and c.recipients > 1000",
        )
      ).rows[0];
    const delivered = (least: number) =>
      expect.poll(async () => (await state())?.delivered ?? 0, { timeout: 60_000, interval: 20 }).toBeGreaterThan(least);

    await world.post('blog', '/publish', {
      title: 'Slow light, again',
      summary: 'Why most lamps are blue.',
      text: 'One paragraph.',
    });
    await world.advance(1);
    await delivered(100);
    await stopProcess(home, 'worker', 'SIGKILL');
    const afterKill = await state();
    expect(afterKill?.delivered).toBeLessThan(readers);
    // Paused by the writer meanwhile: a worker that comes up leaves it alone until it may go on.
    await page.goto(`${page.url().replace(/\/today.*/, '')}/letters/${afterKill?.id}`);
    await page.getByRole('button', { name: 'Pause it' }).click();
    await page.getByText('It is paused').waitFor();
    await startProcess(home, plans(home, plan).find((p) => p.name === 'worker')!);
    await world.advance(1);
    expect(await state()).toMatchObject({ state: 'paused', delivered: afterKill?.delivered });
    await page.getByRole('button', { name: 'Let it go on' }).click();
    await delivered((afterKill?.delivered ?? 0) + 50);

    stopPostgres(openHome(home.dir), 'immediate');
    await startPostgres(home);
    await world.post('inbox', '/doors', { doors: 'closed' });
    await world.post('inbox', '/doors', { doors: 'open' });
    await world.advance(5);
    // Whatever met a closed door is tried again minutes later, and some may meet it only now: time passes while we wait.
    await expect
      .poll(
        async () => {
          await world.advance(1);
          return (await state())?.state;
        },
        { timeout: 90_000, interval: 1_000 },
      )
      .toBe('sent');

    const done = await state();
    expect(done?.recipients).toBe(readers);
    const { rows: counted } = await query<{ count: string }>(
      `select count(*) from deliveries where letter_id = '${done?.id}' and state = 'delivered'`,
    );
    expect(Number(counted[0]?.count)).toBe(done?.delivered);
    expect(done?.delivered).toBe(readers);
    // Every recipient has it in the inbox; one that was in flight may have it twice, under one Message-ID.
    const lines = readFileSync(`${home.dir}/backlot/mail/index.jsonl`, 'utf8')
      .split('\n')
      .filter((line) => line.includes('Slow light, again'))
      .map((line) => JSON.parse(line) as { id: string; to: string });
    // A mail has another line there whenever somebody reads it.
    const inbox = [...new Map(lines.map((mail) => [mail.id, mail.to])).values()];
    const { rows: wanted } = await query<{ address: string }>(`select address from deliveries where letter_id = '${done?.id}'`);
    const arrived = new Set(inbox);
    expect(wanted.filter(({ address }) => !arrived.has(address))).toEqual([]);
    // At most what was on the lanes of the killed worker: twenty for each of the five providers.
    expect(inbox.length - arrived.size).toBeLessThanOrEqual(100);
    await page.context().close();
  });
});

async function query<T extends object>(text: string): Promise<{ rows: T[] }> {
  const { default: pg } = await import('pg');
  const client = new pg.Client({ connectionString: world.stack.world.databaseUrl });
  await client.connect();
  try {
    return await client.query<T>(text);
  } finally {
    await client.end();
  }
}

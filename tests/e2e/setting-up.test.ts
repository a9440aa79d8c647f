import type { BrowserContext, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { onDesk, until } from './desk';
import { TestWorld } from './world';

/* From nothing to a newsletter that may send: the steps build on each other, in the order a writer takes them. */
const WRITER = 'ottoline@postbird.example';

let world: TestWorld;
let writer: BrowserContext;
let desk: Page;
const { section, headline } = onDesk(() => desk);

beforeAll(async () => {
  world = await TestWorld.open();
  writer = await world.visitor();
  desk = await writer.newPage();
  desk.setDefaultTimeout(20_000);
});
afterAll(() => world?.close());

/** What was made has the focus, so that whoever hears the page stands where it stands. */
const focused = (words: string) =>
  expect.poll(() => desk.evaluate(() => (document.activeElement as HTMLElement).innerText.slice(0, 2_000))).toContain(words);

describe('from nothing to a newsletter that may send', () => {
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
    await desk.getByLabel('Name', { exact: true }).fill('Glasswort Letters');
    await desk.getByLabel('Postal address').fill('PO Box 600\n1100-001 Lisbon');
    await desk.getByLabel('Time zone').selectOption('Europe/Lisbon');
    await desk.getByRole('button', { name: 'Make the newsletter' }).click();
    await headline('Glasswort Letters can send its first letter in about');
    const page = await desk.context().newPage();
    await page.goto(world.at('web', '/at/glasswort-letters'));
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
    await add('Ottoline Vance', 'letters.glasswort.example');
    await desk.getByText('This does not look like an email address.').first().waitFor();
    // The writer's mail for that domain is hosted at one of the providers; the DNS host knows,
    // before anything is sent there: a zone without its MX would refuse it for good.
    await world.post('dnsPage', '/zones', { domain: 'glasswort.example' });
    await world.post('dnsPage', '/zones/glasswort.example/add', { host: '@', type: 'MX', value: '10 mx.postbird.example' });
    await add('Ottoline Vance', 'letters@glasswort.example');
    await desk.getByText('Awaiting click').waitFor();
    await focused('letters@glasswort.example');
    await world.advance(2);
    const proof = await world.letter('letters@glasswort.example', 'Confirm letters@glasswort.example');
    const opened = await world.click(writer, proof, 'Yes, it is mine');
    await opened.getByRole('heading', { name: 'This address is confirmed' }).waitFor();
    await opened.goto(world.at('web', '/sender/not-a-token'));
    await opened.getByText('This link is not known').waitFor();
    await opened.close();
    await until(desk, /Confirmed/);
  });

  it('a domain is proven record by record, with one wrong one mended on the way', async () => {
    await desk.getByLabel('Domain', { exact: true }).fill('https://glasswort.example/');
    await desk.getByRole('button', { name: 'Add domain' }).click();
    await headline('0 of 4 records');
    await focused('0 of 4 records');
    const value = async (purpose: string) =>
      (await desk.locator(`tr[data-purpose="${purpose}"] [data-value]`).textContent())?.trim() ?? '';
    const host = async (purpose: string) =>
      (await desk.locator(`tr[data-purpose="${purpose}"] [data-host]`).textContent())?.trim() ?? '';
    expect(await value('dkim')).toMatch(/^v=DKIM1; k=rsa; p=[A-Za-z0-9+/]{390,}/);

    const dns = await writer.newPage();
    const publish = async (purpose: string, type: string, text?: string) => {
      await dns.goto(world.at('dnsPage', '/zones/glasswort.example'));
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
    await world.letter(WRITER, 'A test letter from glasswort.example');
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
    await desk.getByRole('navigation', { name: 'Where you are' }).getByRole('link', { name: 'glasswort.example' }).click();
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
    await desk.getByText('letters@glasswort.example could no longer send').waitFor();
    await desk.keyboard.press('Escape');
  });

  it('identity, people and an SMTP service are set up', async () => {
    await desk.getByRole('link', { name: 'Settings of this newsletter' }).click();
    await desk.getByLabel('Reason line').fill('You get this because you asked.');
    await desk.getByText('Put “Glasswort Letters” in').waitFor();
    await desk
      .getByLabel('Reason line')
      .fill('You get this because you asked for Glasswort Letters on glasswort.example and confirmed it by email.');
    await desk.getByLabel('Your site').fill('https://glasswort.example/');
    await desk.getByLabel('Links at the end').fill('nothing here');
    await desk.getByRole('button', { name: 'Save' }).click();
    await desk.getByText('“nothing here” has no address').first().waitFor();
    await desk.getByLabel('Links at the end').fill('The site https://glasswort.example/');
    await desk.getByRole('button', { name: 'Save' }).click();
    await desk.getByText('Saved', { exact: true }).first().waitFor();
    const picture = await desk.screenshot({ clip: { x: 0, y: 0, width: 300, height: 200 } });
    await desk.getByLabel('A picture').setInputFiles({ name: 'logo.png', mimeType: 'image/png', buffer: picture });
    await desk.getByRole('button', { name: 'Upload' }).click();
    await desk.getByRole('img', { name: 'Logo of Glasswort Letters' }).waitFor();

    await desk.getByRole('navigation', { name: 'Settings' }).getByRole('link', { name: 'People' }).click();
    await desk.getByRole('button', { name: 'Send an invitation' }).waitFor();
    await desk.getByLabel('Address', { exact: true }).fill('mara@kestrel.example');
    await desk.getByRole('button', { name: 'Send an invitation' }).click();
    await desk.getByText('mara@kestrel.example').first().waitFor();
    await focused('mara@kestrel.example');
    const mail = await world.letter('mara@kestrel.example', 'An invitation to Glasswort Letters');
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
});

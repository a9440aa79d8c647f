import { sql } from 'kysely';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { accessibilityFaults, within } from './axe';
import { TestWorld } from './world';

/* From an empty account to a letter in an inbox, as somebody new would go; what they do is counted. */
const WRITER = 'mira@saltings.example';
const MOST_ACTS = 24;
const MOST_MINUTES = 6;

let world: TestWorld;
beforeAll(async () => {
  world = await TestWorld.open();
});
afterAll(() => world?.close());

it('a newcomer has a letter in an inbox after few acts, and each page says what comes next', async () => {
  const began = Date.now();
  let acts = 0;
  let pages = 0;
  /** A field filled, something pressed or pasted. */
  const act = async (what: Promise<unknown>) => {
    acts += 1;
    await what;
  };
  const browser = await world.visitor();
  await browser.grantPermissions(['clipboard-read', 'clipboard-write']);
  const open = async (address: string): Promise<Page> => {
    pages += 1;
    const page = await browser.newPage();
    page.setDefaultTimeout(20_000);
    await page.goto(address);
    return page;
  };
  const linkOf = async (to: string, subject: string, label: string): Promise<Page> => {
    const letter = await world.letter(to, subject);
    pages += 1;
    acts += 1;
    return world.click(browser, letter, label);
  };
  // The mail of the newcomer's domain is there before any newsletter is; its blog too.
  await world.post('dnsPage', '/zones', { domain: 'saltings.example' });
  await world.post('dnsPage', '/zones/saltings.example/add', { host: '@', type: 'MX', value: '10 mx.postbird.example' });
  await world.olderPost();

  const first = await open(world.at('web', '/sign-up'));
  await act(first.getByLabel('Your name').fill('Mira Hallam'));
  await act(first.getByLabel('Email').fill(WRITER));
  await act(first.getByLabel('Password').fill('under the tide wall'));
  await act(first.getByRole('button', { name: 'Open an account' }).click());
  await first.getByRole('heading', { name: 'Look in your inbox' }).waitFor();
  await first.getByRole('button', { name: 'Send it again' }).waitFor();
  expect(await accessibilityFaults(first)).toEqual([]);
  await first.close();

  const desk = await linkOf(WRITER, 'Confirm your address', 'Confirm my address');
  desk.setDefaultTimeout(20_000);
  await desk.getByRole('heading', { name: 'A new newsletter' }).waitFor();
  await act(desk.getByLabel('Name', { exact: true }).fill('Saltings Notes'));
  await act(desk.getByLabel('Your site').fill(world.at('blog')));
  await act(desk.getByLabel('Postal address').fill('PO Box 12, 1100-001 Lisbon'));
  expect(await accessibilityFaults(desk)).toEqual([]);
  await act(desk.getByRole('button', { name: 'Make the newsletter' }).click());
  const steps = desk.getByRole('list', { name: 'Steps to the first letter' });
  const here = (title: string) => steps.locator('[aria-current=step]').getByRole('heading', { name: title }).waitFor();

  // The sender is the account's own address, which is proven already; so the domain is next.
  await here('Prove the domain');
  expect(await accessibilityFaults(desk)).toEqual([]);
  expect(await desk.getByText('Nothing just now').count()).toBe(0);
  const pasted = async () => {
    // A page may read it only while it is the one in front.
    await desk.bringToFront();
    return within(
      'Reading the clipboard',
      desk.evaluate(() => navigator.clipboard.readText()),
    );
  };
  await act(desk.getByRole('button', { name: /Copy all as a zone file/ }).click());
  const zone = await pasted();
  const dns = await open(world.at('dnsPage', '/zones/saltings.example'));
  await act(dns.getByLabel('Master file').fill(zone));
  await act(dns.getByRole('button', { name: 'Add these records' }).click());
  await dns.close();
  // We look again by ourselves; some minutes of the world's time pass meanwhile, and word comes by mail too.
  await world.letter(WRITER, 'saltings.example: every record stands', 1);
  await here('A form on your site');

  await act(desk.getByRole('button', { name: /Copy the line/ }).click());
  const line = await pasted();
  expect(line).toMatch(/^<script async src="[^"]+"><\/script>$/);
  const blog = await open(world.at('blog', '/code'));
  await act(blog.locator('textarea').fill(line));
  await act(blog.getByRole('button', { name: 'Save' }).click());
  const form = blog.locator('[data-inkset-form]');
  // In the colour of the site, which its page names.
  await form.locator('.ink-form').waitFor();
  expect(await form.locator('.ink-form').evaluate((element) => getComputedStyle(element).backgroundColor)).toBe(
    'rgb(15, 74, 92)',
  );
  await act(form.getByLabel('Email', { exact: true }).fill(WRITER));
  await act(form.getByRole('button').click());
  await form.getByText('Nearly there').waitFor();
  await blog.close();
  const confirmed = await linkOf(WRITER, 'Please confirm', 'Yes, send me the letters');
  await confirmed.getByRole('heading', { name: 'You are on the list', exact: true }).waitFor();
  await confirmed.close();
  await world.letter(WRITER, 'Welcome to Saltings Notes');

  // Having joined by the form they have tried it, and the feed was found on the site.
  await here('Let new posts leave');
  await act(desk.getByRole('button', { name: 'Switch it on' }).click());
  await desk.getByText('Everything stands').waitFor();
  await world.advance(6);
  await expect
    .poll(async () => (await (await fetch(world.at('blog', '/asked'))).json()).all, { timeout: 20_000 })
    .toBeGreaterThan(1);
  const publish = await open(world.at('blog', '/publish'));
  await act(publish.getByLabel('Title').fill('What the tide leaves'));
  await act(publish.getByLabel(/^Text/).fill('Glasswort, mostly.'));
  await act(publish.getByRole('button', { name: 'Publish' }).click());
  const letter = await world.letter(WRITER, 'What the tide leaves', 2);
  expect([letter.verdicts!.spf.result, letter.verdicts!.dkim.result, letter.verdicts!.dmarc.result]).toEqual([
    'pass',
    'pass',
    'pass',
  ]);

  const minutes = (Date.now() - began) / 60_000;
  console.log(
    `A newcomer's first letter: ${acts} acts (${acts + pages} with the opening of pages), ${minutes.toFixed(1)} minutes in this run`,
  );
  expect(acts).toBeLessThanOrEqual(MOST_ACTS);
  expect(minutes).toBeLessThan(MOST_MINUTES);
  await browser.close();
});

it('one’s own account: name, address asked at both ends, password, sessions; it is not closed while a newsletter would have no owner', async () => {
  const { desk, ctx } = await world.founded('Lagoon Letters', 'lagoon.example');
  const context = desk.context();
  const old = 'writer@lagoon.example';
  const next = 'other@lagoon.example';
  await desk.getByRole('button', { name: /account of/ }).click();
  await desk.getByRole('menuitem', { name: 'Your account' }).click();
  await desk.getByRole('heading', { level: 1, name: 'Your account' }).waitFor();
  expect(await accessibilityFaults(desk)).toEqual([]);
  await desk.getByLabel('Your name').fill('Ottoline V.');
  await desk.getByRole('button', { name: 'Save' }).click();
  await desk.getByText('Ottoline V., writer@lagoon.example').waitFor();

  await desk.getByLabel('New address').fill(next);
  await desk.getByRole('button', { name: 'Change it' }).first().click();
  const first = await world.click(context, await world.letter(old, 'Another address', 1), 'Yes, change it');
  await first.getByText('Now the new address').waitFor();
  await first.getByText(`Ottoline V., ${old}`).waitFor();
  await first.close();
  const second = await world.click(context, await world.letter(next, 'Your new address', 1), 'Use this address');
  await second.getByText('Your address is changed').waitFor();
  await second.getByText(`Ottoline V., ${next}`).waitFor();
  await second.close();

  // Another place, signed in with the new address; the password is changed here, and that one is out.
  const elsewhere = await world.visitor();
  const origin = world.at('web');
  const signIn = (password: string) =>
    elsewhere.request.post(`${origin}/api/auth/sign-in/email`, { data: { email: next, password }, headers: { origin } });
  expect((await signIn('six hundred metres down')).ok()).toBe(true);
  await desk.reload();
  await desk.getByRole('button', { name: 'Sign it out' }).waitFor();
  await desk.getByLabel('The one you have').fill('wrong wrong wrong');
  await desk.getByLabel('A new one').fill('nine hundred metres down');
  await desk.getByRole('button', { name: 'Change it' }).last().click();
  await desk.getByRole('alert').filter({ hasText: 'The password is not right' }).waitFor();
  await desk.getByLabel('The one you have').fill('six hundred metres down');
  await desk.getByRole('button', { name: 'Change it' }).last().click();
  await desk.getByText('Your new password is kept').waitFor();
  const other = await elsewhere.newPage();
  await other.goto(`${origin}/account`);
  await other.getByRole('heading', { name: 'Sign in' }).waitFor();
  expect((await signIn('six hundred metres down')).ok()).toBe(false);

  const close = async (password: string) => {
    await desk.getByLabel('Your password').fill(password);
    await desk.getByRole('button', { name: 'Close my account' }).click();
  };
  await desk.getByRole('button', { name: 'Close it …' }).click();
  await close('nine hundred metres down');
  await desk.getByRole('alert').filter({ hasText: 'You are the only owner of Lagoon Letters' }).waitFor();
  expect(await accessibilityFaults(desk)).toEqual([]);
  await ctx.db.deleteFrom('newsletters').where('name', '=', 'Lagoon Letters').execute();
  await close('wrong wrong wrong');
  await desk.getByRole('alert').filter({ hasText: 'The password is not right' }).waitFor();
  await close('nine hundred metres down');
  await desk.getByRole('heading', { name: 'Open an account' }).waitFor();
  expect((await sql`select 1 from "user" where email = ${next}`.execute(ctx.db)).rows).toEqual([]);
  await elsewhere.close();
});

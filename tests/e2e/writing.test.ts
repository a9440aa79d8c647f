import { readFile, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { simpleParser } from 'mailparser';
import type { Page } from 'playwright-core';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { accessibilityFaults } from './axe';
import { dragged, onDesk } from './desk';
import { type Founded, TestWorld } from './world';

/* A letter written by keyboard, kept through what goes wrong on the way, and seen as readers get it. */
let world: TestWorld;
let desk: Page;
let founded: Founded;
const { section } = onDesk(() => desk);
const stage = (name: string) => desk.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name }).click();
const words = (page = desk) => page.getByRole('textbox', { name: 'The letter' });
const state = (said: RegExp | string, page = desk) => page.getByRole('status').filter({ hasText: said }).first().waitFor();

/** Waits until the server has it. */
const there = (said: string) =>
  expect
    .poll(
      async () =>
        JSON.stringify(
          await founded.ctx.db
            .selectFrom('posts')
            .select('document')
            .where('newsletter_id', '=', founded.newsletter.id)
            .execute(),
        ),
      { timeout: 20_000 },
    )
    .toContain(said);

beforeAll(async () => {
  world = await TestWorld.open();
  founded = await world.founded('Dunlin Letters', 'dunlin.example');
  ({ desk } = founded);
});
afterAll(() => world?.close());

describe('a letter', () => {
  it('is written by keyboard alone, and saved by itself', async () => {
    await section('Letters');
    await desk.getByRole('button', { name: 'Write a letter' }).click();
    await words().waitFor();
    await desk.getByText('It has no subject').waitFor();
    await desk.getByLabel('Title', { exact: true }).focus();
    await desk.keyboard.type('The lamp-fish census');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('How do you count?');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('Good morning, ');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('/name');
    await desk.getByRole('option', { name: 'Name of the reader' }).waitFor();
    await desk.keyboard.press('Enter');
    await words().getByText('first name, or “reader”').waitFor();
    await desk.keyboard.press('ArrowRight');
    await desk.keyboard.type(', the net comes up glowing.');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('## How we counted');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('A tray');
    await desk.keyboard.press('Shift+ArrowLeft');
    await desk.keyboard.press('Shift+ArrowLeft');
    await desk.getByRole('toolbar', { name: 'Format' }).waitFor();
    await desk.keyboard.press('Control+b');
    await words().locator('strong').waitFor();
    // The browser tells of a moved cursor a moment later than of a key; nobody's fingers are faster.
    await desk.keyboard.press('ArrowRight');
    await desk.getByRole('toolbar', { name: 'Format' }).waitFor({ state: 'detached' });
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('/divider');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('The end.');
    await state(/^Saved \d\d:\d\d$/);
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.reload();
    await words().getByText('the net comes up glowing', { exact: false }).waitFor();
    // Opening it changes nothing.
    await state(/^Saved/);
    expect(await words().locator('h2').innerText()).toBe('How we counted');
    expect(await words().locator('strong').innerText()).toBe('ay');
    expect(await words().locator('hr').count()).toBe(1);
    await desk.getByText('Nothing to mend').waitFor();
  });

  it('takes a picture, asks for its description, and shows the letter as mail and as text', async () => {
    const path = join(tmpdir(), 'reef.png');
    await writeFile(
      path,
      await sharp({ create: { width: 900, height: 300, channels: 3, background: '#17645c' } })
        .png()
        .toBuffer(),
    );
    await words().getByText('The end.').click();
    await desk.keyboard.press('End');
    await desk.keyboard.press('Enter');
    await desk.getByLabel('Pictures to put in').setInputFiles(path);
    const picture = words().getByLabel('Picture', { exact: true }).locator('img');
    await picture.waitFor();
    await desk.getByText('1 picture has no description').waitFor();
    await picture.click();
    await desk.getByLabel('Description', { exact: true }).fill('A reef by night');
    await desk.getByText('1 picture has no description').waitFor({ state: 'detached' });
    await desk.keyboard.press('Control+s');
    await state(/^Saved/);
    await desk.getByRole('button', { name: 'See it' }).click();
    const letter = desk.frameLocator('iframe[title="The letter"]');
    await letter.getByRole('heading', { name: 'The lamp-fish census' }).waitFor();
    await letter.getByAltText('A reef by night').waitFor();
    await desk.getByRole('tab', { name: 'Plain text' }).click();
    await desk.getByText('[A reef by night]', { exact: false }).waitFor();
    await desk.getByRole('tab', { name: 'Web page' }).click();
    await letter.getByRole('heading', { name: 'How we counted' }).waitFor();
    await desk.getByRole('button', { name: 'Write on' }).click();
  });

  it('keeps the last word of whoever goes on at once, or has the page made anew in the middle of it', async () => {
    await words().getByText('The end.').click();
    await desk.keyboard.type('Typed and gone. ');
    await desk.getByRole('link', { name: 'Address it' }).click();
    await stage('Write');
    await words().getByText('Typed and gone.', { exact: false }).waitFor();
    await there('Typed and gone.');
    await words().getByText('Typed and gone.', { exact: false }).click();
    await desk.keyboard.type('Once more. ');
    await desk.reload();
    await words().getByText('Once more.', { exact: false }).waitFor();
    await there('Once more.');
    await state(/^Saved/);
  });

  it('loses nothing with the network: kept here, and there again by itself', async () => {
    const context = desk.context();
    await context.setOffline(true);
    await words().getByText('The end.', { exact: false }).click();
    await desk.keyboard.type('Written in a tunnel. ');
    await state('Offline, kept here');
    // Even the window may go meanwhile.
    await desk.waitForFunction(
      () =>
        new Promise((resolve) => {
          const open = indexedDB.open('inkset-writing');
          open.onsuccess = () => {
            const all = open.result.transaction('letters').objectStore('letters').getAll();
            all.onsuccess = () => resolve(JSON.stringify(all.result).includes('Written in a tunnel.'));
          };
        }),
    );
    await context.setOffline(false);
    await state(/^Saved/);
    await desk.reload();
    await words().getByText('Written in a tunnel.', { exact: false }).waitFor();
  });

  it('is written in one window: the second is told, takes over, and the first overwrites nothing', async () => {
    await state(/^Saved/);
    // The first is not told by its beat, which may come before it writes: it learns as it saves.
    await desk.route('**/hold', (route) => route.abort());
    const second = await desk.context().newPage();
    await second.goto(desk.url());
    await second.getByText('is writing this letter in another window.', { exact: false }).waitFor();
    expect(await words(second).getAttribute('contenteditable')).toBe('false');
    await second.getByRole('button', { name: 'Write here instead' }).click();
    await state(/^Saved/, second);
    await words(second).getByText('Written in a tunnel.', { exact: false }).click();
    await second.keyboard.type(' From the second window.');
    await there('From the second window.');
    await desk.bringToFront();
    await words().getByText('Written in a tunnel.', { exact: false }).click();
    await desk.keyboard.type(' From the first.');
    await desk.getByText('is writing this letter in another window.', { exact: false }).waitFor();
    await desk.unroute('**/hold');
    await second.reload();
    await words(second).getByText('From the second window.', { exact: false }).waitFor();
    expect(await words(second).getByText('From the first.', { exact: false }).count()).toBe(0);
    await second.close();
    // What the first had written is offered to it, and can be thrown away.
    await desk.reload();
    await desk.getByText('This browser kept something of this letter', { exact: false }).waitFor();
    await desk.getByRole('button', { name: 'Throw it away' }).click();
  });

  it('goes as a proof to an inbox', async () => {
    await founded.readers(['ada@heronmail.example']);
    await desk.getByRole('button', { name: 'Send a proof' }).click();
    await desk.getByLabel('To', { exact: true }).fill('proof@heronmail.example');
    await desk.getByRole('button', { name: 'Send it', exact: true }).click();
    const proof = await world.letter('proof@heronmail.example', 'The lamp-fish census', 1);
    expect((await simpleParser(await world.source(proof))).text).toContain('A proof, asked for by Ottoline Vance.');
  });

  it('is addressed in rows that read aloud, looked at once more, let go, called back, and let go again', async () => {
    await desk.getByRole('link', { name: 'Address it' }).click();
    await desk.getByText('1 person gets it').waitFor();
    await desk.getByRole('button', { name: 'Take somebody out' }).click();
    await desk.getByRole('menuitem', { name: 'People by their address' }).click();
    await desk.getByRole('button', { name: 'people yet to be named', exact: true }).click();
    await desk.getByLabel('Addresses').fill('ada@heronmail.example, nobody@heronmail.example');
    await desk.getByRole('button', { name: 'Add them' }).click();
    await desk.getByRole('alert').filter({ hasText: 'Nobody reads by 1 this address' }).waitFor();
    await desk.keyboard.press('Escape');
    await desk.getByText('0 people get it').waitFor();
    await desk.getByText('but not ada@heronmail.example', { exact: false }).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByText('Kept', { exact: true }).waitFor();
    await stage('Send');
    await desk.getByText('Nobody would get it').waitFor();
    expect(await desk.getByRole('button', { name: /Let it go/ }).count()).toBe(0);
    await stage('Address');
    await desk.getByRole('button', { name: 'Take out ada@heronmail.example' }).click();
    await desk.getByText('1 person gets it').waitFor();
    await desk.getByRole('button', { name: 'Keep this one' }).click();
    await desk.getByLabel('Name', { exact: true }).fill('All of them');
    await desk.getByRole('button', { name: 'Keep it', exact: true }).click();
    await desk.getByRole('button', { name: 'Use All of them' }).waitFor();

    await desk.getByRole('link', { name: 'Send it' }).click();
    await desk.getByText('30 seconds after you let it go').waitFor();
    await desk.getByLabel('It leaves').selectOption('at a time');
    await desk.getByLabel('Day and hour').fill('2030-03-31T01:30');
    await desk.getByText('Clocks in Lisbon go forward over 01:30').waitFor();
    await desk.getByLabel('Day and hour').fill('2020-03-31T01:30');
    await desk.getByText('That time is over').waitFor();
    await desk.getByLabel('Day and hour').fill('2030-10-27T01:30');
    await desk.getByLabel('Which of the two').selectOption('the second, after clocks went back');
    await desk.getByLabel('To whom first').selectOption('at that hour of each reader’s own clock');
    await desk.getByText('own clock', { exact: false }).first().waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByLabel('It leaves').selectOption('now');
    await desk.getByRole('button', { name: 'Let it go' }).click();
    await desk.getByRole('button', { name: 'Yes, to 1 person' }).click();
    await desk.getByText(/It leaves in \d+ seconds?/).waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Call it back' }).click();
    await desk.getByText('It goes nowhere until you give it a time.').first().waitFor();
    await desk.getByRole('link', { name: 'Address it' }).click();
    await stage('Send');
    await desk.getByRole('button', { name: 'Let it go' }).click();
    await desk.getByRole('button', { name: 'Yes, to 1 person' }).click();
    await desk.getByText(/It leaves in \d+ seconds?/).waitFor();
    await world.letter('ada@heronmail.example', 'The lamp-fish census', 1);
    await desk.getByText('It was delivered to', { exact: false }).waitFor();
  });
});

describe('what is put in and moved about', () => {
  const data = (name: string) => readFile(join(import.meta.dirname, '../data/pasted', name), 'utf8');
  /** Lays something on the clipboard as a program does, and pastes it. */
  const paste = async (html: string, text = '') => {
    await words().evaluate(
      (element, [html, text]) => {
        const clipboardData = new DataTransfer();
        if (html) clipboardData.setData('text/html', html);
        clipboardData.setData('text/plain', text ?? '');
        element.dispatchEvent(new ClipboardEvent('paste', { clipboardData, bubbles: true, cancelable: true }));
      },
      [html, text],
    );
  };
  const anew = async (title: string) => {
    await section('Letters');
    await desk.getByRole('button', { name: 'Write a letter' }).click();
    await words().waitFor();
    await desk.getByLabel('Title', { exact: true }).fill(title);
    await words().focus();
  };

  it.each<[string, string, string[]]>([
    ['word-processor.html', 'A tray', ['h2', 'ol li', 'ul ul li', 'table', 'strong']],
    ['online-document.html', 'One and a half', ['h2', 'ul ul', 'strong em, em strong', 's', 'sub']],
    ['web-page.html', 'Like windows in a street.', ['blockquote', 'pre', 'em']],
    ['spreadsheet.html', '212', ['table td']],
    ['notes.md', 'with new batteries', ['h2', 'ol', 'blockquote', 'table', '.letter-note']],
  ])('is clean when it is pasted out of %s', async (name, said, parts) => {
    await anew(`Pasted: ${name}`);
    const source = await data(name);
    await paste(name.endsWith('.md') ? '' : source, name.endsWith('.md') ? source : 'as text');
    await words().getByText(said, { exact: false }).first().waitFor();
    for (const part of parts) expect(await words().locator(part).count(), part).toBeGreaterThan(0);
    expect(await words().innerHTML()).not.toMatch(/mso|javascript:|onclick|<script|<form|<iframe/i);
    await there(said);
    await state(/^Saved/);
  });

  it('takes in pictures that lie on the clipboard themselves, and says which could not be', async () => {
    await anew('Pasted: pictures');
    const png = 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==';
    const held = (base64: string) => `<p><img width="40" height="40" src="data:image/png;base64,${base64}" alt="A dot"></p>`;
    await paste(
      `<p>Before the dots.</p>${held(png)}${held(btoa('no picture'))}<p><img src="file:///C:/dot.png" alt="Far"></p><p>After them.</p>`,
      'as text',
    );
    await words().locator('img[src*="/e/media/"]').waitFor();
    await desk.getByText('2 pictures could not be taken from the clipboard. Drag them in').waitFor();
    expect(await words().locator('img').count()).toBe(1);
    await there('/e/media/');
    await state(/^Saved/);
  });

  it('opens the menu of a block at the first press, before any of it was fetched', async () => {
    await anew('At once');
    await desk.keyboard.type('Words');
    await there('Words');
    await desk.reload();
    await words().waitFor();
    await words().evaluate((element) => {
      // As a keyboard does it, and nothing before it.
      (element as HTMLElement).focus();
      element.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', altKey: true, bubbles: true, cancelable: true }));
    });
    await desk.getByRole('dialog', { name: 'This block' }).waitFor();
    await desk.keyboard.press('Escape');
  });

  it('is dragged by its handle, moved by keys, and has a look of its own that can be taken back', async () => {
    await anew('Moved about');
    await desk.keyboard.type('First');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('Second');
    await desk.keyboard.press('Enter');
    await desk.keyboard.type('Third');
    const order = async () => (await words().locator('> p').allInnerTexts()).filter((text) => text.trim());
    await desk.keyboard.press('Alt+ArrowUp');
    await expect.poll(order).toEqual(['First', 'Third', 'Second']);
    await words().getByText('Second').hover();
    const handle = desk.getByRole('button', { name: 'This block' });
    await dragged(handle, words().getByText('First'), { x: 10, y: 2 });
    await expect.poll(order).toEqual(['Second', 'First', 'Third']);
    await words().getByText('First').click();
    await desk.keyboard.press('Alt+Enter');
    const menu = desk.getByRole('dialog', { name: 'This block' });
    await menu.getByRole('button', { name: 'Centred' }).click();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.keyboard.press('Escape');
    await there('"align":"centre"');
    await words().getByText('First').click();
    await desk.keyboard.press('Alt+Enter');
    await menu.getByRole('button', { name: 'As the layout' }).click();
    await desk.keyboard.press('Escape');
    await expect.poll(async () => words().getByText('First').getAttribute('style')).toBeFalsy();
    await words().getByText('Third').click();
    await desk.keyboard.press('Alt+Enter');
    await menu.getByRole('button', { name: 'Take it out' }).click();
    await expect.poll(order).toEqual(['Second', 'First']);
  });

  it('is found and replaced, wherever it stands', async () => {
    await anew('Found again');
    await desk.keyboard.type('A lamp, a Lamp, and lamps.');
    await desk.keyboard.press('Control+h');
    const bar = desk.getByRole('search', { name: 'Find and replace' });
    await bar.getByLabel('Find', { exact: true }).fill('lamp');
    await bar.getByText('1 of 3 places').waitFor();
    await bar.getByLabel('Replace by').fill('light');
    await bar.getByRole('button', { name: 'Replace', exact: true }).click();
    await words().getByText('A light, a Lamp, and lamps.').waitFor();
    await bar.getByLabel('Capitals matter').check();
    await bar.getByText('1 of 1 place').waitFor();
    await bar.getByLabel('Capitals matter').uncheck();
    await bar.getByRole('button', { name: 'Replace all' }).click();
    await words().getByText('A light, a light, and lights.').waitFor();
    await bar.getByText('Nowhere').waitFor();
    await desk.keyboard.press('Escape');
    await bar.waitFor({ state: 'detached' });
    await there('A light, a light, and lights.');
  });

  it('stays as it is where a part of the page cannot be fetched, and has it once there is a network', async () => {
    await anew('Far away');
    await desk.keyboard.type('Kept words');
    await there('Kept words');
    await desk.reload();
    await words().getByText('Kept words').waitFor();
    await desk.context().setOffline(true);
    await desk.keyboard.press('Control+k');
    await desk.getByText('This could not be fetched').waitFor();
    await words().getByText('Kept words').waitFor();
    await desk.context().setOffline(false);
    await desk.getByPlaceholder('A reader, a letter').waitFor();
    await desk.keyboard.press('Escape');
  });

  it('takes a letter out of a file, and gives it back as one', async () => {
    await section('Letters');
    await desk.getByRole('button', { name: 'From a file' }).click();
    await desk
      .locator('input[name="file"]')
      .setInputFiles({ name: 'notes.md', mimeType: 'text/markdown', buffer: Buffer.from(await data('notes.md')) });
    await desk.getByRole('button', { name: 'Begin it' }).click();
    await words().getByText('with new batteries').waitFor();
    expect(await desk.getByLabel('Title', { exact: true }).inputValue()).toBe('Notes from the boat');
    const download = desk.waitForEvent('download');
    await desk.getByRole('link', { name: 'Take it out as Markdown' }).click();
    const file = await download;
    expect(file.suggestedFilename()).toBe('notes-from-the-boat.md');
    expect(await readFile(await file.path(), 'utf8')).toMatch(
      /^---\ntitle: Notes from the boat\n[\s\S]*\[\^1\]: For about forty seconds\./,
    );
  });
});

describe('a layout', () => {
  it('is made beside a letter that shows it, and is what the next letter looks like', async () => {
    await desk.getByRole('link', { name: 'Settings of this newsletter' }).click();
    await desk.getByRole('link', { name: 'Layouts', exact: true }).click();
    await desk.getByRole('button', { name: 'Make a layout' }).click();
    const letter = desk.frameLocator('iframe[title="The letter in this layout"]');
    await letter.getByText('Unsubscribe').waitFor();
    await desk.getByLabel('Name', { exact: true }).first().fill('From the boat');
    await desk.getByLabel('Text', { exact: true }).first().selectOption('typewriter');
    await expect.poll(() => letter.locator('.prose div').first().getAttribute('style')).toContain('Courier');
    await desk.getByLabel('Day', { exact: true }).check();
    await letter.getByText('2026', { exact: false }).first().waitFor();
    await desk
      .getByRole('status')
      .filter({ hasText: /^Saved$/ })
      .waitFor();
    expect(await accessibilityFaults(desk)).toEqual([]);
    await desk.getByRole('button', { name: 'Make it the usual one' }).click();
    await desk.getByText('It is the usual one now').waitFor();
    await section('Letters');
    await desk.getByRole('link', { name: 'Found again' }).click();
    await words().waitFor();
    await desk.getByRole('button', { name: 'See it' }).click();
    const seen = desk.frameLocator('iframe[title="The letter"]');
    await expect.poll(() => seen.locator('.prose div').first().getAttribute('style')).toContain('Courier');
    await desk.getByRole('tab', { name: 'Dark' }).click();
    await seen.getByText('A light, a light, and lights.').waitFor();
    await desk.getByRole('tab', { name: 'Pictures off' }).click();
    await desk.getByLabel('As this reader').fill('ada@heronmail.example');
    await desk.getByRole('button', { name: 'See it as theirs' }).click();
    await desk.getByText('As ada@heronmail.example has it.').waitFor();
    await desk.getByLabel('As this reader').fill('nobody@heronmail.example');
    await desk.getByRole('button', { name: 'See it as theirs' }).click();
    await desk.getByText('Nobody of that address reads', { exact: false }).waitFor();
  });
});

describe('a page', () => {
  it('is published, read without script, shared and left, in light and dark, wide and on a phone', async () => {
    await desk.getByRole('button', { name: 'Change the page' }).click();
    await desk.getByLabel('What becomes of it').selectOption('page');
    await desk.getByLabel('Address', { exact: true }).fill('found-again');
    await desk.getByLabel('Topics').fill('Lights');
    await desk.getByRole('button', { name: 'Keep it', exact: true }).click();
    await desk.getByText('It is a page alone. It stands once you publish it.').waitFor();
    await desk.getByRole('link', { name: 'Address it' }).click();
    await desk.getByRole('button', { name: 'Publish the page' }).click();
    await desk.getByText('The page stands').waitFor();
    const address = await desk.getByRole('link', { name: /found-again$/ }).getAttribute('href');
    const browser = desk.context().browser()!;
    for (const [colorScheme, width] of [
      ['light', 1280],
      ['dark', 390],
    ] as const) {
      const context = await browser.newContext({ javaScriptEnabled: true, colorScheme, viewport: { width, height: 800 } });
      const reader = await context.newPage();
      await reader.goto(address!);
      await reader.getByRole('heading', { name: 'Found again', level: 1 }).waitFor();
      expect(await reader.evaluate(() => document.documentElement.scrollWidth <= window.innerWidth)).toBe(true);
      await reader.getByRole('link', { name: 'Lights' }).click();
      await reader.getByRole('link', { name: 'Found again' }).click();
      await reader.getByLabel('Email').waitFor();
      await context.close();
    }
  });
});

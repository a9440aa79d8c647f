import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import pg from 'pg';
import { type Browser, chromium, type Page } from 'playwright-core';
import { leaveToken } from '@/core/sending/token';
import { readConfig } from '@/server/config';
import { ACCOUNT } from '../demo/load';
import { type Home, ROOT, readState } from './home';
import { BROWSER_FLAGS, CHROMIUM, ensure } from './machine';
import { insideEnv, originOf, type World } from './world';

const DESK = '/desk/lanternfish-letters';

/** What the writer of the demo publishes while pictures are taken. */
const NEW_POSTS = [
  [
    'Whale-fall diaries, week 40',
    'Forty weeks on the bottom. The jaw has gone soft.\n\nWe lowered the camera at noon, and the hagfish had come back.',
  ],
  [
    'A dim map',
    'A map of lamps is a map of patience. It has no north.\n\nWhoever draws one begins in the middle, where it is darkest.',
  ],
] as const;

/** The main views, and how to get to those that have no address of their own. */
const VIEWS: {
  name: string;
  path: string;
  reach?: (page: Page, world: World, home: Home) => Promise<unknown>;
}[] = [
  { name: 'today', path: `${DESK}/today` },
  { name: 'letters', path: `${DESK}/letters` },
  {
    name: 'letter',
    path: `${DESK}/letters`,
    reach: (page) => page.getByRole('link', { name: /What the tide left/ }).click(),
  },
  { name: 'readers', path: `${DESK}/readers` },
  {
    name: 'choices',
    path: `${DESK}/readers`,
    reach: async (page, world, home) => page.goto(await choicesOfSomebody(home, world)),
  },
  { name: 'form', path: `${DESK}/forms`, reach: (page) => page.getByRole('link', { name: /After every article/ }).click() },
  {
    name: 'write',
    path: `${DESK}/letters`,
    reach: (page) => page.getByRole('link', { name: 'Counting lights in the dark' }).click(),
  },
  {
    name: 'proof',
    path: `${DESK}/letters`,
    reach: async (page) => {
      await page.getByRole('link', { name: 'Counting lights in the dark' }).click();
      await page.getByRole('button', { name: 'See it' }).click();
      await page.frameLocator('iframe[title="The letter"]').getByText('Unsubscribe').waitFor();
    },
  },
  {
    name: 'address',
    path: `${DESK}/letters`,
    reach: async (page) => {
      await page.getByRole('link', { name: 'Counting lights in the dark' }).click();
      await page.getByRole('link', { name: 'Address it' }).click();
      await page.getByRole('button', { name: 'Somebody else too' }).click();
      await page.getByRole('menuitem', { name: 'A segment' }).click();
      await page.getByRole('button', { name: 'Take somebody out' }).click();
      await page.getByRole('menuitem', { name: 'A tag' }).click();
      await page.getByText('Named, but left out').waitFor();
      await page.getByText('Kept', { exact: true }).waitFor();
    },
  },
  {
    name: 'send',
    path: `${DESK}/letters`,
    reach: async (page) => {
      await page.getByRole('link', { name: 'Counting lights in the dark' }).click();
      await page.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name: 'Send' }).click();
      await page.getByText('after you let it go', { exact: false }).waitFor();
      await page.getByText('Nothing to look at').waitFor();
    },
  },
  { name: 'compare', path: `${DESK}/letters/compare` },
  {
    name: 'layout',
    path: `${DESK}/settings/layouts`,
    reach: async (page) => {
      await page.getByRole('link', { name: /From the boat/ }).click();
      await page.frameLocator('iframe[title="The letter in this layout"]').getByText('Unsubscribe').waitFor();
    },
  },
  {
    name: 'post',
    path: '/at/lanternfish-letters',
    reach: (page) => page.getByRole('link', { name: /Two posts/ }).click(),
  },
  { name: 'auto-sends', path: `${DESK}/auto-sends` },
  { name: 'growth', path: `${DESK}/growth` },
  { name: 'delivery', path: `${DESK}/delivery` },
  // What follows sends letters, so it comes last.
  {
    name: 'under-way',
    path: `${DESK}/letters`,
    reach: async (page) => {
      await page.getByRole('link', { name: 'Counting lights in the dark' }).click();
      await page.getByRole('navigation', { name: 'Stages' }).getByRole('link', { name: 'Send' }).click();
      await page.getByLabel('To whom first').selectOption('evenly over some hours');
      await page.getByText('evenly over 4 hours', { exact: false }).first().waitFor();
      const letItGo = page.getByRole('button', { name: 'Let it go' });
      const ticks = page.getByLabel('That is as I want it');
      await letItGo.or(ticks).first().waitFor();
      for (const tick of await ticks.all()) await tick.check();
      await letItGo.click();
      await page.getByRole('button', { name: /^Yes, to/ }).click();
      await page.getByText('the last of its copies are due', { exact: false }).waitFor({ timeout: 120_000 });
      await page.getByText('Its first two days').waitFor({ timeout: 60_000 });
    },
  },
  {
    name: 'rule',
    path: `${DESK}/auto-sends`,
    reach: async (page, world) => {
      for (const [title, text] of NEW_POSTS)
        await fetch(`${originOf(world.ports, 'blog')}/publish`, {
          method: 'POST',
          body: new URLSearchParams({ title, summary: text.split('. ')[0]!, text }),
        });
      await fetch(`${originOf(world.ports, 'clock')}/advance`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ ms: 180_000 }),
      });
      await page.getByRole('link', { name: 'New posts on Lanternfish' }).click();
      // Mailed one by one to most, and gathered for who wants them daily.
      await page.getByRole('list', { name: 'The next five' }).getByText('ready').waitFor({ timeout: 120_000 });
    },
  },
  {
    name: 'digest',
    path: `${DESK}/auto-sends`,
    reach: async (page) => {
      await page.getByRole('link', { name: 'New posts on Lanternfish' }).click();
      await page.getByRole('link', { name: 'Look', exact: true }).click();
      await page.getByRole('heading', { level: 1, name: /and 1 more/ }).waitFor();
    },
  },
];

/** The page on which one of the demo's readers chooses, as the link in their letters leads to it. */
async function choicesOfSomebody(home: Home, world: World): Promise<string> {
  const { keys, linkOrigin } = readConfig(insideEnv(home, world));
  const client = new pg.Client({ connectionString: world.databaseUrl });
  await client.connect();
  const { rows } = await client.query<{ id: string }>(
    "select id from readers where standing = 'reading' and exists (select 1 from reader_rhythms x where x.reader_id = readers.id and x.lane = 'weekly') order by lists_reading desc, created_at desc limit 1",
  );
  await client.end();
  return `${linkOrigin}/e/choices/${leaveToken({ readerId: rows[0]!.id, delivery: null }, 'choices', keys)}`;
}

/**
 * Takes a picture of each main view of the running demo, at 1280x800 (or WxH), into docs/screenshots or another folder. Words narrow it
 * down to views whose name holds one; paths (`/desk/…`) are taken as they are.
 */
export async function pictures(home: Home, words: string[], say: (text: string) => void): Promise<void> {
  ensure(['chromium'], say);
  const world = readState<World | null>(home, 'world.json', null);
  if (!world) throw new Error('The demo does not run. Start it first: ./inkset demo');
  const option = (name: string) => words.find((word) => word.startsWith(`--${name}=`))?.slice(name.length + 3);
  const [width = 1280, height = 800] = (option('size') ?? '1280x800').split('x').map(Number);
  const folder = option('into') ?? join(ROOT, 'docs/screenshots');
  const colorScheme = option('theme') === 'dark' ? 'dark' : 'light';
  const wanted = words.filter((word) => !word.startsWith('--'));
  const views = [
    ...VIEWS.filter((view) => wanted.length === 0 || wanted.includes(view.name)),
    ...wanted
      .filter((word) => word.startsWith('/'))
      .map((path) => ({ name: path.replace(/\W+/g, '-').slice(1), path, reach: undefined })),
  ];
  mkdirSync(folder, { recursive: true });
  const browser: Browser = await chromium.launch({ executablePath: CHROMIUM, args: BROWSER_FLAGS });
  try {
    const page = await (await browser.newContext({ viewport: { width, height }, colorScheme })).newPage();
    const origin = originOf(world.ports, 'web');
    await page.goto(`${origin}/sign-in`);
    await page.getByLabel('Email').fill(ACCOUNT.email);
    await page.getByLabel('Password').fill(ACCOUNT.password);
    await page.getByRole('button', { name: 'Sign in' }).click();
    await page.waitForURL(/\/desk\//);
    for (const { name, path, reach } of views) {
      await page.goto(path.startsWith('/') ? `${origin}${path}` : path);
      if (reach) {
        await reach(page, world, home);
        await page.waitForURL((url) => url.pathname !== path.split('?')[0]);
      }
      await page.waitForLoadState('networkidle');
      await page.screenshot({ path: join(folder, `${name}.png`), fullPage: words.includes('--full') });
      say(`  ${join(folder, `${name}.png`)}`);
    }
  } finally {
    await browser.close();
  }
}

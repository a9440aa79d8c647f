import { existsSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { build } from 'esbuild';
import { chromium, type Page } from 'playwright-core';
import sharp from 'sharp';
import type { Document, Node } from '@/core/writing/document';
import { renderHtml } from '@/core/writing/render';
import { ROOT } from '../cli/home';
import type { Figure } from './report';

const FLAGS =
  '--no-sandbox --disable-gpu --disable-background-networking --disable-component-update --disable-sync --no-first-run --disable-quic';
const KEYS = 80;
/** Between two keys: while somebody types on, and with a pause after each, in which all of it is read and kept. */
const TYPING_MS = 110;
const PAUSING_MS = 420;
const OPENINGS = 9;

const WORDS =
  'the lantern goes down slowly and the dark comes up to meet it nobody says a word until the line is slack again and somebody counts'.split(
    ' ',
  );
const sentence = (words: number, from: number) =>
  Array.from({ length: words }, (_, n) => WORDS[(from * 7 + n * 3) % WORDS.length]).join(' ');
const paragraph = (words: number, from: number): Node => ({
  kind: 'paragraph',
  inline: [
    { kind: 'text', text: `${sentence(words - 5, from)} ` },
    { kind: 'text', text: sentence(5, from + 1), marks: ['italic'] },
  ],
});

/** So many words in paragraphs of fifty, with pictures and headings among them. */
function post(words: number, pictures: number, origin = ''): Document {
  const nodes: Node[] = [];
  const blocks = Math.round(words / 50);
  for (let n = 0; n < blocks; n += 1) {
    if (n % 12 === 0) nodes.push({ kind: 'heading', level: 2, inline: [{ kind: 'text', text: sentence(4, n) }] });
    nodes.push(paragraph(50, n));
    if (pictures && n % Math.max(1, Math.floor(blocks / pictures)) === 0)
      nodes.push({ kind: 'picture', src: `${origin}/picture.png?${n}`, alt: sentence(6, n) });
  }
  return { version: 1, nodes };
}

async function bundled(): Promise<string> {
  const { outputFiles } = await build({
    entryPoints: [join(ROOT, 'bench/writing-page.tsx')],
    bundle: true,
    minify: true,
    format: 'iife',
    target: 'es2022',
    jsx: 'automatic',
    write: false,
    define: { 'process.env.NODE_ENV': '"production"' },
    alias: { '@': join(ROOT, 'src'), 'next/link': join(ROOT, 'bench/plain-link.tsx') },
    logLevel: 'error',
  });
  return outputFiles[0]!.text;
}

type Slice = {
  name: string;
  ph: string;
  pid: number;
  tid: number;
  ts: number;
  dur?: number;
  tdur?: number;
  args?: { data?: { message?: string } };
};

/** Milliseconds of main-thread work after each key until the next, in the middle of a post. */
async function keystrokes(tab: Page, gap: number): Promise<number[]> {
  const session = await tab.context().browser()!.newBrowserCDPSession();
  const slices: Slice[] = [];
  session.on('Tracing.dataCollected', (event) => slices.push(...(event.value as unknown as Slice[])));
  await tab.evaluate(() => {
    const all = [...document.querySelectorAll('.letter-words > p')].filter(
      (one) => (one.firstChild?.textContent?.length ?? 0) > 3,
    );
    const middle = all[Math.floor(all.length / 2)]!;
    middle.scrollIntoView({ block: 'center' });
    getSelection()!.collapse(middle.firstChild, 3);
  });
  await tab.waitForTimeout(800);
  await session.send('Tracing.start', {
    traceConfig: { includedCategories: ['toplevel', 'devtools.timeline'] },
    transferMode: 'ReportEvents',
  });
  for (let n = 0; n < KEYS; n += 1) {
    await tab.evaluate(() => console.timeStamp('key'));
    await tab.keyboard.press('abcdefgh'[n % 8]!);
    await tab.waitForTimeout(gap);
  }
  await tab.evaluate(() => console.timeStamp('key'));
  const complete = new Promise((resolve) => session.once('Tracing.tracingComplete', resolve));
  await session.send('Tracing.end');
  await complete;
  await session.detach();
  const marks = slices.filter((one) => one.name === 'TimeStamp' && one.args?.data?.message === 'key');
  const main = marks[0]!;
  const tasks = slices.filter(
    ({ name, ph, pid, tid }) => name === 'ThreadControllerImpl::RunTask' && ph === 'X' && pid === main.pid && tid === main.tid,
  );
  // The first few warm up.
  return marks.slice(4, -1).map((mark, n) => {
    const until = marks[n + 5]!.ts;
    return tasks.filter((task) => task.ts >= mark.ts && task.ts < until).reduce((sum, task) => sum + (task.tdur ?? 0), 0) / 1000;
  });
}

const at = (all: number[], share: number) => [...all].sort((a, b) => a - b)[Math.floor(all.length * share)]!;

/** What writing costs: a key in a long post, opening it, and making a letter of it; each beside the same of an empty or a bare one. */
export async function writing(): Promise<Figure[]> {
  if (!existsSync('/usr/bin/chromium')) throw new Error('This needs Chromium: apt-get install chromium');
  const script = await bundled();
  const picture = await sharp({ create: { width: 1200, height: 600, channels: 3, background: '#17645c' } })
    .png()
    .toBuffer();
  let revision = 1;
  const server = createServer((request, response) => {
    const path = (request.url ?? '/').split('?')[0];
    const json = (value: unknown) => response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(value));
    request.resume();
    if (path === '/')
      return response
        .writeHead(200, { 'content-type': 'text/html' })
        .end('<!doctype html><div id="root"></div><script src="/page.js"></script>');
    if (path === '/page.js') return response.writeHead(200, { 'content-type': 'text/javascript' }).end(script);
    if (path === '/picture.png')
      return response.writeHead(200, { 'content-type': 'image/png', 'cache-control': 'max-age=600' }).end(picture);
    if (path === '/document')
      return json(request.url!.includes('long') ? post(10_000, 40) : { version: 1, nodes: [paragraph(15, 1)] });
    if (path === '/hold') return json({ mine: true, by: 'me', revision });
    if (path === '/save') {
      revision += 1;
      return json({ revision, savedAt: new Date().toISOString() });
    }
    return json([]);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const origin = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: FLAGS.split(' ') });
  const opened = async (which: string): Promise<{ tab: Page; ms: number }> => {
    revision = 1;
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
    const tab = await context.newPage();
    await tab.goto(`${origin}/?${which}`);
    await tab.locator('.letter-words > p').first().waitFor();
    // From what the server answered to a page that takes keys and has been painted.
    const ms = await tab.evaluate(
      () =>
        new Promise<number>((resolve) =>
          requestAnimationFrame(() =>
            setTimeout(() => resolve(performance.now() - performance.getEntriesByName('there')[0]!.startTime), 0),
          ),
        ),
    );
    return { tab, ms };
  };
  try {
    const openings: Record<string, number[]> = { long: [], short: [] };
    for (let round = 0; round <= OPENINGS; round += 1)
      for (const [which, all] of Object.entries(openings)) {
        const { tab, ms } = await opened(which);
        if (round > 0) all.push(ms);
        await tab.context().close();
      }
    const keys: Record<string, Record<string, number[]>> = {};
    for (const which of ['short', 'long']) {
      const { tab } = await opened(which);
      keys[which] = { typing: await keystrokes(tab, TYPING_MS), pausing: await keystrokes(tab, PAUSING_MS) };
      await tab.context().close();
    }
    return [
      {
        name: 'main-thread work of a key while typing on, in 10,000 words with 40 pictures, p95',
        value: at(keys.long!.typing!, 0.95),
        unit: 'ms',
        yardstick: 'same in fifteen words',
        yardstickValue: at(keys.short!.typing!, 0.95),
        aim: { atMost: 16 },
      },
      {
        name: 'the same with a pause after each key, in which all of it is read and kept, p95',
        value: at(keys.long!.pausing!, 0.95),
        unit: 'ms',
        yardstick: 'same in fifteen words',
        yardstickValue: at(keys.short!.pausing!, 0.95),
        // More than this is a task that a browser calls long.
        aim: { atMost: 50 },
      },
      {
        name: 'opening 10,000 words with 40 pictures, median',
        value: at(openings.long!, 0.5),
        unit: 'ms',
        yardstick: 'opening fifteen words',
        yardstickValue: at(openings.short!, 0.5),
        aim: { atMost: 1_000 },
      },
      ...(await rendering()),
    ];
  } finally {
    await browser.close();
    server.close();
  }
}

async function rendering(): Promise<Figure[]> {
  const frame = {
    brand: { name: 'Lanternfish Letters', colour: '#17645c', language: 'en' },
    colophon: { reasonLine: 'You asked for it.', postalAddress: 'PO Box 600' },
    previewLine: 'A line',
    countsOpens: true,
  };
  const twelve = { version: 1 as const, nodes: post(400, 4).nodes.slice(0, 12) };
  const time = async (document: Document) => {
    const all: number[] = [];
    for (let n = 0; n < 30; n += 1) {
      const from = performance.now();
      await renderHtml(document, frame);
      if (n >= 5) all.push(performance.now() - from);
    }
    return at(all, 0.5);
  };
  const empty = await time({ version: 1, nodes: [] });
  const figure = async (name: string, document: Document, atMost: number): Promise<Figure> => ({
    name,
    value: await time(document),
    unit: 'ms',
    yardstick: 'frame of an empty letter',
    yardstickValue: empty,
    aim: { atMost },
  });
  return [
    await figure('rendering a letter of 12 blocks, warm', twelve, 50),
    await figure('rendering 3,000 words, warm', post(3_000, 10), 100),
  ];
}

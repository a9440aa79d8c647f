import { existsSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { build } from 'esbuild';
import { chromium } from 'playwright-core';
import { type FormCode, formCodes } from '@/core/forms/codes';
import { startingForm } from '@/core/forms/definition';
import { formCss } from '@/core/forms/look';
import { formHtml, scriptHtml, thanksHtml } from '@/core/forms/render';
import { wordsOf } from '@/core/forms/words';
import { ROOT } from '../cli/home';
import { type Figure, median } from './report';

const ROUNDS = 15;
/** Long enough for the page to have come to rest. */
const WATCHED_MS = 1_000;
/** Long enough for what the script says of its form to have gone out, once the page is put away. */
const LEAVING_MS = 300;
const FLAGS =
  '--no-sandbox --disable-gpu --disable-background-networking --disable-component-update --disable-sync --no-first-run --disable-quic';

/** The script line's answer and a page of an article, with the line, with the same form as plain HTML, and without either. */
async function pages(): Promise<Record<string, { type: string; text: string }>> {
  const { outputFiles } = await build({
    entryPoints: [join(ROOT, 'src/embed/form.ts')],
    bundle: true,
    minify: true,
    format: 'iife',
    target: 'es2020',
    write: false,
  });
  const form = startingForm('Lanternfish Letters');
  const publicId = '000000000000';
  const [{ code }] = formCodes({ publicId, definition: form, lists: [] }, '') as [FormCode];
  const line = code.replace(/<noscript>.*<\/noscript>/, '');
  const plain = formHtml({ form, action: '/e/form/0' });
  const html = scriptHtml({ form, action: '/e/form/0' });
  const css = formCss(form.look, 'block', html);
  const version = { css, html, thanks: thanksHtml(form), redirect: '', placement: form.placement, away: wordsOf('en').away };
  const data = JSON.stringify({ id: publicId, action: '/e/form/0', a: version, b: null });
  const paragraph = `<p>${'The lantern goes down slowly, the dark comes up to meet it, and nobody says a word. '.repeat(8)}</p>`;
  const article = (line: string) => ({
    type: 'text/html; charset=utf-8',
    text: `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Six hundred metres down</title><style>body{max-width:40em;margin:auto;font:18px/1.6 Georgia,serif}</style></head><body><article><h1>Six hundred metres down</h1>${paragraph.repeat(12)}${line}${paragraph.repeat(4)}</article></body></html>`,
  });
  return {
    [`/e/form/${publicId}.js`]: { type: 'text/javascript', text: outputFiles[0]!.text.replace('__FORM__', () => data) },
    '/with': article(line),
    '/plain': article(`<style>${css}</style>${plain}`),
    '/without': article(''),
  };
}

type Slice = { name: string; ph: string; pid: number; tid: number; ts: number; dur?: number; tdur?: number };
/** Milliseconds of processor time until the page has come to rest, and when it is put away. */
type Cost = { loading: number; leaving: number };

/**
 * What the script line costs a page: processor time of the page's main thread over all its tasks (scripts, styles, layout, painting) until it has
 * come to rest, in Chromium with nothing cached; the same article with the line, with the form as plain HTML, and without; medians of the
 * differences round by round. What the message of what happened costs when the page is put away is told beside it.
 */
export async function embed(): Promise<Figure> {
  if (!existsSync('/usr/bin/chromium')) throw new Error('This needs Chromium: apt-get install chromium');
  const served = await pages();
  const server = createServer((request, response) => {
    const found = served[request.url ?? ''];
    response.writeHead(found ? 200 : 204, { 'content-type': found?.type ?? 'text/plain', 'cache-control': 'no-store' });
    response.end(found?.text);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const origin = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: FLAGS.split(' ') });

  const mainThread = async (path: string): Promise<Cost> => {
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
    const tab = await context.newPage();
    await tab.goto('about:blank');
    const session = await browser.newBrowserCDPSession();
    const slices: Slice[] = [];
    session.on('Tracing.dataCollected', (event) => slices.push(...(event.value as unknown as Slice[])));
    const categories = ['toplevel', 'devtools.timeline'];
    await session.send('Tracing.start', { traceConfig: { includedCategories: categories }, transferMode: 'ReportEvents' });
    await tab.goto(origin + path, { waitUntil: 'load' });
    await tab.waitForTimeout(WATCHED_MS);
    // In all three pages, since asking for it costs something too.
    await tab.evaluate(() => {
      console.timeStamp('away');
      dispatchEvent(new Event('pagehide'));
    });
    await tab.waitForTimeout(LEAVING_MS);
    const complete = new Promise((resolve) => session.once('Tracing.tracingComplete', resolve));
    await session.send('Tracing.end');
    await complete;
    await session.detach();
    await context.close();
    const main = slices.find((slice) => slice.name === 'ParseHTML')!;
    const tasks = slices.filter(
      ({ name, ph, pid, tid }) => name === 'ThreadControllerImpl::RunTask' && ph === 'X' && pid === main.pid && tid === main.tid,
    );
    const away = slices.find((slice) => slice.name === 'TimeStamp')!.ts;
    const spent = (some: Slice[]) => some.reduce((sum, task) => sum + (task.tdur ?? 0), 0) / 1000;
    const before = (task: Slice) => task.ts + (task.dur ?? 0) < away;
    return { loading: spent(tasks.filter(before)), leaving: spent(tasks.filter((task) => !before(task))) };
  };

  try {
    const times: Record<string, Cost[]> = { '/with': [], '/plain': [], '/without': [] };
    for (let round = 0; round <= ROUNDS; round += 1) {
      for (const [path, all] of Object.entries(times)) {
        const took = await mainThread(path);
        // The first round warms up.
        if (round > 0) all.push(took);
      }
    }
    const loading = (path: string) => median(times[path]!.map((cost) => cost.loading)).toFixed(1);
    // Round by round, so that a machine that grows slower meanwhile counts on both sides.
    const added = (path: string, part: keyof Cost) =>
      median(times[path]!.map((cost, round) => cost[part] - times['/without']![round]![part]));
    console.log(
      `  the page alone ${loading('/without')} ms, with the form as plain HTML ${loading('/plain')} ms, with the script line ${loading('/with')} ms; ${added('/with', 'leaving').toFixed(1)} ms more when the page is put away`,
    );
    return {
      name: 'main-thread time that the script line adds',
      value: added('/with', 'loading'),
      unit: 'ms',
      yardstick: 'same form as plain HTML',
      yardstickValue: added('/plain', 'loading'),
      aim: { atMost: 20 },
    };
  } finally {
    await browser.close();
    server.close();
  }
}

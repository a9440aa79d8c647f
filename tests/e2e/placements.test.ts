import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { sql } from 'kysely';
import type { Page } from 'playwright-core';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { type FormCode, formCodes } from '../../src/core/forms/codes';
import { type FormDefinition, startingForm } from '../../src/core/forms/definition';
import { LOOKS } from '../../src/core/forms/look';
import { PLACEMENTS, type Placement, type PlacementKind, STARTING_PLACEMENT } from '../../src/core/forms/placement';
import { formHtml } from '../../src/core/forms/render';
import { imitationPage } from '../../src/core/forms/stand';
import { FORM_WORDS } from '../../src/core/forms/words';
import type { Context, Newsletter } from '../../src/server/context';
import { formOf, publishForm, saveDraft } from '../../src/server/forms/forms';
import { accessibilityFaults } from './axe';
import { TestWorld } from './world';

/** The share of pixels in which two pictures of one size differ to the eye. */
async function difference(a: Buffer, b: Buffer): Promise<number> {
  const [one, other] = await Promise.all(
    [a, b].map((png) => sharp(png).removeAlpha().raw().toBuffer({ resolveWithObject: true })),
  );
  expect([one!.info.width, one!.info.height]).toEqual([other!.info.width, other!.info.height]);
  let apart = 0;
  for (let at = 0; at < one!.data.length; at += 3)
    if ([0, 1, 2].some((n) => Math.abs(one!.data[at + n]! - other!.data[at + n]!) > 24)) apart += 1;
  return apart / (one!.data.length / 3);
}

let world: TestWorld;
beforeAll(async () => {
  world = await TestWorld.open();
});
afterAll(() => world?.close());

describe('a form on somebody’s page, wherever it stands', () => {
  let ctx: Context;
  let newsletter: Newsletter;
  let form: Awaited<ReturnType<typeof formOf>>;
  let builder: Page;
  beforeAll(async () => {
    const founded = await world.founded('Saltmarsh Letters', 'saltmarsh.example');
    ({ ctx, newsletter, desk: builder } = founded);
    form = await founded.form('After every article');
    await world.post('blog', '/code', { code: await codeOf('script') });
    await world.olderPost();
  });

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

  const OVER = ['ribbon', 'corner card', 'pop-up'];
  const dark = { on: true, background: '#14171d', ink: '' };

  it.each(PLACEMENTS)(
    '%s: at 360 pixels in the dark and wide in the light, it can be read, sent in, closed, and is thanked',
    async (kind) => {
      await place(kind, { look: { ...form.definition.look, dark } });
      for (const options of [narrow, { colorScheme: 'light' as const }]) {
        const { page, box } = await open(options);
        await box.getByLabel('Email', { exact: true }).waitFor();
        expect(await accessibilityFaults(page)).toEqual([]);
        expect(await page.evaluate(() => document.documentElement.scrollWidth - innerWidth)).toBeLessThanOrEqual(0);
        if (OVER.includes(kind)) {
          const cross = box.getByRole('button', { name: 'Close' });
          expect(await cross.boundingBox()).toMatchObject({ width: 44, height: 44 });
          const first = await box.evaluate(
            (host) => host.shadowRoot!.querySelector('button,input:not([type=hidden]),a')?.className,
          );
          expect(first).toBe('ink-close');
          await cross.click();
          await box.waitFor({ state: 'detached' });
          await page.evaluate(() => localStorage.clear());
          await page.reload();
        }
        await box
          .getByLabel('Email', { exact: true })
          .fill(`${kind.replace(/\W/g, '')}-${options === narrow ? 'n' : 'w'}@heronmail.example`);
        await box.getByRole('button', { name: 'Send me the next one' }).click();
        await box.getByText('Nearly there').waitFor();
        expect(await accessibilityFaults(page)).toEqual([]);
        await page.reload();
        // What comes over the page does not come to somebody who joined; what stands in it stays.
        await page.getByRole('heading', { name: 'An older post' }).waitFor();
        if (OVER.includes(kind)) expect(await box.count()).toBe(0);
        else await box.getByLabel('Email', { exact: true }).waitFor();
        await page.context().close();
      }
    },
  );

  it.each(PLACEMENTS)(
    '%s: the builder shows what the page shows, wide, on a phone, dark, and from right to left',
    async (kind) => {
      const variants: [part: Partial<FormDefinition>, width: number, scheme: 'light' | 'dark'][] = [
        // Of odd widths, so that the page stands on whole pixels in its column.
        [{}, 899, 'light'],
        [{ look: { ...form.definition.look, align: 'centre', dark } }, 521, 'dark'],
        [{ ...startingForm(newsletter.name, 'ar'), look: { ...form.definition.look, ...LOOKS['Paper slip'] } }, 391, 'light'],
      ];
      for (const [part, width, colorScheme] of variants) {
        await place(kind, part);
        const { definition } = await formOf(ctx, newsletter, form.id);
        await builder.emulateMedia({ colorScheme });
        await builder.goto(world.at('web', `/desk/${newsletter.slug}/forms/${form.id}`));
        await builder.getByRole('button', { name: 'One line to paste' }).click();
        await builder.getByLabel('Width of the page, in pixels').fill(String(width));
        const stage = builder.locator('iframe[title="The form on a page"]');
        await expect.poll(async () => Math.round((await stage.boundingBox())!.width)).toBe(width);
        const preview = await stage.screenshot({ animations: 'disabled' });
        const height = Math.round((await stage.boundingBox())!.height);
        const line = `<script async src="${world.at('edge')}/e/form/${form.publicId}.js"></script>`;
        const imitation = imitationPage(definition, '').replace(/<div data-inkset-form>.*<\/template><\/div>/s, line);
        expect(imitation).toContain(line);
        const served = await site(imitation);
        const page = await (await world.visitor({ viewport: { width, height }, colorScheme })).newPage();
        await page.goto(served.origin);
        const box = page.locator('[data-inkset-form]');
        await box.locator('input[name=email]').waitFor();
        await box.evaluate((host) => (host.shadowRoot!.activeElement as HTMLElement | null)?.blur());
        const shown = await page.screenshot({ animations: 'disabled' });
        served.close();
        await page.context().close();
        expect(await difference(preview, shown), `${width} ${colorScheme} ${definition.language}`).toBeLessThan(0.001);
      }
      await place('panel');
    },
  );

  it('one line is one line from 480 pixels on, in every language', async () => {
    for (const language of Object.keys(FORM_WORDS)) {
      const one = { ...startingForm(newsletter.name, language), placement: { ...STARTING_PLACEMENT, kind: 'one line' as const } };
      const served = await site(
        imitationPage(one, formHtml({ form: one, action: '#' })).replace(/body\{[^}]*\}/, 'body{margin:0}'),
      );
      const page = await (await world.visitor({ viewport: { width: 480, height: 600 } })).newPage();
      await page.goto(served.origin);
      const rows = () =>
        page.locator('[data-inkset-form]').evaluate((host) => {
          const boxes = [...host.shadowRoot!.querySelectorAll('h2,.ink-field,button')].map((one) => one.getBoundingClientRect());
          return Math.max(...boxes.map((box) => box.top)) < Math.min(...boxes.map((box) => box.bottom)) ? 1 : 2;
        });
      expect([language, await rows()]).toEqual([language, 1]);
      await page.setViewportSize({ width: 400, height: 600 });
      expect([language, await rows()]).toEqual([language, 2]);
      served.close();
      await page.context().close();
    }
  });

  it('a panel fills what it stands in, or has the width that was set, and no look leaves its parts apart', async () => {
    for (const [width, align] of [
      [0, 'start'],
      [0, 'centre'],
      [420, 'centre'],
    ] as const) {
      await place('panel', { look: { ...form.definition.look, width, align } });
      const { page, box } = await open();
      await box.getByLabel('Email', { exact: true }).waitFor();
      const {
        form: inner,
        around,
        parts,
      } = await box.evaluate((host) => {
        const box = (element: Element) => element.getBoundingClientRect();
        const root = host.shadowRoot!;
        return {
          form: box(root.querySelector('.ink-form')!).width,
          around: host.parentElement!.clientWidth - 2 * Number.parseFloat(getComputedStyle(host.parentElement!).paddingLeft),
          parts: [...root.querySelectorAll('h2,.ink-form>p,.ink-row')].map((part) => {
            const range = document.createRange();
            range.selectNodeContents(part);
            const [at, all] = [range.getBoundingClientRect(), box(root.querySelector('.ink-form')!)];
            return { start: at.left - all.left, middle: (at.left + at.right) / 2 - (all.left + all.right) / 2 };
          }),
        };
      });
      expect(inner).toBeCloseTo(width ? Math.min(width, around) : around, 0);
      const places = parts.map((part) => Math.round(align === 'centre' ? part.middle : part.start));
      expect(Math.max(...places) - Math.min(...places), align).toBeLessThanOrEqual(2);
      await page.context().close();
    }
    await place('panel');
  });

  it('is live on the next page that is opened, and costs nothing while it stays as it is', async () => {
    await place('panel');
    const { page, box } = await open();
    await box.getByRole('button', { name: 'Send me the next one' }).waitFor();
    const again = await page
      .waitForResponse((response) => response.url().endsWith('.js') && response.url().includes('/e/form/'), {
        timeout: 1_000,
      })
      .catch(() => null);
    expect(again).toBe(null);
    const url = world.at('edge', `/e/form/${form.publicId}.js`);
    const first = await fetch(url);
    expect(first.headers.get('cache-control')).toBe('public, no-cache');
    const etag = first.headers.get('etag')!;
    expect((await fetch(url, { headers: { 'if-none-match': etag } })).status).toBe(304);
    await place('panel', { button: 'Yes please' });
    expect((await fetch(url, { headers: { 'if-none-match': etag } })).status).toBe(200);
    await page.reload();
    await box.getByRole('button', { name: 'Yes please' }).waitFor();
    await page.context().close();
    await place('panel');
  });

  it('holds back what is no address, and tells what happened when the page is put away, not while it is read', async () => {
    await place('panel');
    const quiet = await site(`<!doctype html><html lang="en"><title>Quiet</title><main>${await codeOf('script')}</main>`);
    const page = await (await world.visitor()).newPage();
    page.setDefaultTimeout(10_000);
    await page.goto(`${quiet.origin}/quiet`);
    const sent: string[] = [];
    page.on('request', (request) => sent.push(request.url()));
    const email = page.getByLabel('Email', { exact: true });
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
    const code = await codeOf('room');
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
      await page.locator('[data-inkset-form]').getByLabel('Email', { exact: true }).waitFor();
      await page.evaluate(() => new Promise((resolve) => requestAnimationFrame(() => requestAnimationFrame(resolve))));
      expect(
        await page.evaluate(() => (window as unknown as { shift: number }).shift),
        `${width} pixels wide, column ${column}`,
      ).toBe(0);
      await page.context().close();
    }
    await world.post('blog', '/code', { code: await codeOf('script') });
  });

  it('gives back the room that was kept once it stands elsewhere', async () => {
    const code = await codeOf('room');
    await place('ribbon');
    const served = await site(
      `<!doctype html><html lang="en"><title>A site</title><main><h1>A post</h1>${code}<p>Below</p></main></html>`,
    );
    const page = await (await world.visitor()).newPage();
    await page.goto(served.origin);
    await page.locator('[data-inkset-form]').getByLabel('Email', { exact: true }).waitFor();
    expect((await page.locator('[data-inkset-room]').boundingBox())!.height).toBe(0);
    served.close();
    await page.context().close();
    await place('panel');
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
    await box.getByLabel('Email', { exact: true }).fill('strict@heronmail.example');
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
    await box.getByLabel('Email', { exact: true }).fill('patient@heronmail.example');
    await box.getByRole('button', { name: 'Send me the next one' }).click();
    await box.getByText('Nearly there').waitFor();
    expect(statuses).toEqual([428, 200]);
    const own = world.at('edge', `/e/form/${form.publicId}`);
    await page.goto(own);
    await page.getByLabel('Email', { exact: true }).fill('patient-too@heronmail.example');
    await page.getByRole('button', { name: 'Send me the next one' }).click();
    await page.getByText('Nearly there').waitFor();
    await page.context().close();
    const plain = await (await world.visitor({ javaScriptEnabled: false })).newPage();
    await plain.goto(own);
    await plain.getByLabel('Email', { exact: true }).fill('without@heronmail.example');
    await plain.getByRole('button', { name: 'Send me the next one' }).click();
    await plain.getByText('wait 15 seconds').waitFor();
    expect(await plain.getByLabel('Email', { exact: true }).inputValue()).toBe('without@heronmail.example');
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
    await box.getByLabel('Email', { exact: true }).fill('later@heronmail.example');
    await page.route(/\/e\/form\/[0-9a-f]+$/, (route) => route.abort());
    await box.getByRole('button', { name: 'Send me the next one' }).click();
    await box.getByRole('alert').filter({ hasText: 'you are not signed up yet' }).waitFor();
    expect(await box.getByLabel('Email', { exact: true }).inputValue()).toBe('later@heronmail.example');
    await page.context().close();
  });
});

import { readFileSync } from 'node:fs';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openHome } from '../../cli/home';
import { startPostgres, stopPostgres } from '../../cli/postgres';
import { startProcess, stopProcess } from '../../cli/processes';
import { insideEnv, plans } from '../../cli/world';
import { loadDemo } from '../../demo/load';
import { accessibilityFaults } from './axe';
import { TestWorld } from './world';

let world: TestWorld;
beforeAll(async () => {
  world = await TestWorld.open();
});
afterAll(() => world?.close());

describe('with the demo newsletter', () => {
  let page: Page;
  it('loads and shows its figures', async () => {
    const { home, world: plan } = world.stack;
    const { account } = await loadDemo(insideEnv(home, plan), { dnsPage: world.at('dnsPage'), blog: world.at('blog') }, () => {});
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

  it('tells how a provider came to refuse: the domain’s checks say when its mail host could not be reached, and when it was mended', async () => {
    await go('delivery');
    await page.getByRole('link', { name: 'lanternfish.example', exact: true }).click();
    const checks = page.getByRole('table', { name: 'Checks' });
    await checks.getByText('Replies: takes no mail').waitFor();
    expect(await checks.getByRole('row').count()).toBe(5);
    const { rows } = await query<{ n: string }>(
      "select count(*) as n from deliveries d join domain_checks c on c.verdicts::text like '%Takes no mail%' where d.response like '550 5.1.8%' and d.due_at > c.at",
    );
    expect(Number(rows[0]!.n)).toBeGreaterThan(100);
  });

  const slug = () => /desk\/([^/]+)/.exec(page.url())![1]!;
  const go = async (path: string) => {
    await page.goto(world.at('web', `/desk/${slug()}/${path}`));
    await page.getByRole('heading', { level: 1 }).first().waitFor();
  };
  const number = (text: string) => Number(text.replace(/[^\d]/g, ''));
  /** The figure that stands under a word, in a list of words and figures. */
  const under = async (word: string) =>
    number(
      await page
        .locator('dl > div', { has: page.locator('dt', { hasText: word }) })
        .first()
        .locator('b, span')
        .first()
        .innerText(),
    );

  const under2 = async (word: string) =>
    number(
      await page
        .locator('aside dl > div', { has: page.locator('dt', { hasText: word }) })
        .locator('dd b')
        .innerText(),
    );

  it('no figure differs between the screens that show it', async () => {
    await go('today');
    const reading = number(
      await page
        .getByText(/people read Lanternfish/)
        .locator('b')
        .first()
        .innerText(),
    );
    const funnel = async (word: string) =>
      number(
        await page
          .locator('dl > div', { has: page.locator('dt', { hasText: word }) })
          .locator('dd b')
          .innerText(),
      );
    const steps = {
      shown: await funnel('Shown'),
      asked: await funnel('Signed up'),
      confirmed: await funnel('Confirmed'),
      now: await funnel('Read now'),
    };
    expect(steps.asked).toBeGreaterThan(50);
    expect([steps.confirmed <= steps.asked, steps.now <= steps.confirmed]).toEqual([true, true]);
    const waiting = number(await page.getByText(/sign-ups never confirmed/).innerText());

    await go('readers');
    const said = await page.getByRole('main').locator('header').innerText();
    expect(said).toContain(new Intl.NumberFormat('en-GB').format(reading));
    expect(said).toContain(`${waiting} wait`);
    // What stands beside a list, a tag, a source or a form is how many it then shows; and lists and tags say the same where they are kept.
    const beside = new Map<string, number>();
    for (const facet of [
      'Unsubscribed',
      'Cannot be reached',
      'Thursday letters',
      'Read everything',
      'from an article',
      'tidelines-weekly',
      'Corner card',
    ]) {
      await go('readers');
      const link = page.getByRole('complementary').getByRole('link', { name: new RegExp(`^${facet}`) });
      const figure = await link.locator('b').innerText();
      beside.set(facet, number(figure));
      await link.click();
      await page.getByText(`${figure} ${number(figure) === 1 ? 'person' : 'people'}`, { exact: true }).waitFor();
    }
    await go('settings/lists');
    for (const [table, name] of [
      ['Lists', 'Thursday letters'],
      ['Tags', 'from an article'],
    ] as const) {
      const row = page.getByRole('table', { name: table }).getByRole('row', { name: new RegExp(`^${name}`) });
      expect(number(await row.getByRole('cell').nth(1).innerText())).toBe(beside.get(name));
    }

    await go('growth');
    expect(number(await page.getByRole('main').locator('header b').first().innerText())).toBe(reading);
    const step = async (name: string) =>
      number(
        await page
          .getByRole('table', { name: 'From seen to reading' })
          .getByRole('row', { name: new RegExp(`^${name}`) })
          .getByRole('cell')
          .nth(1)
          .innerText(),
      );
    expect([await step('Signed up'), await step('Confirmed')]).toEqual([steps.asked, steps.confirmed]);
    const forms = page.getByRole('table', { name: 'By form' }).locator('tbody tr');
    const byForm = await forms.evaluateAll((rows) =>
      rows.map((row) => [...row.querySelectorAll('td')].map((cell) => cell.innerText)),
    );
    const sum = (rows: number[]) => rows.reduce((all, one) => all + one, 0);
    expect(sum(byForm.map((row) => number(row[1]!)))).toBe(steps.asked);
    expect(sum(byForm.map((row) => number(row[2]!)))).toBe(steps.confirmed);
    expect(sum(byForm.map((row) => number(row[4]!)))).toBe(steps.now);

    // What landed in junk lately is the last of what is drawn week by week.
    await go('delivery');
    const cells = (name: string) =>
      page
        .getByRole('table', { name })
        .locator('tbody tr')
        .evaluateAll((rows) =>
          rows.map((row) => [...row.querySelectorAll('td, th')].map((cell) => (cell as HTMLElement).innerText)),
        );
    const now = (await cells('Providers')).map((row) => row[4]!.split('\n')[0]);
    await page.getByRole('radio', { name: 'In junk' }).click();
    await page.getByText('As a table').first().click();
    await page.getByRole('table', { name: 'In junk week by week' }).waitFor();
    expect((await cells('In junk week by week')).at(-1)!.slice(1)).toEqual(now);
    expect(now.join()).toMatch(/\d\d to \d\d%/);

    await go('forms');
    const links = await page
      .getByRole('table', { name: 'Forms' })
      .locator('tbody a')
      .evaluateAll((all) => all.map((one) => (one as HTMLAnchorElement).href));
    const found = { shown: 0, asked: 0, confirmed: 0, now: 0 };
    for (const link of links) {
      await page.goto(link);
      await page.getByRole('heading', { name: 'Its last 28 days' }).waitFor();
      const margin = [
        await under2('Shown'),
        await under2('Signed up'),
        await under2('Confirmed'),
        await under2('Read now'),
      ] as const;
      await page.goto(`${link}/figures`);
      expect([await under('Shown'), await under('Signed up'), await under('Confirmed'), await under('Read now')]).toEqual([
        ...margin,
      ]);
      found.shown += margin[0];
      found.asked += margin[1];
      found.confirmed += margin[2];
      found.now += margin[3];
    }
    expect(found).toEqual(steps);

    // What the runway says of a letter, its own page says too.
    await go('today');
    const departure = page
      .getByRole('main')
      .getByRole('link')
      .filter({ hasText: /to [\d,]+$/ })
      .first();
    const will = number(/to ([\d,]+)$/.exec((await departure.innerText()).trim())![1]!);
    await departure.click();
    await page.getByText('Whom it is for').waitFor();
    expect(await under('Will get it')).toBe(will);
  });

  it.each([
    ['wide', { width: 1280, height: 800 }],
    ['on a phone', { width: 390, height: 844 }],
  ])('%s: nothing is cut off, no page scrolls sideways, and axe finds nothing', async (_name, size) => {
    await page.setViewportSize(size);
    await go('letters');
    const letters = page.getByRole('table', { name: 'Letters' });
    const letter = (await letters.locator('a:not([href$="/write"])').first().getAttribute('href'))!.split('/').at(-1)!;
    const draft = (await letters.locator('a[href$="/write"]').first().getAttribute('href'))!.split('/').at(-2)!;
    await go('readers');
    const reader = (await page.getByRole('grid').locator('a').first().getAttribute('href'))!.split('/').at(-1)!;
    await go('forms');
    const form = (await page.getByRole('table', { name: 'Forms' }).locator('a').nth(1).getAttribute('href'))!.split('/').at(-1)!;
    await go('delivery');
    const domain = (await page.locator('a[href*="/domains/"]').first().getAttribute('href'))!.split('/').at(-1)!;
    const faults: string[] = [];
    for (const path of [
      'today',
      'letters',
      `letters/${letter}`,
      `letters/${draft}`,
      `letters/${draft}/write`,
      `letters/${draft}/address`,
      `letters/${draft}/send`,
      `letters/${draft}/versions`,
      'readers',
      `readers/${reader}`,
      'readers/cold',
      'readers/export',
      'forms',
      `forms/${form}`,
      `forms/${form}/figures`,
      'auto-sends',
      'growth',
      'delivery',
      `delivery/domains/${domain}`,
      `delivery/domains/${domain}/zone`,
      'settings',
      'settings/lists',
      'settings/people',
      'settings/relay',
    ]) {
      await go(path);
      const wide = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
      if (wide > 0) faults.push(`${path}: scrolls sideways by ${wide}`);
      faults.push(...(await accessibilityFaults(page)).map((fault) => `${path}: ${fault}`));
    }
    if (size.width < 500) {
      const rows = await page.getByRole('banner').boundingBox();
      expect(rows!.height).toBeLessThanOrEqual(2 * 56);
      await page.getByRole('button', { name: /choose a section/ }).click();
      await page.getByRole('menuitem', { name: 'Growth' }).click();
      await page.getByRole('heading', { level: 1, name: 'Growth' }).waitFor();
    }
    await page.setViewportSize({ width: 1280, height: 800 });
    expect(faults).toEqual([]);
  });

  it('a killed worker, closed doors and a database restart in the middle of a send lose no letter', async () => {
    await go('today');
    const { home, world: plan } = world.stack;
    const { rows } = await query<{ count: string }>(
      "select count(*) from memberships m join lists l on l.id = m.list_id join readers r on r.id = m.reader_id where l.name = 'Thursday letters' and m.state = 'reading' and r.address_state = 'fine' and not exists (select 1 from reader_rhythms x where x.reader_id = r.id)",
    );
    const readers = Number(rows[0]?.count);
    // Whoever chose to get new posts by the day or by the week is not among them.
    expect(readers).toBeGreaterThan(1_500);
    const state = async () =>
      (
        await query<{ state: string; delivered: number; recipients: number; id: string }>(
          "select l.id, l.state, c.delivered, c.recipients from letters l join letter_counts c on c.letter_id = l.id where l.subject = 'Slow light, again' and c.recipients > 1000",
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
    // Whatever is published after this is of other newsletters: two thousand letters of this one would stand before theirs.
    await query('update auto_sends set switched_on_at = null');
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

import { readFileSync } from 'node:fs';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openHome } from '../../cli/home';
import { startPostgres, stopPostgres } from '../../cli/postgres';
import { startProcess, stopProcess } from '../../cli/processes';
import { insideEnv, plans } from '../../cli/world';
import { loadDemo } from '../../demo/load';
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

import { readdirSync, statSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import type { Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { TestWorld } from './world';

let world: TestWorld;
let desk: Page;
let slug: string;
const refused: string[] = [];

beforeAll(async () => {
  world = await TestWorld.open();
  ({ desk, slug } = await world.founded('Harbour Letters', 'harbour.example'));
  desk.on('console', (message) => {
    if (message.type() === 'error') refused.push(`${new URL(desk.url()).pathname}: ${message.text()}`);
  });
});
afterAll(() => world?.close());

describe('the pages of the web process', () => {
  it('work under their own policy: nothing that they need is refused', async () => {
    for (const path of ['today', 'letters', 'readers', 'forms', 'auto-sends', 'growth', 'delivery', 'settings']) {
      await desk.goto(world.at('web', `/desk/${slug}/${path}`));
      await desk.getByRole('heading', { level: 1 }).waitFor();
    }
    await desk.goto(world.at('web', `/at/${slug}`));
    await desk.getByLabel('Email').waitFor();
    // It stands styled, although it has no origin.
    expect(await desk.evaluate(() => getComputedStyle(document.body).margin)).toBe('0px');
    expect(refused).toEqual([]);
  });
  it('a newsletter’s own page has no origin, so nothing in it reaches the desk', async () => {
    await desk.goto(world.at('web', `/at/${slug}`));
    expect(await desk.evaluate(() => self.origin)).toBe('null');
    const tried = await desk.evaluate(() =>
      fetch('/desk', { credentials: 'include' }).then(
        () => 'answered',
        () => 'refused',
      ),
    );
    expect(tried).toBe('refused');
    expect(await desk.evaluate(() => document.cookie).catch(() => 'refused')).toBe('refused');
  });
  it.each([
    ['/%E0%A4%A', 'GET', 400],
    ['/desk/%00/today', 'GET', 400],
    ['/api/auth/verify-email?token=x', 'GET', 404],
  ])('%s is answered with %s %d', async (path, method, status) => {
    expect((await fetch(world.at('web', path), { method, redirect: 'manual' })).status).toBe(status);
  });
  it('a body without end, or beyond what is taken, is not read', async () => {
    const long = await fetch(world.at('web', '/api/auth/sign-in/email'), {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ email: 'x'.repeat(200_000) }),
    });
    expect(long.status).toBe(413);
    // One that does not say how long it is, and does not end.
    const answer = await new Promise<string>((resolve) => {
      const socket = connect(world.stack.world.ports.web, '127.0.0.1', () => {
        socket.write(
          'POST /api/auth/sign-in/email HTTP/1.1\r\nhost: 127.0.0.1\r\ncontent-type: application/json\r\ntransfer-encoding: chunked\r\n\r\n5\r\nxxxxx\r\n',
        );
      });
      socket.once('data', (chunk) => {
        socket.destroy();
        resolve(chunk.toString('latin1'));
      });
      socket.once('error', (error) => resolve(error.message));
    });
    expect(answer).toMatch(/^HTTP\/1\.1 411/);
  });
  it('one more mail of ours cannot confirm an account by being fetched', async () => {
    const page = await fetch(world.at('web', '/verify?token=made-up'));
    expect(await page.text()).toContain('Confirm my address');
    const pressed = await fetch(world.at('web', '/api/verify'), {
      method: 'POST',
      redirect: 'manual',
      body: new URLSearchParams({ token: 'made-up' }),
    });
    expect([pressed.status, pressed.headers.get('location')]).toEqual([303, expect.stringContaining('error')]);
    const foreign = await fetch(world.at('web', '/api/verify'), {
      method: 'POST',
      headers: { origin: 'https://somewhere.example' },
      body: new URLSearchParams({ token: 'made-up' }),
    });
    expect(foreign.status).toBe(403);
  });
});

describe('the state folder of what runs', () => {
  it('holds nothing that another user of the machine could open', () => {
    const open = (path: string): string[] => {
      const own = statSync(path).mode & 0o077 ? [path] : [];
      if (!statSync(path).isDirectory()) return own;
      return [...own, ...readdirSync(path).flatMap((name) => open(join(path, name)))];
    };
    expect(open(world.stack.home.dir)).toEqual([]);
  });
});

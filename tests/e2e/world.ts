import { join } from 'node:path';
import { type Browser, type BrowserContext, chromium, type Page } from 'playwright-core';
import { expect } from 'vitest';
import { openHome, ROOT } from '../../cli/home';
import { BROWSER_FLAGS, CHROMIUM, ensure } from '../../cli/machine';
import { removeHome, stopPostgres } from '../../cli/postgres';
import { stopAll } from '../../cli/processes';
import { type Stack, startStack } from '../../cli/stack';

export /** What a person's browser says; the headless one's own name would be counted as a machine's. */
const AGENT = 'Mozilla/5.0 (X11; Linux x86_64) A browser';

export type Letter = {
  id: string;
  to: string;
  from: string;
  subject: string;
  mailFrom: string;
  verdicts: Record<'spf' | 'dkim' | 'dmarc', { result: string; detail: string }> | null;
};

/** The whole of Inkset and its Backlot as real processes, in a state folder of the tests' own, with a browser in front. */
export class TestWorld {
  private constructor(
    readonly stack: Stack,
    readonly browser: Browser,
  ) {}

  static async open(): Promise<TestWorld> {
    ensure(['postgresql', 'chromium'], () => {});
    // A browser in a test types faster than any person.
    process.env.INKSET_FORM_SECONDS = '0';
    const dir = join(ROOT, '.inkset-e2e');
    const before = openHome(dir);
    await stopAll(before);
    removeHome(before);
    const home = openHome(dir);
    const stack = await startStack(home, { backlot: true, clockStart: '2026-11-24T09:00:00Z' }, () => {});
    return new TestWorld(stack, await chromium.launch({ executablePath: CHROMIUM, args: BROWSER_FLAGS }));
  }

  async close(): Promise<void> {
    await this.browser.close();
    await stopAll(this.stack.home);
    stopPostgres(this.stack.home);
  }

  at(name: 'web' | 'edge' | 'inbox' | 'blog' | 'dnsPage' | 'clock', path = ''): string {
    return `http://127.0.0.1:${this.stack.world.ports[name]}${path}`;
  }

  /** A browser of its own: cookies, storage and all. */
  visitor(
    options: { javaScriptEnabled?: boolean; colorScheme?: 'light' | 'dark'; viewport?: { width: number; height: number } } = {},
  ): Promise<BrowserContext> {
    return this.browser.newContext({ userAgent: AGENT, viewport: { width: 1280, height: 800 }, ...options });
  }

  async post(name: 'blog' | 'dnsPage' | 'inbox', path: string, fields: Record<string, string>): Promise<void> {
    const response = await fetch(this.at(name, path), { method: 'POST', body: new URLSearchParams(fields) });
    expect(response.ok).toBe(true);
  }

  async advance(minutes: number): Promise<void> {
    const headers = { 'content-type': 'application/json' };
    await fetch(this.at('clock', '/advance'), { method: 'POST', headers, body: JSON.stringify({ ms: minutes * 60_000 }) });
  }

  async letters(to: string, most = 100): Promise<Letter[]> {
    const response = await fetch(this.at('inbox', `/api?to=${encodeURIComponent(to)}&most=${most}`));
    return (await response.json()) as Letter[];
  }

  /** Waits for a letter to somebody whose subject holds these words; each look lets some minutes of the world's time pass. */
  async letter(to: string, words: string, minutesALook = 0): Promise<Letter> {
    let found: Letter | undefined;
    await expect
      .poll(
        async () => {
          if (minutesALook) await this.advance(minutesALook);
          found = (await this.letters(to)).find((letter) => letter.subject.includes(words) && letter.verdicts);
          return found ? 'it came' : `no letter “${words}” to ${to}`;
        },
        { timeout: 30_000, interval: minutesALook ? 1_000 : 150 },
      )
      .toBe('it came');
    return found!;
  }

  async source(letter: Letter): Promise<string> {
    return (await fetch(this.at('inbox', `/letter/${letter.id}/source`))).text();
  }

  /** Opens a letter in the Backlot's inbox and clicks one of its links, as a reader would. */
  async click(context: BrowserContext, letter: Letter, link: string): Promise<Page> {
    const inbox = await context.newPage();
    await inbox.goto(this.at('inbox', `/letter/${letter.id}`));
    const [opened] = await Promise.all([
      context.waitForEvent('page'),
      inbox.frameLocator('iframe').getByRole('link', { name: link }).first().click(),
    ]);
    await opened.waitForLoadState();
    await inbox.close();
    return opened;
  }
}

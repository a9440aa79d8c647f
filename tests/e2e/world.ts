import { sql } from 'kysely';
import { type Browser, type BrowserContext, chromium, type Page } from 'playwright-core';
import { expect, inject } from 'vitest';
import { knowLocalhost } from '../../backlot/shell/localhost';
import { openHome, readState } from '../../cli/home';
import { BROWSER_FLAGS, CHROMIUM } from '../../cli/machine';
import { publishZone, type Stack } from '../../cli/stack';
import { insideEnv, originOf, type World } from '../../cli/world';
import { zoneFile } from '../../src/core/senders/zone-file';
import { openAuth } from '../../src/server/auth/auth';
import { readConfig } from '../../src/server/config';
import type { Context, Newsletter } from '../../src/server/context';
import { createForm, formOf, publishForm } from '../../src/server/forms/forms';
import { newId } from '../../src/server/ids';
import { openRuntime } from '../../src/server/runtime';
import { addDomain, checkDomain, domainOf } from '../../src/server/senders/domains';
import { createNewsletter } from '../../src/server/site/founding';
import { within } from './axe';

/** What a person's browser says; the headless one's own name would be counted as a machine's. */
export const AGENT = 'Mozilla/5.0 (X11; Linux x86_64) A browser';

/** Nothing of this world takes longer to answer; what does is told by its name. */
const ask = (address: string, init: RequestInit = {}) => within(address, fetch(address, init));

export type Letter = {
  id: string;
  to: string;
  from: string;
  subject: string;
  mailFrom: string;
  verdicts: Record<'spf' | 'dkim' | 'dmarc', { result: string; detail: string }> | null;
};

/** A newsletter that may send, and its writer's desk. */
export type Founded = {
  ctx: Context;
  newsletter: Newsletter;
  slug: string;
  desk: Page;
  /** Has these people read its first list. */
  readers(addresses: string[]): Promise<void>;
  /** A published form of this name. */
  form(name: string): Promise<Awaited<ReturnType<typeof formOf>>>;
};

/** The running Inkset and Backlot that all files share (see setup.ts), with a browser of the file's own in front. */
export class TestWorld {
  readonly #closing: (() => Promise<unknown>)[] = [];
  private constructor(
    readonly stack: Stack,
    readonly browser: Browser,
  ) {}

  static async open(): Promise<TestWorld> {
    knowLocalhost();
    const home = openHome(inject('home'));
    const world = readState<World | null>(home, 'world.json', null);
    if (!world) throw new Error('Nothing runs for these tests.');
    return new TestWorld({ home, world }, await chromium.launch({ executablePath: CHROMIUM, args: BROWSER_FLAGS }));
  }

  async close(): Promise<void> {
    await this.browser.close();
    for (const close of this.#closing) await close();
  }

  /** An account with a newsletter whose sender is confirmed and whose domain's records are right, and its writer signed in: where most tests begin. */
  async founded(name: string, domain: string): Promise<Founded> {
    const { home, world } = this.stack;
    const ctx = await openRuntime('test', readConfig({ ...insideEnv(home, world), INKSET_LOG_LEVEL: 'error' }), 4);
    this.#closing.push(() => ctx.close());
    const account = { email: `writer@${domain}`, password: 'six hundred metres down' };
    const { user } = await openAuth(ctx, ctx.pool).api.signUpEmail({ body: { name: 'Ottoline Vance', ...account } });
    await sql`update "user" set "emailVerified" = true where id = ${user.id}`.execute(ctx.db);
    const made = await createNewsletter(ctx, user.id, {
      name,
      description: 'Essays on deep-sea life.',
      postalAddress: 'PO Box 600\n1100-001 Lisbon',
      timeZone: 'Europe/Lisbon',
    });
    const senderId = newId();
    const now = ctx.clock.now();
    await ctx.db
      .insertInto('senders')
      .values({
        id: senderId,
        newsletter_id: made.id,
        name: 'Ottoline Vance',
        address: `letters@${domain}`,
        domain,
        confirmed_at: now,
        created_at: now,
      })
      .execute();
    await ctx.db.updateTable('newsletters').set({ default_sender_id: senderId }).where('id', '=', made.id).execute();
    const { id } = await addDomain(ctx, made, domain);
    const { records } = await domainOf(ctx, made, id);
    await publishZone(world, domain, `${zoneFile(domain, records)}@ IN MX 10 mx.postbird.example.\n`);
    expect((await checkDomain(ctx, id)).state).toBe('authenticated');
    const context = await this.visitor();
    const origin = this.at('web');
    // From a network of their own: only so many may sign in from one within a few seconds.
    const headers = {
      origin,
      'x-forwarded-for': `198.51.100.${[...domain].reduce((sum, letter) => sum + letter.charCodeAt(0), 0) % 250}`,
    };
    const signedIn = await context.request.post(`${origin}/api/auth/sign-in/email`, { data: account, headers });
    expect(signedIn.ok()).toBe(true);
    const desk = await context.newPage();
    desk.setDefaultTimeout(20_000);
    await desk.goto(`${origin}/desk/${made.slug}/today`);
    const newsletter = await ctx.db.selectFrom('newsletters').selectAll().where('id', '=', made.id).executeTakeFirstOrThrow();
    const list = await ctx.db
      .selectFrom('lists')
      .select('id')
      .where('newsletter_id', '=', made.id)
      .orderBy('position')
      .executeTakeFirstOrThrow();
    return {
      ctx,
      newsletter,
      slug: made.slug,
      desk,
      async readers(addresses) {
        for (const address of addresses) {
          const readerId = newId();
          const of = { newsletter_id: made.id };
          await ctx.db
            .insertInto('readers')
            .values({ id: readerId, ...of, address, address_key: address, created_at: now })
            .execute();
          await ctx.db
            .insertInto('memberships')
            .values({ reader_id: readerId, list_id: list.id, ...of, state: 'reading', since: now, joined_at: now })
            .execute();
        }
      },
      async form(formName) {
        const form = await createForm(ctx, newsletter, { name: formName });
        await publishForm(ctx, newsletter, form.id);
        return formOf(ctx, newsletter, form.id);
      },
    };
  }

  /** A post on the blog from before anything was connected, whichever file needs it first. */
  async olderPost(): Promise<void> {
    if ((await ask(this.at('blog', '/posts/an-older-post'))).ok) return;
    await this.post('blog', '/publish', { title: 'An older post', summary: 'From before', text: 'It stood here already.' });
  }

  at(name: Parameters<typeof originOf>[1], path = ''): string {
    return `${originOf(this.stack.world.ports, name)}${path}`;
  }

  /** A browser of its own: cookies, storage and all. */
  visitor(
    options: { javaScriptEnabled?: boolean; colorScheme?: 'light' | 'dark'; viewport?: { width: number; height: number } } = {},
  ): Promise<BrowserContext> {
    return this.browser.newContext({ userAgent: AGENT, viewport: { width: 1280, height: 800 }, ...options });
  }

  async post(name: 'blog' | 'dnsPage' | 'inbox', path: string, fields: Record<string, string>): Promise<void> {
    const response = await ask(this.at(name, path), { method: 'POST', body: new URLSearchParams(fields) });
    expect(response.ok).toBe(true);
  }

  async advance(minutes: number): Promise<void> {
    const headers = { 'content-type': 'application/json' };
    await ask(this.at('clock', '/advance'), { method: 'POST', headers, body: JSON.stringify({ ms: minutes * 60_000 }) });
  }

  async letters(to: string, most = 100): Promise<Letter[]> {
    const response = await ask(this.at('inbox', `/api?to=${encodeURIComponent(to)}&most=${most}`));
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
    return (await ask(this.at('inbox', `/letter/${letter.id}/source`))).text();
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

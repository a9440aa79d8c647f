import type { Locator, Page } from 'playwright-core';
import { expect } from 'vitest';

/** What tests say of a page of the desk. */
export const onDesk = (desk: () => Page) => ({
  /** What the page says of itself while one works: saved, published. */
  say: (words: string) => desk().getByRole('status').filter({ hasText: words }).first(),
  section: async (name: string) => {
    await desk().getByRole('navigation', { name: 'Sections' }).getByRole('link', { name }).click();
    await desk().getByRole('heading', { level: 1, name }).waitFor();
  },
  /** A new letter is begun by its title; what it says is put in by `say`, and it is kept. */
  written: async (title: string, say: (letter: Locator) => Promise<unknown>) => {
    await desk().getByRole('navigation', { name: 'Sections' }).getByRole('link', { name: 'Letters' }).click();
    await desk().getByRole('button', { name: 'Write a letter' }).click();
    const letter = desk().getByRole('textbox', { name: 'The letter' });
    await letter.waitFor();
    await desk().getByLabel('Title', { exact: true }).fill(title);
    await letter.click();
    await say(letter);
    await desk()
      .getByRole('status')
      .filter({ hasText: /^Saved/ })
      .first()
      .waitFor();
  },
  /** Every agreement that the last look asks for is given, and the letter is let go. */
  letGo: async () => {
    const letItGo = desk().getByRole('button', { name: 'Let it go' });
    await letItGo.or(desk().getByLabel('That is as I want it')).first().waitFor();
    for (const tick of await desk().getByLabel('That is as I want it').all()) await tick.check();
    await letItGo.click();
    await desk()
      .getByRole('dialog')
      .getByRole('button', { name: /^Yes, to/ })
      .click();
  },
  headline: (words: string | RegExp) => desk().getByRole('main').locator('header p').filter({ hasText: words }).first().waitFor(),
});

/** Makes a page anew until it says something. */
export async function until(page: Page, words: string | RegExp): Promise<void> {
  await expect
    .poll(
      async () => {
        await page.reload();
        return page.getByRole('main').innerText();
      },
      { timeout: 40_000, interval: 400 },
    )
    .toMatch(words);
}

/**
 * Drags something to a place over another, by the events that a browser gives a page. The browser's own drag is not driven: whether it tells that one began
 * is a matter of milliseconds, and where it does not, everything stands still.
 */
export async function dragged(from: Locator, to: Locator, at: { x: number; y: number }): Promise<void> {
  const data = await from.page().evaluateHandle(() => new DataTransfer());
  // The thing itself: whatever shows it only under the pointer may have put it away by the end.
  const held = await from.elementHandle();
  const [start, end] = [await from.boundingBox(), await to.boundingBox()];
  const where = (box: typeof start, x: number, y: number) => ({ clientX: box!.x + x, clientY: box!.y + y, dataTransfer: data });
  await held!.dispatchEvent('dragstart', where(start, 2, 2));
  await to.dispatchEvent('dragover', where(end, at.x, at.y));
  await to.dispatchEvent('drop', where(end, at.x, at.y));
  await held!.dispatchEvent('dragend', { dataTransfer: data });
}

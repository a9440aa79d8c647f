import type { Page } from 'playwright-core';
import { expect } from 'vitest';

/** What tests say of a page of the desk. */
export const onDesk = (desk: () => Page) => ({
  /** What the page says of itself while one works: saved, published. */
  say: (words: string) => desk().getByRole('status').filter({ hasText: words }).first(),
  section: async (name: string) => {
    await desk().getByRole('navigation', { name: 'Sections' }).getByRole('link', { name }).click();
    await desk().getByRole('heading', { level: 1, name }).waitFor();
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

import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import type { Page } from 'playwright-core';

const source = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

/** The browser bounds what it waits for, but not what a page computes: so that a test says what stood still, and not only that it did. */
export async function within<T>(what: string, promise: Promise<T>, ms = 30_000): Promise<T> {
  let timer: ReturnType<typeof setTimeout> | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error(`${what} took longer than ${ms / 1_000} s`)), ms);
  });
  return Promise.race([promise, late]).finally(() => clearTimeout(timer));
}

/**
 * The WCAG 2.2 A and AA faults of a page, and what axe calls best practice, as one line each. A page's title is
 * streamed after its body, so the old one may be gone before the new one is there: it is waited for, and a page that
 * never gets one fails here. What is fading in or out is waited for too: half gone, no text has the contrast it is read with.
 */
export async function accessibilityFaults(page: Page): Promise<string[]> {
  await page.waitForFunction(
    () =>
      document.title !== '' &&
      document
        .getAnimations()
        .every((one) => one.playState !== 'running' || one.effect?.getComputedTiming().endTime === Number.POSITIVE_INFINITY),
    null,
    { polling: 100 },
  );
  await within('Reading axe', page.evaluate(source));
  const looked = page.evaluate(async () => {
    const axe = (
      window as unknown as {
        axe: {
          run(
            context: unknown,
            options: unknown,
          ): Promise<{ violations: { id: string; nodes: { html: string; failureSummary: string }[] }[] }>;
        };
      }
    ).axe;
    const { violations } = await axe.run(document, {
      runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'],
    });
    return violations.flatMap((v) =>
      v.nodes.map((n) => `${v.id}: ${n.html.slice(0, 160)} ${n.failureSummary.replace(/\s+/g, ' ').slice(0, 200)}`),
    );
  });
  return within(`Looking at the accessibility of ${page.url()}`, looked);
}

import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import type { Page } from 'playwright-core';

const source = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

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
  await page.evaluate(source);
  return page.evaluate(async () => {
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
}

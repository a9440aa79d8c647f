import { fileURLToPath } from 'node:url';
import { defineConfig } from 'vitest/config';
import { BaseSequencer } from 'vitest/node';

const alias = { '@': fileURLToPath(new URL('./src', import.meta.url)) };

/** The file that takes longest begins first: begun late, it would be waited for alone. */
class LongestFirst extends BaseSequencer {
  override async sort(...[files]: Parameters<BaseSequencer['sort']>) {
    const sorted = await super.sort(files);
    const isLong = ({ moduleId }: (typeof files)[number]) => moduleId.endsWith('/killed.test.ts');
    return [...sorted.filter(isLong), ...sorted.filter((file) => !isLong(file))];
  }
}

export default defineConfig({
  test: {
    sequence: { sequencer: LongestFirst },
    projects: [
      {
        resolve: { alias },
        test: { name: 'unit', maxWorkers: 2, testTimeout: 60_000, include: ['{src,backlot,demo,cli}/**/*.test.{ts,tsx}'] },
      },
      {
        resolve: { alias },
        test: {
          name: 'integration',
          include: ['tests/integration/**/*.test.ts'],
          globalSetup: 'tests/integration/setup.ts',
          // What hangs is found by these; how quick something is, by the bench: a machine may be four times slower in one hour than in another.
          testTimeout: 120_000,
          hookTimeout: 180_000,
          maxWorkers: 2,
          sequence: { groupOrder: 1 },
        },
      },
      {
        resolve: { alias },
        test: {
          name: 'peers',
          include: ['tests/peers/**/*.test.ts'],
          globalSetup: 'tests/integration/setup.ts',
          hookTimeout: 60_000,
          fileParallelism: false,
        },
      },
      {
        resolve: { alias },
        test: {
          name: 'e2e',
          include: ['tests/e2e/**/*.test.ts'],
          globalSetup: 'tests/e2e/setup.ts',
          testTimeout: 240_000,
          hookTimeout: 300_000,
          fileParallelism: false,
          sequence: { groupOrder: 2 },
        },
      },
    ],
  },
});

import { fileURLToPath } from 'node:url';
import { defineConfig } from 'vitest/config';

const alias = { '@': fileURLToPath(new URL('./src', import.meta.url)) };

export default defineConfig({
  test: {
    projects: [
      {
        resolve: { alias },
        test: { name: 'unit', maxWorkers: 2, testTimeout: 20_000, include: ['{src,backlot,demo,cli}/**/*.test.{ts,tsx}'] },
      },
      {
        resolve: { alias },
        test: {
          name: 'integration',
          include: ['tests/integration/**/*.test.ts'],
          globalSetup: 'tests/integration/setup.ts',
          testTimeout: 30_000,
          hookTimeout: 60_000,
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
          testTimeout: 120_000,
          hookTimeout: 300_000,
          fileParallelism: false,
          sequence: { groupOrder: 2 },
        },
      },
    ],
  },
});

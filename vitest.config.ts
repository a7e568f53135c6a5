import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    include: ['{core,server,web,demo}/**/*.test.ts'],
    environment: 'node',
    globalSetup: ['tools/vitest-setup.mjs'],
    testTimeout: 30_000,
    hookTimeout: 60_000,
    maxWorkers: 2,
  },
});

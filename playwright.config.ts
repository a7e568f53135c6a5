import { defineConfig } from '@playwright/test';

/** Browser tests run in shards side by side, each with a server and a fresh demo lake; ports and data folders are the tests' own. */
const shard = Number(process.env.E2E_SHARD ?? 1);
const address = `http://127.0.0.1:${4790 + shard}`;

export default defineConfig({
  testDir: 'e2e',
  outputDir: `test-results/${shard}`,
  timeout: 60_000,
  workers: 1,
  fullyParallel: false,
  retries: 0,
  reporter: [['list'], ['json', { outputFile: process.env.PLAYWRIGHT_JSON_OUTPUT_NAME ?? '.cache/test-reports/browser.json' }]],
  use: {
    baseURL: address,
    viewport: { width: 1280, height: 800 },
    locale: 'en-GB',
    timezoneId: 'UTC',
    launchOptions: {
      executablePath: process.env.CHROMIUM_PATH ?? '/usr/bin/chromium',
      args: [
        ...(process.getuid?.() === 0 ? ['--no-sandbox'] : []),
        '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking',
        '--disable-component-update', '--disable-sync',
      ],
    },
  },
  webServer: {
    command: 'node e2e/serve.mjs',
    url: `${address}/api/health`,
    timeout: 120_000,
    gracefulShutdown: { signal: 'SIGTERM', timeout: 10_000 },
  },
});

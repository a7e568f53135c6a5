/** Bundles the server's three processes with esbuild, then the web pages with Vite. Packages stay outside the bundle. */
import { cpSync, rmSync } from 'node:fs';
import esbuild from 'esbuild';
import { build as buildWeb } from 'vite';

rmSync('dist', { recursive: true, force: true });
const server = esbuild.build({
  entryPoints: {
    main: 'server/main.ts',
    'catalog-process': 'server/catalog/process.ts',
    'engine-process': 'server/engine/process.ts',
    'fleet-office': 'server/standins/fleet-office.ts',
    'footer-worker': 'server/lake/footer-worker.ts',
    'manifest-worker': 'server/lake/manifest-worker.ts',
  },
  outdir: 'dist/server',
  bundle: true,
  splitting: true,
  format: 'esm',
  platform: 'node',
  target: 'node20',
  packages: 'external',
  sourcemap: true,
  logLevel: 'warning',
});
await Promise.all([server, buildWeb({ logLevel: 'warn' })]);
cpSync('server/catalog/migrations', 'dist/server/migrations', { recursive: true });

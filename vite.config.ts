import tailwindcss from '@tailwindcss/vite';
import vue from '@vitejs/plugin-vue';
import { defineConfig } from 'vite';

export default defineConfig({
  root: 'web',
  plugins: [vue(), tailwindcss()],
  build: { outDir: '../dist/web', emptyOutDir: true, manifest: true, chunkSizeWarningLimit: 600 },
  server: { proxy: { '/api': 'http://127.0.0.1:4780' } },
});

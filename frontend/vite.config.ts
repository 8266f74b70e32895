import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [svelte()],
  // The content policy allows no data: fonts or styles, so nothing is inlined.
  build: { outDir: 'dist', emptyOutDir: true, assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  server: { host: '127.0.0.1', proxy: { '/api': 'http://127.0.0.1:8710' } },
});

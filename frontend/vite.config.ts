import { svelte } from '@sveltejs/vite-plugin-svelte';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { brotliCompressSync } from 'node:zlib';
import { defineConfig, type Plugin } from 'vite';

/** Packs scripts and styles once, as small as they get; the server sends them so (assets.py). Fonts are packed already. */
const packed = (): Plugin => ({
  name: 'packed',
  apply: 'build',
  writeBundle({ dir = 'dist' }) {
    const folder = `${dir}/assets`;
    for (const name of readdirSync(folder).filter((one) => /\.(js|css)$/.test(one)))
      writeFileSync(`${folder}/${name}.br`, brotliCompressSync(readFileSync(`${folder}/${name}`)));
  },
});

export default defineConfig({
  plugins: [svelte(), packed()],
  build: {
    outDir: 'dist',
    emptyOutDir: true,
    // The content policy allows no data: fonts or styles, so nothing is inlined.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
    rolldownOptions: {
      output: {
        // Each screen is a file, and what several of them use is one more: not one file for every small component.
        codeSplitting: { groups: [{ name: 'shared', test: /\/src\/(components|lib)\//, minShareCount: 4 }] },
      },
    },
  },
  server: { host: '127.0.0.1', proxy: { '/api': 'http://127.0.0.1:8710' } },
});

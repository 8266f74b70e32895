import js from '@eslint/js';
import svelte from 'eslint-plugin-svelte';
import globals from 'globals';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['dist/', 'node_modules/', 'src/lib/api-types.d.ts'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { languageOptions: { globals: { ...globals.browser, ...globals.node } } },
  { files: ['src/lib/capture.js', 'src/lib/play.js'], languageOptions: { globals: globals.audioWorklet } },
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser } },
    // Addresses are hashes of our own router, not a framework's routes.
    rules: { 'svelte/no-navigation-without-resolve': 'off' },
  },
);

import { svelte } from '@sveltejs/vite-plugin-svelte';
import { optimizeCss, optimizeImports } from 'carbon-preprocess-svelte';
import { defineConfig, type Plugin } from 'vite';
import { handbook } from './handbook.ts';

/**
 * Carbon's style sheet names fonts on another host. The console serves its own and asks nobody else,
 * so those rules are taken out before anything is bundled.
 */
function ownFontsOnly(): Plugin {
  return {
    name: 'own-fonts-only',
    enforce: 'pre',
    transform(code, id) {
      if (!id.includes('carbon-components-svelte/css/')) return null;
      return code.replace(/@font-face\s*\{[^}]*\}/g, '').replace(/@import\s+url\([^)]*\);?/g, '');
    },
  };
}

export default defineConfig({
  plugins: [ownFontsOnly(), handbook(), svelte({ preprocess: [optimizeImports()] }), optimizeCss()],
  build: { target: 'es2022', chunkSizeWarningLimit: 2000, assetsInlineLimit: 0 },
});

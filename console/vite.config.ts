import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  build: {
    assetsInlineLimit: 0, // fonts as data: would be blocked by the content security policy
    emptyOutDir: false, // dist/.keep stays, so that Go can embed an unbuilt console
    modulePreload: { polyfill: false },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7080', '/files': 'http://127.0.0.1:7080' } },
});

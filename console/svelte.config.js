import { vitePreprocess } from '@sveltejs/vite-plugin-svelte';

export default {
  preprocess: vitePreprocess(),
  compilerOptions: {
    // Libraries bring components of the older kind along.
    runes: undefined,
  },
};

<script lang="ts">
  // A wide table scrolls in a frame of its own, which the keyboard can reach.
  import type { Snippet } from 'svelte';

  let { label, children }: { label: string; children: Snippet } = $props();
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="overflow-x-auto" role="region" aria-label={label} tabindex="0">
  {@render children()}
</div>

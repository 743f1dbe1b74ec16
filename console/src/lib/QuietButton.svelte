<script lang="ts">
  // A button for what is not the page's main deed.
  import Button from 'flowbite-svelte/Button.svelte';
  import type { Snippet } from 'svelte';

  let {
    onclick,
    size = 'sm',
    label,
    children,
  }: { onclick: () => void; size?: 'xs' | 'sm'; label?: string; children: Snippet } = $props();
</script>

<Button
  {size}
  color="alternative"
  aria-label={label}
  {onclick}
  class="border-edge bg-raised text-ink dark:bg-raised dark:text-ink">{@render children()}</Button
>

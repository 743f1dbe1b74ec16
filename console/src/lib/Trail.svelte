<script lang="ts">
  // Where you are.
  let { steps }: { steps: [string, string?][] } = $props();
</script>

<nav aria-label="where you are" class="text-[13px] text-quiet">
  {#each steps as [text, href], i (i)}
    {#if i > 0}<span aria-hidden="true" class="px-1">/</span>{/if}
    {#if href}<a class="quiet" {href}>{text}</a>{:else}<span>{text}</span>{/if}
  {/each}
</nav>

<script lang="ts">
  // An address that no page has.
</script>

<svelte:head><title>Nothing here · Oskeld</title></svelte:head>
<h1 class="mb-2">Nothing here</h1>
<p class="text-quiet">
  No page has this address. Press <kbd class="mono">/</kbd> to find a build, a version or a file, or go to
  <a class="plain" href="/">Now</a>.
</p>

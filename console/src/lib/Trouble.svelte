<script lang="ts">
  import type { Failure } from './api';

  let { failure }: { failure: Failure } = $props();
</script>

<div role="alert" class="my-4 border-l-4 border-madder bg-raised px-4 py-3">
  <p class="font-semibold whitespace-pre-wrap">{failure.message}</p>
  {#if failure.hint}<p class="text-quiet">{failure.hint}</p>{/if}
</div>

<script lang="ts">
  import type { Schemas } from './api';
  import Mark from './Mark.svelte';

  let { verdicts }: { verdicts: Schemas['Verdict'][] } = $props();
</script>

<ul class="divide-y divide-edge">
  {#each verdicts as v (v.say)}
    <li class="flex gap-2.5 py-2">
      <span class="pt-0.5"><Mark state={v.met ? 'passed' : 'failed'} /></span>
      <span
        ><span class="sr-only">{v.met ? 'met:' : 'not met:'}</span>
        {v.say}<br /><span class="text-quiet">{v.seen}</span></span
      >
    </li>
  {/each}
</ul>

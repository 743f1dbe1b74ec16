<script lang="ts">
  // The last sixty builds as columns stacked by kind of time, the lozenge at the foot.
  import type { Build } from './api';
  import { length } from './format';
  import Mark from './Mark.svelte';

  let { builds }: { builds: Build[] } = $props();
  const shown = $derived(builds.slice(0, 60).toReversed());
  const kinds = ['delivering_ms', 'working_ms', 'preparing_ms', 'waiting_ms'] as const;
  const sum = (b: Build) => kinds.reduce((n, k) => n + b[k], 0);
  const most = $derived(Math.max(1, ...shown.map(sum)));
  const height = 120;
</script>

<figure class="my-4">
  <div class="flex items-end gap-1 overflow-x-auto border-b border-edge pb-1" style="min-height: 150px">
    {#each shown as b (b.number)}
      <a
        href="/pipelines/{b.pipeline}/{b.number}"
        class="flex w-8 shrink-0 flex-col items-center gap-1 rounded hover:bg-sunk"
        aria-label="build {b.number}, {b.state}, {length(sum(b))} in all its stages"
        title="{b.number} {b.state} {b.version}: waited {length(b.waiting_ms)}, prepared {length(
          b.preparing_ms,
        )}, worked {length(b.working_ms)}, delivered {length(b.delivering_ms)}"
      >
        <svg width="18" {height} aria-hidden="true">
          {#each kinds as k, i (k)}
            {@const below = kinds.slice(0, i).reduce((n, x) => n + b[x], 0)}
            {@const h = (b[k] / most) * (height - 4)}
            {#if h > 0}
              <rect
                x="1"
                width="16"
                y={height - (below / most) * (height - 4) - h}
                height={Math.max(h, 1)}
                class={k === 'working_ms' ? (b.state === 'failed' ? 'fill-madder' : 'fill-moss') : ''}
                fill={k === 'waiting_ms' ? 'url(#hatch)' : 'url(#dots)'}
              />
            {/if}
          {/each}
        </svg>
        <Mark state={b.state} size={12} />
        <span class="text-[11px] text-quiet tabular-nums">{b.number}</span>
      </a>
    {/each}
  </div>
  <figcaption class="mt-1 text-[12px] text-quiet">
    hatched waiting · dotted preparing and delivering · solid working; the highest is {length(most)}
  </figcaption>
</figure>

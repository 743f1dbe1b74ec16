<script lang="ts">
  import type { Build } from './api';
  import { ago, length, short } from './format';
  import Mark from './Mark.svelte';
  import Scroll from './Scroll.svelte';

  let {
    builds,
    pipelines = true,
    label = 'builds',
  }: { builds: Build[]; pipelines?: boolean; label?: string } = $props();
  const total = (b: Build) => (b.ended_at ? Date.parse(b.ended_at) : Date.now()) - Date.parse(b.created_at);
</script>

<Scroll {label}>
  <table class="rows">
    <thead>
      <tr>
        <th>build</th><th>state</th><th>version</th><th>from</th><th>change</th><th class="number">took</th><th>by</th
        ><th>when</th>
      </tr>
    </thead>
    <tbody>
      {#each builds as b (b.pipeline + b.number)}
        <tr>
          <td class="whitespace-nowrap">
            <a class="plain" href="/pipelines/{b.pipeline}/{b.number}"
              >{pipelines ? `${b.pipeline} / ` : ''}{b.number}</a
            >
          </td>
          <td class="whitespace-nowrap"><Mark state={b.state} /> {b.state}</td>
          <td class="mono whitespace-nowrap">{b.version}</td>
          <td class="whitespace-nowrap">{b.tag || b.branch || b.ref}</td>
          <td class="w-full max-w-[360px] truncate">
            <span class="mono text-quiet">{short(b.commit)}</span>
            {b.cause && b.state !== 'passed' ? b.cause : b.subject}
          </td>
          <td class="number">{length(total(b))}</td>
          <td class="whitespace-nowrap">{b.started_by}</td>
          <td class="whitespace-nowrap text-quiet">{ago(b.created_at)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</Scroll>

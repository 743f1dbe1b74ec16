<script lang="ts">
  import { api, got } from '../lib/api';
  import Empty from '../lib/Empty.svelte';
  import { ago } from '../lib/format';
  import { live } from '../lib/live.svelte';
  import Mark from '../lib/Mark.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import Scroll from '../lib/Scroll.svelte';

  const pipelines = live(async () => (await got(api.GET('/api/v1/pipelines'))).list);
</script>

<svelte:head><title>Pipelines · Oskeld</title></svelte:head>
<div class="mb-3 flex flex-wrap items-end justify-between gap-3">
  <h1>Pipelines</h1>
  <a class="plain" href="/new-pipeline">Add a pipeline</a>
</div>
{#if pipelines.failure}<Trouble failure={pipelines.failure} />{/if}
{#if pipelines.value?.length === 0}
  <Empty say="No pipeline yet. Bind a source and its file:" command="oskeld pipeline add NAME --source SOURCE" />
{:else if pipelines.value}
  <Scroll label="pipelines">
    <table class="rows">
      <thead
        ><tr><th>pipeline</th><th>last build</th><th>version</th><th>when</th><th>source</th><th>about</th></tr></thead
      >
      <tbody>
        {#each pipelines.value as l (l.name)}
          <tr>
            <td><a class="plain" href="/pipelines/{l.name}">{l.name}</a></td>
            <td class="whitespace-nowrap">
              {#if l.last}<Mark state={l.last.state} />
                <a class="quiet" href="/pipelines/{l.name}/{l.last.number}">{l.last.number}</a>
                {l.last.state}{:else}<span class="text-quiet">not built yet</span>{/if}
            </td>
            <td class="mono whitespace-nowrap">{l.last?.version ?? ''}</td>
            <td class="whitespace-nowrap text-quiet">{l.last ? ago(l.last.created_at) : ''}</td>
            <td class="whitespace-nowrap">{l.source} <span class="text-quiet">{l.file}</span></td>
            <td class="w-full text-quiet">{l.summary}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </Scroll>
{/if}

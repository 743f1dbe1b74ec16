<script lang="ts">
  import { api, got } from '../lib/api';
  import Empty from '../lib/Empty.svelte';
  import { size } from '../lib/format';
  import { live } from '../lib/live.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import Scroll from '../lib/Scroll.svelte';

  const stores = live(async () => (await got(api.GET('/api/v1/stores'))).list);
</script>

<svelte:head><title>Stores · Oskeld</title></svelte:head>
<h1 class="mb-3">Stores</h1>
{#if stores.failure}<Trouble failure={stores.failure} />{/if}
{#if stores.value?.length === 0}
  <Empty say="No store yet:" command="oskeld store add intake --project PROJECT" />
{:else if stores.value}
  <Scroll label="stores">
    <table class="rows">
      <thead>
        <tr
          ><th>store</th><th>about</th><th>admits from</th><th>a version is</th><th class="number">rules</th><th
            class="number">names</th
          ><th class="number">versions</th><th class="number">size</th></tr
        >
      </thead>
      <tbody>
        {#each stores.value.toReversed() as s (s.name)}
          <tr>
            <td class="whitespace-nowrap"><a class="plain" href="/stores/{s.name}">{s.name}</a></td>
            <td class="w-full text-quiet">{s.summary}</td>
            <td>{s.from.join(', ')}</td>
            <td class="whitespace-nowrap"
              >{{ never: 'for ever', same: 'the same bytes', always: 'revised' }[s.rewrite]}</td
            >
            <td class="number">{s.rules.length}</td>
            <td class="number">{s.names}</td>
            <td class="number">{s.versions}</td>
            <td class="number">{size(s.size)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </Scroll>
{/if}

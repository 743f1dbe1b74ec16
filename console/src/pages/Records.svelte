<script lang="ts">
  import { api, Failure, got, type Schemas } from '../lib/api';
  import { moment } from '../lib/format';
  import Trouble from '../lib/Trouble.svelte';
  import Scroll from '../lib/Scroll.svelte';

  let list = $state<Schemas['Record'][]>([]);
  let failure = $state<Failure>();
  let more = $state(true);
  let filter = $state('');
  const page = 100;

  async function read() {
    try {
      const next = await got(
        api.GET('/api/v1/records', { params: { query: { below: list.at(-1)?.id ?? 0, most: page } } }),
      );
      list = list.concat(next.list);
      more = next.list.length === page;
    } catch (e) {
      failure = e as Failure;
      more = false;
    }
  }
  void read();
  const details = (r: Schemas['Record']) =>
    Object.entries(r.details)
      .filter(([, v]) => v)
      .map(([k, v]) => `${k.replace('_', ' ')} ${v.split('\n')[0]}`)
      .join(', ');
  const shown = $derived(
    list.filter(
      (r) => !filter || `${r.who} ${r.did} ${r.thing} ${details(r)}`.toLowerCase().includes(filter.toLowerCase()),
    ),
  );
</script>

<svelte:head><title>Records · Oskeld</title></svelte:head>
<div class="mb-3 flex flex-wrap items-center justify-between gap-3">
  <h1>Records</h1>
  <input
    bind:value={filter}
    aria-label="filter the records"
    placeholder="filter"
    class="w-56 rounded-md border border-edge bg-raised px-3 py-1.5 text-[14px] text-ink placeholder:text-quiet"
  />
</div>
{#if failure}<Trouble {failure} />{/if}
<Scroll label="records">
  <table class="rows">
    <thead><tr><th>when</th><th>who</th><th>did</th><th>thing</th><th>details</th></tr></thead>
    <tbody>
      {#each shown as r (r.id)}
        <tr>
          <td class="whitespace-nowrap text-quiet tabular-nums">{moment(r.at)}</td>
          <td class="whitespace-nowrap">{r.who}</td>
          <td class="font-semibold whitespace-nowrap">{r.did}</td>
          <td class="whitespace-nowrap">{r.thing}</td>
          <td class="w-full text-quiet">{details(r)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</Scroll>
{#if more && list.length > 0}<button type="button" onclick={read} class="mt-3 text-ember hover:underline"
    >older ones</button
  >{/if}

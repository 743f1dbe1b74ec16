<script lang="ts">
  import { api, got } from '../lib/api';
  import Empty from '../lib/Empty.svelte';
  import { admitted, ago, size } from '../lib/format';
  import { live } from '../lib/live.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import { route } from '../router';

  const name = route.getParams('/stores/:store').store;
  const path = { params: { path: { name } } };
  const store = live(() => got(api.GET('/api/v1/stores/{name}', path)));
  const names = live(async () => (await got(api.GET('/api/v1/stores/{name}/names', path))).list);
</script>

<svelte:head><title>{name} · Oskeld</title></svelte:head>
<Trail steps={[['Stores', '/stores'], [name]]} />
<h1>{name}</h1>
{#if store.failure}<Trouble failure={store.failure} />{/if}
{#if store.value}
  <p class="text-quiet">
    {store.value.summary} · {store.value.versions} versions, {size(store.value.size)}, each content once
  </p>
  <div class="mt-4 grid gap-7 lg:grid-cols-[2fr_1fr]">
    <section>
      {#if names.value?.length === 0}
        <Empty
          say="Nothing in it yet. A package stage names it, or you deliver a file:"
          command="oskeld deliver {name}/NAME@VERSION FILE"
        />
      {:else if names.value}
        <table class="rows">
          <thead><tr><th>name</th><th>newest</th><th>when</th><th class="number">versions</th></tr></thead>
          <tbody>
            {#each names.value as n (n.name)}
              <tr>
                <td class="w-full"><a class="plain" href="/stores/{name}/{n.name}">{n.name}</a></td>
                <td class="mono"><a class="quiet" href="/stores/{name}/{n.name}/{n.latest}">{n.latest}</a></td>
                <td class="whitespace-nowrap text-quiet">{ago(n.latest_at)}</td>
                <td class="number">{n.versions}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      {/if}
    </section>
    <section>
      <h2>Whom it admits</h2>
      <p class="text-quiet">
        {store.value.from.length > 0
          ? `From ${store.value.from.join(', ')}, when all of these hold:`
          : 'Builds and people; nothing is promoted here.'}
      </p>
      {#if admitted(store.value.admits) !== 'all'}<p>Builds of {admitted(store.value.admits)} alone.</p>{/if}
      {#if store.value.tools}<p>Agents of every project are equipped from it.</p>{/if}
      <table class="rows">
        <tbody>
          {#each store.value.rules as r (r.say)}<tr><td>{r.say}<br /><code class="text-quiet">{r.that}</code></td></tr
            >{/each}
        </tbody>
      </table>
    </section>
  </div>
{/if}

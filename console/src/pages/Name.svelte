<script lang="ts">
  import { api, got, type Artifact } from '../lib/api';
  import { ago, size } from '../lib/format';
  import Ladder from '../lib/Ladder.svelte';
  import { live } from '../lib/live.svelte';
  import Promote from '../lib/Promote.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import { route } from '../router';
  import Scroll from '../lib/Scroll.svelte';

  const { store, name } = route.getParams('/stores/:store/:name');
  const ladder = live(() =>
    got(api.GET('/api/v1/stores/{name}/ladder/{artifact}', { params: { path: { name: store, artifact: name } } })),
  );
  let picked = $state<Artifact>();
  let target = $state('');
  // The newest version that has not been promoted yet is what a reader may want to promote.
  const chosen = $derived(
    ladder.value?.artifacts.find((a) => a.store === picked?.store && a.version === picked?.version) ??
      ladder.value?.artifacts.find((a) => a.store === store && a.state === 'sealed' && !risen(a)) ??
      ladder.value?.artifacts.find((a) => a.store === store && a.state === 'sealed') ??
      ladder.value?.artifacts[0],
  );
  function promoted() {
    picked = chosen; // stay at what was promoted
    void ladder.again();
  }
  const risen = (a: Artifact) =>
    ladder.value?.artifacts.some((b) => b.version === a.version && b.promoted_from === a.store);
  const sealed = $derived(ladder.value?.artifacts.filter((a) => a.state !== 'filling') ?? []);
  const contents = $derived(new Map(sealed.map((a) => [a.content, a.size])));
  const once = $derived([...contents.values()].reduce((n, s) => n + s, 0));
  const all = $derived(sealed.reduce((n, a) => n + a.size, 0));
  const newest = $derived(ladder.value?.stores.at(-1));
  const latest = $derived(sealed.find((a) => a.store === newest?.name));
</script>

<svelte:head><title>{name} · Oskeld</title></svelte:head>
<Trail steps={[['Stores', '/stores'], [store, `/stores/${store}`], [name]]} />
<h1>
  {name}
  <span class="mono text-[16px] font-normal text-quiet"
    >{latest ? `latest on the ${latest.store} ${latest.version}` : ''}</span
  >
</h1>
{#if ladder.failure}<Trouble failure={ladder.failure} />{/if}
{#if ladder.value}
  <p class="mb-2">
    <b>{contents.size}</b> contents in {sealed.length} places · <b>{size(once)}</b><span class="text-quiet"
      >, {size(all)} before sharing</span
    >
  </p>
  <div class="grid gap-7 lg:grid-cols-[2fr_1fr]">
    <div class="min-w-0">
      <h2>
        Ladder <span class="font-normal text-quiet"
          >a line is a version; it steps up when it is promoted; choose a point</span
        >
      </h2>
      <Ladder ladder={ladder.value} {chosen} choose={(a) => (picked = a)} {target} />
      <Scroll label="versions">
        <table class="rows">
          <thead
            ><tr
              ><th>version</th><th>in</th><th>marks</th><th>build</th><th>made from</th><th class="number">files</th><th
                class="number">size</th
              ><th>since</th></tr
            ></thead
          >
          <tbody>
            {#each ladder.value.artifacts as a (a.store + a.version + a.revision)}
              <tr class={a === chosen ? 'bg-raised' : ''}>
                <td class="mono"
                  ><a
                    class={a === chosen ? 'font-bold text-ember' : 'quiet'}
                    href="/stores/{a.store}/{a.name}/{a.version}">{a.version}</a
                  ></td
                >
                <td>{a.store}</td>
                <td>{a.marks.join(', ')}</td>
                <td
                  >{#if a.build}<a class="quiet" href="/pipelines/{a.build}">{a.build}</a>{:else}{a.by}{/if}</td
                >
                <td class="whitespace-nowrap"
                  ><span class="mono text-quiet">{a.commit.slice(0, 7)}</span> {a.tag || a.branch}</td
                >
                <td class="number">{a.files}</td>
                <td class="number">{size(a.size)}</td>
                <td class="whitespace-nowrap text-quiet">{a.state === 'sealed' ? ago(a.created_at) : a.state}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </Scroll>
    </div>
    <div class="grid min-w-0 content-start gap-5">
      {#if chosen?.state === 'sealed'}
        <Promote artifact={chosen} stores={ladder.value.stores} bind:target done={promoted} />
      {/if}
      <section>
        <h2>
          Promotions <span class="font-normal text-quiet">{ladder.value.promotions.length === 0 ? 'none yet' : ''}</span
          >
        </h2>
        <table class="rows">
          <tbody>
            {#each ladder.value.promotions.slice(0, 8) as q (q.id)}
              <tr>
                <td class="w-full">
                  <span class="mono">{q.from.split('@')[1]}</span> to {q.to}:
                  <b class={q.accepted ? 'text-moss' : 'text-madder'}>{q.accepted ? 'accepted' : 'refused'}</b>
                  {#if q.cause}<br /><span class="text-quiet">{q.cause}</span>{/if}
                </td>
                <td class="whitespace-nowrap text-quiet">{q.by}, {ago(q.created_at)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </section>
    </div>
  </div>
{/if}

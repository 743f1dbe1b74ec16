<script lang="ts">
  import { api, got } from '../lib/api';
  import Command from '../lib/Command.svelte';
  import { ago, moment, short, size } from '../lib/format';
  import { live } from '../lib/live.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import Verdicts from '../lib/Verdicts.svelte';
  import { route } from '../router';
  import Scroll from '../lib/Scroll.svelte';

  const { store, name, version } = route.getParams('/stores/:store/:name/:version');
  const ref = `${store}/${name}@${version}`;
  const artifact = live(() => got(api.GET('/api/v1/artifact', { params: { query: { ref } } })));
  const address = (path: string) =>
    `/files/${store}/${name}/${version}/${path.split('/').map(encodeURIComponent).join('/')}`;
</script>

<svelte:head><title>{name} {version} · Oskeld</title></svelte:head>
<Trail steps={[['Stores', '/stores'], [store, `/stores/${store}`], [name, `/stores/${store}/${name}`], [version]]} />
<h1 class="flex flex-wrap items-baseline gap-3">
  {name} <span class="mono text-[18px] font-normal">{version}</span>
  {#each artifact.value?.marks ?? [] as m (m)}<span class="rounded border border-ink px-2 text-[13px] font-normal"
      >{m}</span
    >{/each}
</h1>
{#if artifact.failure}<Trouble failure={artifact.failure} />{/if}
{#if artifact.value}
  {@const a = artifact.value}
  <p class="flex flex-wrap gap-x-6">
    <span><b>{a.state}</b> <span class="text-quiet">in {store} since {moment(a.created_at)}</span></span>
    {#if a.build}<span
        ><span class="text-quiet">made by</span> <a class="plain" href="/pipelines/{a.build}">{a.build}</a>
        <span class="text-quiet">from {a.tag || a.branch}</span> <span class="mono">{short(a.commit)}</span></span
      >
    {:else}<span class="text-quiet">delivered by {a.by}</span>{/if}
    <span><a class="quiet" href="/trace/{a.content}">trace</a></span>
  </p>
  <div class="mt-4 grid gap-7 lg:grid-cols-[2fr_1fr]">
    <section class="min-w-0">
      <h2>
        Files <span class="font-normal text-quiet"
          >{a.files}, {size(a.size)}; content <span class="mono break-all">sha256:{a.content}</span></span
        >
      </h2>
      <Scroll label="files">
        <table class="rows">
          <thead><tr><th>file</th><th class="number">size</th><th>SHA-256</th></tr></thead>
          <tbody>
            {#each a.contents as f (f.path)}
              <tr>
                <td class="w-full"><a class="plain" href={address(f.path)} download>{f.path}</a></td>
                <td class="number">{size(f.size)}</td>
                <td class="mono"
                  ><a class="quiet" href="/trace/{f.sha256}" title={f.sha256}>{f.sha256.slice(0, 16)}…</a></td
                >
              </tr>
            {/each}
          </tbody>
        </table>
      </Scroll>
      <div class="mt-4 grid gap-2">
        <h2>Get it</h2>
        <Command text="oskeld fetch {ref}" />
        {#if a.contents[0]}<Command
            text={`curl -fOH "Authorization: Bearer $OSKELD_TOKEN" ${location.origin}${address(a.contents[0].path)}`}
          />{/if}
        {#if a.statements > 0}<Command text="oskeld verify {a.contents[0]?.path ?? 'FILE'}" />{/if}
      </div>
    </section>
    <div class="grid min-w-0 content-start gap-5">
      {#if a.admitted}
        <section>
          <h2>
            Admitted <span class="font-normal text-quiet"
              >from {a.promoted_from} by {a.admitted.by}, {ago(a.admitted.created_at)}</span
            >
          </h2>
          <Verdicts verdicts={a.admitted.verdicts} />
          {#if a.admitted.note}<p class="mt-2 whitespace-pre-wrap">{a.admitted.note}</p>{/if}
        </section>
      {/if}
      {#if a.inputs.length > 0}
        <section>
          <h2>Its build took in</h2>
          <table class="rows">
            <tbody>
              {#each a.inputs as i (i.store + i.name + i.path + i.stage)}
                <tr
                  ><td
                    ><a class="quiet" href="/stores/{i.store}/{i.name}/{i.version}"
                      >{i.store}/<b>{i.name}</b>@{i.version}</a
                    ></td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        </section>
      {/if}
      <section>
        <h2>Provenance</h2>
        <p class="text-quiet">
          {a.statements > 0
            ? 'One signed statement (in-toto, SLSA v1) covers these files.'
            : 'No statement: nobody built this here.'}
        </p>
      </section>
    </div>
  </div>
{/if}

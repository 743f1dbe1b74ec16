<script lang="ts">
  import { api, got } from '../lib/api';
  import { ago, short, title } from '../lib/format';
  import { live } from '../lib/live.svelte';
  import Mark from '../lib/Mark.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import Verdicts from '../lib/Verdicts.svelte';
  import { route } from '../router';

  const digest = route.getParams('/trace/:digest').digest;
  const trace = live(() => got(api.GET('/api/v1/trace/{digest}', { params: { path: { digest } } })));
</script>

<svelte:head><title>Trace · Oskeld</title></svelte:head>
<Trail steps={[['Trace'], [digest.slice(0, 16) + '…']]} />
<h1>{trace.value?.places[0]?.path || trace.value?.places[0]?.name || 'Trace'}</h1>
<p class="mono break-all text-quiet">sha256:{digest}</p>
{#if trace.failure}<Trouble failure={trace.failure} />{/if}
{#if trace.value}
  {@const t = trace.value}
  {@const b = t.build}
  <div class="mt-4 grid gap-7 lg:grid-cols-2">
    <section>
      <h2>Lies in</h2>
      <table class="rows">
        <tbody>
          {#each t.places as q (q.store + q.version + q.path)}
            <tr>
              <td>
                <a class="plain" href="/stores/{q.store}/{q.name}/{q.version}">{q.store}/{q.name}@{q.version}</a>
                {#each q.marks as m (m)}<span class="ml-1 rounded border border-ink px-1.5 text-[12px]">{m}</span
                  >{/each}
                {#if q.path}<br /><span class="text-quiet">as {q.path}</span>{/if}
                {#if q.admitted}<br /><span class="text-quiet"
                    >promoted by {q.admitted.by}, {ago(q.admitted.created_at)}</span
                  ><Verdicts verdicts={q.admitted.verdicts} />{/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      <h2 class="mt-5">
        Taken in by <span class="font-normal text-quiet">{t.uses.length === 0 ? 'no build yet' : ''}</span>
      </h2>
      <table class="rows">
        <tbody>
          {#each t.uses as u (u.build)}<tr
              ><td><a class="plain" href="/pipelines/{u.build}">{u.build}</a> <span class="mono">{u.version}</span></td
              ><td class="text-quiet">{ago(u.at)}</td></tr
            >{/each}
        </tbody>
      </table>
    </section>
    <section>
      {#if b}
        <h2>Made by <a class="plain" href="/pipelines/{b.pipeline}/{b.number}">{b.pipeline} / {b.number}</a></h2>
        <p class="text-quiet">
          from {b.tag || b.branch} at <span class="mono">{short(b.commit)}</span>
          {b.subject}; started by {b.started_by}
        </p>
        <table class="rows">
          <thead><tr><th>stage</th><th>agent</th><th class="number">tests</th></tr></thead>
          <tbody>
            {#each b.runs as r (r.index)}
              <tr
                ><td><Mark state={r.state} /> {title(r)}</td><td>{r.agent}</td><td class="number"
                  >{r.tests ? `${r.tests.passed} of ${r.tests.total}` : ''}</td
                ></tr
              >
            {/each}
          </tbody>
        </table>
        {#if b.inputs.length > 0}
          <h2 class="mt-5">From</h2>
          <table class="rows">
            <tbody>
              {#each b.inputs as i (i.store + i.name + i.path + i.stage)}
                <tr
                  ><td><a class="quiet" href="/trace/{i.digest}">{i.store}/<b>{i.name}</b>@{i.version}#{i.path}</a></td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        {/if}
        <h2 class="mt-5">Changes</h2>
        <table class="rows">
          <tbody>
            {#each b.changes as c (c.commit)}<tr
                ><td class="mono text-quiet">{short(c.commit)}</td><td class="w-full">{c.subject}</td><td
                  class="whitespace-nowrap">{c.author}</td
                ></tr
              >{/each}
          </tbody>
        </table>
      {:else}
        <p class="text-quiet">
          Delivered by {t.places[0]?.by}; nobody built it here, so nothing is known of how it was made.
        </p>
      {/if}
    </section>
  </div>
{/if}

<script lang="ts">
  import { api, got } from '../lib/api';
  import BuildRows from '../lib/BuildRows.svelte';
  import Empty from '../lib/Empty.svelte';
  import { live } from '../lib/live.svelte';
  import Mark from '../lib/Mark.svelte';
  import Trouble from '../lib/Trouble.svelte';

  const builds = live(async () => (await got(api.GET('/api/v1/builds', { params: { query: { most: 40 } } }))).list);
  const agents = live(async () => (await got(api.GET('/api/v1/agents'))).list);
  const open = $derived(builds.value?.filter((b) => !b.ended_at) ?? []);
  const ended = $derived(builds.value?.filter((b) => b.ended_at) ?? []);
  // What is broken: the newest build of a branch did not pass.
  const broken = $derived(
    ended.filter(
      (b, i) =>
        b.state !== 'passed' &&
        !ended.slice(0, i).some((n) => n.pipeline === b.pipeline && n.branch === b.branch && n.tag === b.tag),
    ),
  );
  const here = $derived(agents.value?.filter((a) => a.here) ?? []);
</script>

<svelte:head><title>Now · Oskeld</title></svelte:head>
<h1 class="mb-3">Now</h1>
{#if builds.failure}<Trouble failure={builds.failure} />{/if}
{#if builds.value}
  {#if builds.value.length === 0}
    <Empty say="Nothing was built yet. Start a pipeline:" command="oskeld start PIPELINE --ref main --follow" />
  {:else}
    <section class="mb-7">
      <h2>Runs and waits <span class="font-normal text-quiet">{open.length === 0 ? 'nothing just now' : ''}</span></h2>
      {#if open.length > 0}<BuildRows builds={open} label="running and waiting builds" />{/if}
      <p class="mt-2 text-quiet">
        {here.length} of {agents.value?.length ?? 0} agents here:
        {#each here as a, i (a.name)}{i > 0 ? ', ' : ''}<a class="quiet" href="/agents">{a.name}</a>
          {a.does.length > 0 ? `runs ${a.does.join(', ')}` : 'is free'}{/each}
      </p>
    </section>
    <section class="mb-7">
      <h2>
        Broken <span class="font-normal text-quiet"
          >{broken.length === 0 ? 'nothing: the newest build of every branch passed' : ''}</span
        >
      </h2>
      {#if broken.length > 0}<BuildRows builds={broken} label="broken builds" />{/if}
    </section>
    <section>
      <h2>Lately</h2>
      <BuildRows builds={ended} label="ended builds" />
    </section>
  {/if}
{:else if !builds.failure}
  <p class="text-quiet"><Mark state="waiting" /> reading …</p>
{/if}

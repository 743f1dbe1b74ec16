<script lang="ts">
  import Button from 'flowbite-svelte/Button.svelte';
  import { api, Failure, got } from '../lib/api';
  import BuildRows from '../lib/BuildRows.svelte';
  import Columns from '../lib/Columns.svelte';
  import Empty from '../lib/Empty.svelte';
  import { live } from '../lib/live.svelte';
  import Patterns from '../lib/Patterns.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import { navigate, route } from '../router';

  const name = route.getParams('/pipelines/:pipeline').pipeline;
  const pipeline = live(() => got(api.GET('/api/v1/pipelines/{name}', { params: { path: { name } } })), false);
  const builds = live(
    async () => (await got(api.GET('/api/v1/pipelines/{name}/builds', { params: { path: { name } } }))).list,
  );
  let ref = $state('');
  let refused = $state<Failure>();
  let busy = $state(false);

  async function start(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    refused = undefined;
    try {
      const b = await got(api.POST('/api/v1/pipelines/{name}/builds', { params: { path: { name } }, body: { ref } }));
      navigate('/pipelines/:pipeline/:number', { params: { pipeline: name, number: String(b.number) } });
    } catch (e) {
      refused = e as Failure;
    }
    busy = false;
  }
</script>

<svelte:head><title>{name} · Oskeld</title></svelte:head>
<Patterns />
<Trail steps={[['Pipelines', '/pipelines'], [name]]} />
<div class="flex flex-wrap items-end justify-between gap-3">
  <div>
    <h1>{name}</h1>
    <p class="text-quiet">
      {pipeline.value ? `${pipeline.value.summary} · ${pipeline.value.file} of source ${pipeline.value.source}` : ''}
    </p>
  </div>
  <form onsubmit={start} class="flex items-center gap-2">
    <label class="text-quiet" for="ref">branch, tag or commit</label>
    <input
      id="ref"
      bind:value={ref}
      placeholder="default branch"
      class="w-40 rounded-md border border-edge bg-raised px-2 py-1.5 text-[14px] text-ink placeholder:text-quiet"
    />
    <Button type="submit" size="sm" disabled={busy}>Start</Button>
  </form>
</div>
{#if refused}<Trouble failure={refused} />{/if}
{#if pipeline.failure}<Trouble failure={pipeline.failure} />{/if}
{#if builds.value?.length === 0}
  <Empty say="Not built yet:" command="oskeld start {name} --follow" />
{:else if builds.value}
  <Columns builds={builds.value} />
  <BuildRows builds={builds.value} pipelines={false} />
{/if}

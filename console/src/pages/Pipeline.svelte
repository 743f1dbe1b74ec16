<script lang="ts">
  import { api, got } from '../lib/api';
  import BuildRows from '../lib/BuildRows.svelte';
  import Columns from '../lib/Columns.svelte';
  import Empty from '../lib/Empty.svelte';
  import { live } from '../lib/live.svelte';
  import PipelineFile from '../lib/PipelineFile.svelte';
  import Patterns from '../lib/Patterns.svelte';
  import StartForm from '../lib/StartForm.svelte';
  import Starts from '../lib/Starts.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import { route } from '../router';

  const name = route.getParams('/pipelines/:pipeline').pipeline;
  const pipeline = live(() => got(api.GET('/api/v1/pipelines/{name}', { params: { path: { name } } })), false);
  const builds = live(
    async () => (await got(api.GET('/api/v1/pipelines/{name}/builds', { params: { path: { name } } }))).list,
  );
  const starts = live(
    async () => (await got(api.GET('/api/v1/pipelines/{name}/starts', { params: { path: { name } } }))).list,
  );
  const file = live(() => got(api.GET('/api/v1/pipelines/{name}/file', { params: { path: { name } } })), false);
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
  <StartForm pipeline={name} asks={file.value?.asks ?? []} />
</div>
{#if pipeline.failure}<Trouble failure={pipeline.failure} />{/if}
{#if builds.value?.length === 0}
  <Empty say="Not built yet:" command="oskeld start {name} --follow" />
{:else if builds.value}
  <Columns builds={builds.value} />
  <BuildRows builds={builds.value} pipelines={false} />
{/if}
{#if pipeline.value && starts.value}<Starts pipeline={pipeline.value} list={starts.value} />{/if}
{#if starts.failure}<Trouble failure={starts.failure} />{/if}
{#if file.failure}<Trouble failure={file.failure} />{/if}
{#if file.value}
  <div class="mt-8"><PipelineFile file={file.value} /></div>
{/if}

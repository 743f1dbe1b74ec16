<script lang="ts">
  // Binds a pipeline to a source's file. For a source that has none, one is proposed, to be committed there.
  import Button from 'flowbite-svelte/Button.svelte';
  import { api, Failure, got, type Schemas } from '../lib/api';
  import Empty from '../lib/Empty.svelte';
  import FileText from '../lib/FileText.svelte';
  import { live } from '../lib/live.svelte';
  import QuietButton from '../lib/QuietButton.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import { navigate } from '../router';

  const sources = live(async () => (await got(api.GET('/api/v1/sources'))).list, false);
  let source = $state(new URLSearchParams(location.search).get('source') ?? '');
  let name = $state('');
  let proposal = $state<Schemas['SourceProposal']>();
  let answers = $state<Record<string, string>>({});
  let failure = $state<Failure>();
  let refused = $state<Failure>();
  let looking = $state(false);
  let copied = $state(false);

  async function look() {
    failure = undefined;
    proposal = undefined;
    if (!source) return;
    looking = true;
    try {
      const answer = Object.entries(answers).map(([k, v]) => `${k}=${v}`);
      proposal = await got(
        api.GET('/api/v1/sources/{name}/proposal', { params: { path: { name: source }, query: { answer } } }),
      );
      name = /^pipeline\s*=\s*"([^"]+)"/m.exec(proposal.text)?.[1] ?? source;
    } catch (e) {
      failure = e as Failure;
    }
    looking = false;
  }
  $effect(() => {
    if (source) void look();
  });
  async function bind(e: SubmitEvent) {
    e.preventDefault();
    refused = undefined;
    try {
      await got(api.POST('/api/v1/pipelines', { body: { name, source } }));
      navigate('/pipelines/:pipeline', { params: { pipeline: name } });
    } catch (e) {
      refused = e as Failure;
    }
  }
  async function copy() {
    await navigator.clipboard.writeText(proposal?.text ?? '');
    copied = true;
  }
  const field = 'h-9 rounded-md border border-edge bg-raised px-2 py-1.5 text-[14px] text-ink';
</script>

<svelte:head><title>Add a pipeline · Oskeld</title></svelte:head>
<Trail steps={[['Pipelines', '/pipelines'], ['add']]} />
<h1 class="mb-3">Add a pipeline</h1>
{#if sources.value?.length === 0}
  <Empty say="Bind a source first:" command="oskeld source add NAME URL --project PROJECT" />
{:else if sources.value}
  <form onsubmit={bind} class="flex flex-wrap items-end gap-4">
    <div>
      <label class="block text-[13px] text-quiet" for="source">source</label>
      <select id="source" bind:value={source} class="{field} w-48 pr-8" required>
        <option value="" disabled>choose one</option>
        {#each sources.value as s (s.name)}<option>{s.name}</option>{/each}
      </select>
    </div>
    <div>
      <label class="block text-[13px] text-quiet" for="pipeline">name, as its file says</label>
      <input id="pipeline" bind:value={name} class="{field} w-48" required />
    </div>
    <Button type="submit" size="sm" disabled={!source}>Add</Button>
  </form>
  {#if refused}<Trouble failure={refused} />{/if}
  {#if failure}<Trouble {failure} />{/if}
  {#if looking}<p class="mt-4 text-quiet">looking at what {source} holds …</p>{/if}
  {#if proposal?.there}
    <p class="mt-4">{source} has an {proposal.file} already: add it under the name that it says.</p>
  {:else if proposal}
    <section class="mt-5">
      <div class="flex flex-wrap items-end justify-between gap-3">
        <h2>
          {source} has no {proposal.file} yet
          <span class="font-normal text-quiet">this one fits: {proposal.found.join('; ') || 'what there is'}</span>
        </h2>
        <QuietButton size="xs" onclick={copy}>{copied ? 'Copied' : 'Copy'}</QuietButton>
      </div>
      {#each proposal.questions as q (q.key)}
        <p class="my-2 flex flex-wrap items-center gap-2">
          <label for="q-{q.key}">{q.text}</label>
          <select
            id="q-{q.key}"
            value={q.chosen}
            class="{field} pr-8"
            onchange={(e) => {
              answers = { ...answers, [q.key]: e.currentTarget.value };
              void look();
            }}
          >
            {#each q.choices as c (c)}<option>{c}</option>{/each}
          </select>
        </p>
      {/each}
      {#each proposal.notes as n (n)}<p class="my-1 border-l-4 border-ochre bg-raised px-3 py-1">{n}</p>{/each}
      <FileText text={proposal.text} />
      <p class="mt-2 text-quiet">
        Commit it as {proposal.file} at the top of {source} and push; then add the pipeline here. On a desk,
        <span class="mono">oskeld propose</span> writes the same, and <span class="mono">oskeld rehearse</span> runs it.
      </p>
    </section>
  {/if}
{/if}

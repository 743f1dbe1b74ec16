<script lang="ts">
  // Starts a build: a ref, and a field for each ask of the file, of the kind that it is.
  import Button from 'flowbite-svelte/Button.svelte';
  import { api, Failure, got, type Schemas } from './api';
  import Trouble from './Trouble.svelte';
  import { navigate } from '../router';

  let { pipeline, asks }: { pipeline: string; asks: Schemas['Ask'][] } = $props();
  let ref = $state('');
  let chosen = $state<Record<string, string>>({});
  let refused = $state<Failure>();
  let busy = $state(false);
  const value = (a: Schemas['Ask']) => chosen[a.name] ?? a.usual;

  async function start(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    refused = undefined;
    try {
      const b = await got(
        api.POST('/api/v1/pipelines/{name}/builds', {
          params: { path: { name: pipeline } },
          body: { ref, asks: chosen },
        }),
      );
      navigate('/pipelines/:pipeline/:number', { params: { pipeline, number: String(b.number) } });
    } catch (e) {
      refused = e as Failure;
    }
    busy = false;
  }
  const field = 'h-9 rounded-md border border-edge bg-raised px-2 py-1.5 text-[14px] text-ink placeholder:text-quiet';
</script>

<form onsubmit={start} class="flex flex-wrap items-end gap-x-4 gap-y-2">
  <div>
    <label class="block text-[13px] text-quiet" for="ref">branch, tag or commit</label>
    <input id="ref" bind:value={ref} placeholder="default branch" class="w-40 {field}" />
  </div>
  {#each asks as a (a.name)}
    <div>
      <label class="block text-[13px] text-quiet" for="ask-{a.name}" title={a.about}>{a.name}</label>
      {#if (a.picks ?? []).length > 0}
        <select
          id="ask-{a.name}"
          value={value(a)}
          onchange={(e) => (chosen = { ...chosen, [a.name]: e.currentTarget.value })}
          class="{field} pr-8"
          aria-describedby="about-{a.name}"
        >
          {#each a.picks ?? [] as p (p)}<option>{p}</option>{/each}
        </select>
      {:else if a.kind === 'flag'}
        <label class="flex h-9 items-center gap-2">
          <input
            id="ask-{a.name}"
            type="checkbox"
            checked={value(a) === 'true'}
            onchange={(e) => (chosen = { ...chosen, [a.name]: String(e.currentTarget.checked) })}
            class="rounded border-edge text-ember"
            aria-describedby="about-{a.name}"
          />yes</label
        >
      {:else}
        <input
          id="ask-{a.name}"
          type={a.kind === 'number' ? 'number' : 'text'}
          value={value(a)}
          oninput={(e) => (chosen = { ...chosen, [a.name]: e.currentTarget.value })}
          class="{a.kind === 'number' ? 'w-24' : 'w-44'} {field}"
          aria-describedby="about-{a.name}"
        />
      {/if}
      <span class="sr-only" id="about-{a.name}">{a.about}</span>
    </div>
  {/each}
  <Button type="submit" size="sm" disabled={busy}>Start</Button>
</form>
{#if refused}<Trouble failure={refused} />{/if}

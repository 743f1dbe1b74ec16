<script lang="ts">
  // A promotion with each rule's verdict before the button.
  import Button from 'flowbite-svelte/Button.svelte';
  import { api, Failure, got, type Artifact, type Promotion, type Schemas } from './api';
  import Command from './Command.svelte';
  import { size } from './format';
  import Trouble from './Trouble.svelte';
  import Verdicts from './Verdicts.svelte';

  let {
    artifact,
    stores,
    target = $bindable(),
    done,
  }: { artifact: Artifact; stores: Schemas['Store'][]; target: string; done: () => void } = $props();
  const above = $derived(stores.filter((s) => s.from.includes(artifact.store)));
  let mark = $state('');
  let note = $state('');
  let judged = $state<Promotion>();
  let failure = $state<Failure>();
  let busy = $state(false);
  let said = $state('');
  const from = $derived(`${artifact.store}/${artifact.name}@${artifact.version}`);

  $effect(() => {
    if (!above.some((s) => s.name === target)) target = above[0]?.name ?? '';
  });
  $effect(() => {
    judged = undefined;
    failure = undefined;
    said = '';
    const to = target;
    const of = from;
    if (!to) return;
    got(api.POST('/api/v1/promotions', { body: { from: of, to, dry_run: true } })).then(
      (p) => {
        if (of === from && to === target) judged = p;
      },
      (e: Failure) => (failure = e),
    );
  });

  async function promote() {
    busy = true;
    failure = undefined;
    try {
      const p = await got(api.POST('/api/v1/promotions', { body: { from, to: target, mark, note } }));
      judged = p;
      said = p.accepted ? `${artifact.version} is in ${target} now` : p.cause;
      if (p.accepted) done();
    } catch (e) {
      failure = e as Failure;
    }
    busy = false;
  }
  const field = 'rounded-md border border-edge bg-ground px-2 py-1 text-[14px] text-ink';
</script>

<section class="rounded-lg border border-edge bg-raised p-4">
  {#if above.length === 0}
    <h2>{artifact.version} in {artifact.store}</h2>
    <p class="text-quiet">No store admits from {artifact.store}: it is the top of this ladder.</p>
  {:else}
    <h2 class="flex flex-wrap items-center gap-2 text-[15px]">
      Promote {artifact.version} to
      {#if above.length === 1}{target}{:else}
        <select bind:value={target} aria-label="store to promote to" class={field}>
          {#each above as s (s.name)}<option>{s.name}</option>{/each}
        </select>
      {/if}
    </h2>
    <p class="mb-1 text-quiet">Same bytes, new place: {size(artifact.size)}, nothing is copied.</p>
    {#if judged}
      <Verdicts verdicts={judged.verdicts} />
      {#if !judged.accepted && judged.verdicts.every((v) => v.met)}<p class="mt-2 text-quiet">{judged.cause}</p>{/if}
    {:else if !failure}<p class="text-quiet">judging …</p>{/if}
    {#if failure}<Trouble {failure} />{/if}
    <div class="mt-3 grid gap-2">
      <label class="flex items-center gap-2 text-quiet"
        >set mark <input bind:value={mark} class="{field} w-28" placeholder="none" /></label
      >
      <label class="grid gap-1 text-quiet">notes <textarea bind:value={note} rows="2" class={field}></textarea></label>
    </div>
    <div class="my-3">
      <Button onclick={promote} disabled={busy || !judged?.accepted} size="sm">
        {judged && !judged.accepted ? 'Promote: not admitted' : 'Promote'}
      </Button>
      <span role="status" class="ml-2 text-moss">{said}</span>
    </div>
    <Command text="oskeld promote {from} --to {target}{mark ? ` --mark ${mark}` : ''}" />
  {/if}
</section>

<script lang="ts">
  // What could start a pipeline lately, and what came of it; its start rules can be let rest here.
  import { api, got, type Failure, type Schemas } from './api';
  import { ago } from './format';
  import QuietButton from './QuietButton.svelte';
  import Trouble from './Trouble.svelte';

  let { pipeline, list }: { pipeline: Schemas['Pipeline']; list: Schemas['Occurrence'][] } = $props();
  let turned = $state<boolean>();
  let refused = $state<Failure>();
  const resting = $derived(turned ?? pipeline.resting);

  async function turn() {
    refused = undefined;
    try {
      const p = await got(
        api.PUT('/api/v1/pipelines/{name}', {
          params: { path: { name: pipeline.name } },
          body: { resting: !resting },
        }),
      );
      turned = p.resting;
    } catch (e) {
      refused = e as Failure;
    }
  }
</script>

<section class="mt-7">
  <div class="flex flex-wrap items-center justify-between gap-3">
    <h2>
      Starts <span class="font-normal text-quiet"
        >{resting
          ? 'the start rules rest: only people start it'
          : list.length === 0
            ? 'nothing has happened yet that a start rule looks at'
            : 'what happened lately, and what came of it'}</span
      >
    </h2>
    <QuietButton onclick={turn}>{resting ? 'Wake the rules' : 'Let the rules rest'}</QuietButton>
  </div>
  {#if refused}<Trouble failure={refused} />{/if}
  {#if list.length > 0}
    <table class="rows">
      <tbody>
        {#each list as o (o.at + o.kind + o.says)}
          <tr>
            <td class="w-px whitespace-nowrap pr-4 text-quiet">{ago(o.at)}</td>
            <td>{o.says}</td>
            <td class="w-1/2">
              {#if o.outcome === 'started'}
                <a class="plain" href="/pipelines/{pipeline.name}/{o.number}">build {o.number}</a>
              {:else if o.outcome === 'refused'}
                <b class="text-madder">refused</b> {o.cause}
              {:else}
                <span class="text-quiet">nothing: {o.cause}</span>
              {/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
</section>

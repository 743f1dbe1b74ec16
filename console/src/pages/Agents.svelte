<script lang="ts">
  import { api, got, type Failure, type Schemas } from '../lib/api';
  import Empty from '../lib/Empty.svelte';
  import { admitted, ago, size } from '../lib/format';
  import { live } from '../lib/live.svelte';
  import QuietButton from '../lib/QuietButton.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import Scroll from '../lib/Scroll.svelte';

  const agents = live(async () => (await got(api.GET('/api/v1/agents'))).list);
  const me = live(() => got(api.GET('/api/v1/status')), false);
  let refused = $state<Failure>();

  async function drain(name: string, draining: boolean) {
    refused = undefined;
    try {
      await got(api.PUT('/api/v1/agents/{name}', { params: { path: { name } }, body: { draining } }));
    } catch (e) {
      refused = e as Failure;
    }
  }
  function is(a: Schemas['Agent']): string {
    if (!a.here) return `away since ${ago(a.seen_at)}`;
    if (a.draining) return a.does.length > 0 ? 'draining' : 'drained';
    return 'here';
  }
  const order = ['os', 'arch', 'cpus', 'memory'];
  const facts = (f: Record<string, string>) =>
    Object.entries(f).sort(
      ([a], [b]) => ((order.indexOf(a) + 99) % 99) - ((order.indexOf(b) + 99) % 99) || a.localeCompare(b),
    );
</script>

<svelte:head><title>Agents · Oskeld</title></svelte:head>
<h1 class="mb-3">Agents</h1>
{#if agents.failure}<Trouble failure={agents.failure} />{/if}
{#if refused}<Trouble failure={refused} />{/if}
{#if agents.value?.length === 0}
  <Empty say="No agent yet. Make a join token, and run the agent with it:" command="oskeld agent add" />
{:else if agents.value}
  <Scroll label="agents">
    <table class="rows">
      <thead
        ><tr
          ><th>agent</th><th>is</th><th class="number">places</th><th>does</th><th>for</th><th>facts</th
          >{#if me.value?.owner}<th>work</th>{/if}</tr
        ></thead
      >
      <tbody>
        {#each agents.value as a (a.name)}
          <tr>
            <td class="font-bold">{a.name}</td>
            <td class="whitespace-nowrap {is(a) === 'here' ? 'text-moss' : 'text-ochre'}">{is(a)}</td>
            <td class="number">{a.places}</td>
            <td class="whitespace-nowrap"
              >{#each a.does as d (d)}<a class="quiet" href="/pipelines/{d.split(' ')[0]}">{d}</a><br />{:else}<span
                  class="text-quiet">nothing</span
                >{/each}</td
            >
            <td>{admitted(a.admits)}</td>
            <td class="w-full"
              ><div class="flex flex-wrap gap-x-4">
                {#each facts(a.facts) as [k, v] (k)}<span class="mr-3 whitespace-nowrap"
                    ><span class="text-quiet">{k}</span> {k === 'memory' ? size(Number(v)) : v}</span
                  >
                {/each}
              </div>
            </td>
            {#if me.value?.owner}
              <td>
                <QuietButton
                  size="xs"
                  label="{a.draining ? 'Resume' : 'Drain'} {a.name}"
                  onclick={() => drain(a.name, !a.draining)}>{a.draining ? 'Resume' : 'Drain'}</QuietButton
                >
              </td>
            {/if}
          </tr>
        {/each}
      </tbody>
    </table>
  </Scroll>
{/if}

<script lang="ts">
  // What a pipeline's file says: its mistakes, its chains, what starts it by itself, and the text.
  import type { Schemas } from './api';
  import { short } from './format';
  import FileText from './FileText.svelte';

  let { file }: { file: Schemas['PipelineFile'] } = $props();
  const when = (at: string) => {
    // The time stands in the zone of its rule, which the text bears.
    const [date, rest] = at.split('T') as [string, string];
    const day = new Date(`${date}T12:00:00Z`).toLocaleDateString('en-GB', {
      weekday: 'short',
      day: 'numeric',
      month: 'short',
      timeZone: 'UTC',
    });
    return `${day}, ${rest.slice(0, 5)}`;
  };
</script>

<div class="grid gap-7 lg:grid-cols-[2fr_1fr]">
  <section class="min-w-0">
    <h2>
      {file.file}
      <span class="font-normal text-quiet">of {file.ref} at <span class="mono">{short(file.commit)}</span></span>
    </h2>
    {#each file.diagnostics as d (`${d.line}-${d.column}-${d.code}`)}
      <p class="my-1 border-l-4 {d.code.startsWith('W') ? 'border-ochre' : 'border-madder'} bg-raised px-3 py-1">
        <span class="mono text-quiet">{d.line}:{d.column}</span>
        <b>{d.code}</b>
        {d.message}
        {#if d.advice}<span class="text-quiet">({d.advice})</span>{/if}
      </p>
    {/each}
    <FileText text={file.text} diagnostics={file.diagnostics} />
  </section>
  <div class="grid min-w-0 content-start gap-5">
    <section>
      <h2>
        Starts by itself <span class="font-normal text-quiet">{file.starts.length === 0 ? 'never' : 'after'}</span>
      </h2>
      <ul class="grid gap-2">
        {#each file.starts as s (s.says)}
          <li>
            {s.says}
            {#each s.next as at (at)}
              <span class="block pl-4 text-quiet tabular-nums">next {when(at)}</span>
            {/each}
          </li>
        {/each}
      </ul>
    </section>
    <section>
      <h2>Chains <span class="font-normal text-quiet">an agent and a workspace each</span></h2>
      <ul class="grid gap-1">
        {#each file.chains as c (c)}<li>{c}</li>{/each}
      </ul>
    </section>
    {#if file.asks.length > 0}
      <section>
        <h2>Asks</h2>
        <ul class="grid gap-1">
          {#each file.asks as a (a.name)}
            <li>
              <b>{a.name}</b>
              {a.about}
              <span class="text-quiet"
                >{(a.picks ?? []).length > 0 ? (a.picks ?? []).join(' or ') : a.kind}, usually {a.usual ||
                  'nothing'}</span
              >
            </li>
          {/each}
        </ul>
      </section>
    {/if}
  </div>
</div>

<script lang="ts">
  // A pipeline file as text, numbered; lines that a diagnostic points at are marked.
  import type { Schemas } from './api';

  let { text, diagnostics = [] }: { text: string; diagnostics?: Schemas['Diagnostic'][] } = $props();
  const lines = $derived(text.replace(/\n$/, '').split('\n'));
  const marked = $derived(new Map(diagnostics.map((d) => [d.line, d.code.startsWith('W') ? 'warning' : 'error'])));
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div
  class="max-h-[34rem] overflow-auto rounded-md border border-edge bg-raised"
  role="region"
  aria-label="the file"
  tabindex="0"
>
  <table class="mono text-[13px] leading-[1.5]">
    <tbody>
      {#each lines as line, i (i)}
        <tr
          class={marked.get(i + 1) === 'error' ? 'bg-sunk text-madder' : marked.has(i + 1) ? 'bg-sunk text-ochre' : ''}
        >
          <td class="w-10 pr-3 text-right text-quiet select-none">{i + 1}</td>
          <td class="pr-4 whitespace-pre {line.trimStart().startsWith('#') ? 'text-quiet' : ''}">{line}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>

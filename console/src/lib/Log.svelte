<script lang="ts">
  // The log of one stage run: numbered, foldable by step, times on demand, searched, an address for each line.
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import { untrack } from 'svelte';
  import type { LogLine, StageRun } from './api';
  import { pieces } from './ansi';
  import { length, title } from './format';

  let { run, lines, textAddress }: { run: StageRun; lines: LogLine[]; textAddress: string } = $props();

  let folded = $state<Record<number, boolean>>({});
  let times = $state(false);
  let wrap = $state(false);
  let finding = $state('');
  let follow = $state(true);
  let box = $state<HTMLDivElement>();
  let find: HTMLInputElement;

  type Row = { step: number } | { line: LogLine };
  const rows = $derived.by(() => {
    const out: Row[] = [];
    const wanted = finding.toLowerCase();
    let step = -1;
    const upTo = (n: number) => {
      while (step < n) out.push({ step: ++step });
    };
    for (const l of lines) {
      upTo(Math.max(0, Math.min(l.step, run.steps.length - 1)));
      if (wanted ? l.text.toLowerCase().includes(wanted) : !folded[l.step]) out.push({ line: l });
    }
    upTo(run.steps.length - 1);
    return out;
  });

  const virtualizer = createVirtualizer<HTMLDivElement, HTMLDivElement>({
    count: 0,
    getScrollElement: () => box ?? null,
    estimateSize: () => 20,
    overscan: 20,
  });
  $effect(() => {
    const count = rows.length;
    const wrapped = wrap;
    const element = box ?? null;
    untrack(() => {
      $virtualizer.setOptions({
        count,
        getScrollElement: () => element,
        estimateSize: () => 20,
        overscan: wrapped ? 60 : 20,
      });
      $virtualizer.measure();
      if (follow && run.state === 'running' && count > 0) $virtualizer.scrollToIndex(count - 1, { align: 'end' });
    });
  });

  const marked = Number(/^#L(\d+)$/.exec(location.hash)?.[1] ?? 0);
  let reached = false;
  $effect(() => {
    if (!marked || reached || lines.length < 1) return;
    const at = rows.findIndex((r) => 'line' in r && r.line.n === marked);
    if (at < 0) return;
    reached = true;
    follow = false;
    untrack(() => $virtualizer.scrollToIndex(at, { align: 'center' }));
  });

  const bad = (text: string) => /^(failed: |\s*--- FAIL|FAIL|panic:|error:|fatal:|Error:)/.test(text);
  function key(e: KeyboardEvent) {
    if (e.ctrlKey || e.metaKey || e.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test((e.target as HTMLElement).tagName))
      return;
    if (e.key === 'f') find.focus();
    else if (e.key === 't') times = !times;
    else if (e.key === 'w') wrap = !wrap;
    else return;
    e.preventDefault();
  }
  function scrolled() {
    if (box) follow = box.scrollTop + box.clientHeight > box.scrollHeight - 40;
  }
  const shortcut = 'rounded border border-edge bg-raised px-1.5 mono text-[12px]';
</script>

<svelte:window onkeydown={key} />

<div class="mb-1.5 flex flex-wrap items-center justify-between gap-2">
  <h2>
    {title(run)} <span class="font-normal text-quiet">{run.agent ? `on ${run.agent}` : ''}</span>
  </h2>
  <div class="flex flex-wrap items-center gap-x-3 gap-y-1 text-[13px] whitespace-nowrap text-quiet">
    <span class="tabular-nums">{lines.length} {lines.length === 1 ? 'line' : 'lines'}</span>
    <label class="flex items-center gap-1.5"
      ><kbd class={shortcut}>f</kbd><input
        bind:this={find}
        bind:value={finding}
        placeholder="find"
        aria-label="find in the log"
        class="w-28 rounded border border-edge bg-raised px-2 py-0.5 text-[13px] text-ink placeholder:text-quiet"
      /></label
    >
    <button type="button" aria-pressed={times} onclick={() => (times = !times)}
      ><kbd class={shortcut}>t</kbd> times</button
    >
    <button type="button" aria-pressed={wrap} onclick={() => (wrap = !wrap)}><kbd class={shortcut}>w</kbd> wrap</button>
    <a class="quiet" href={textAddress} download>text ↓</a>
  </div>
</div>
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div
  bind:this={box}
  onscroll={scrolled}
  class="mono h-[460px] overflow-auto rounded-md border border-edge bg-raised text-[13px] leading-5"
  role="log"
  aria-label="log of {title(run)}"
  tabindex="0"
>
  {#if rows.length === 0}
    <p class="p-3 font-sans text-quiet">
      {run.state === 'waiting'
        ? run.wants || 'not started yet'
        : run.state === 'skipped'
          ? run.cause
          : 'it printed nothing'}
    </p>
  {/if}
  <div class="relative" style:height="{$virtualizer.getTotalSize()}px">
    {#each $virtualizer.getVirtualItems() as item (item.index)}
      {@const row = rows[item.index]}
      {#if row}
        <div
          class="absolute right-0 left-0"
          data-index={item.index}
          style:top="{item.start}px"
          style:min-width={wrap ? '0' : 'max-content'}
          {@attach (node) => {
            if (wrap) untrack(() => $virtualizer.measureElement(node as HTMLDivElement));
          }}
        >
          {#if 'step' in row}
            {@const step = run.steps[row.step]}
            <button
              type="button"
              class="flex h-5 w-full items-center gap-2 bg-sunk px-2 text-left"
              aria-expanded={!folded[row.step]}
              onclick={() => (folded[row.step] = !folded[row.step])}
            >
              <span aria-hidden="true">{folded[row.step] ? '▸' : '▾'}</span>
              <span class="flex-1">{step?.name ?? 'output'}</span>
              <span class="text-quiet"
                >{step ? (step.state === 'passed' ? '' : step.state + ' ') + length(step.took_ms) : ''}</span
              >
            </button>
          {:else}
            <div
              class="flex min-h-5 {row.line.n === marked
                ? 'bg-primary-100 dark:bg-primary-900'
                : bad(row.line.text)
                  ? 'bg-madder/10'
                  : ''}"
            >
              <a
                class="w-14 shrink-0 pr-3 text-right text-quiet select-none hover:underline"
                href="?run={run.index}#L{row.line.n}"
                aria-label="address of line {row.line.n}">{row.line.n}</a
              >
              {#if times}<span class="w-20 shrink-0 pr-3 text-right text-quiet tabular-nums"
                  >{(row.line.ms / 1000).toFixed(3)}</span
                >{/if}
              <span
                class="pr-3 {wrap ? 'min-w-0 break-all whitespace-pre-wrap' : 'whitespace-pre'} {row.line.err
                  ? 'text-ochre'
                  : ''}"
                >{#each pieces(row.line.text) as p, k (k)}<span class={p.tone}>{p.text}</span>{/each}</span
              >
            </div>
          {/if}
        </div>
      {/if}
    {/each}
  </div>
</div>
{#if run.cause && run.state !== 'passed' && run.state !== 'skipped'}
  <p class="mt-1 font-bold {run.state === 'failed' ? 'text-madder' : 'text-plum'}">
    {run.state}: <span class="whitespace-pre-wrap">{run.cause}</span>
  </p>
{/if}
{#each run.notes as note, i (i)}<p class="mt-1 text-ochre">note: {note}</p>{/each}

<script lang="ts">
  // The log of one stage run: numbered, foldable by step, times on demand, searched, an address for each line.
  // Unwrapped lines are all as high, so that where one stands is counted; wrapped ones are measured.
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import { untrack } from 'svelte';
  import type { StageRun } from './api';
  import { pieces } from './ansi';
  import { length, title } from './format';
  import { LogRows, type Row } from './logRows';
  import type { LogWindow } from './LogWindow.svelte';

  let { run, log, textAddress }: { run: StageRun; log: LogWindow; textAddress: string } = $props();

  const high = 20;
  // Browsers draw nothing much higher than this many pixels: beyond it, a pixel of the bar stands for several.
  const tallest = 30_000_000;
  let folded = $state<Record<number, boolean>>({});
  let times = $state(false);
  let wrap = $state(false);
  let finding = $state('');
  let follow = $state(true);
  let box = $state<HTMLDivElement>();
  let top = $state(0); // pixels of the log above what is in view
  let bar = $state(0); // where the scroll bar stands
  let find: HTMLInputElement;

  $effect(() => {
    const text = finding;
    const wait = setTimeout(() => log.find(text), 150);
    return () => clearTimeout(wait);
  });
  const rows = $derived(new LogRows(run, log.total, folded));
  const count = $derived(log.found ? log.found.length : rows.count);
  const rowAt = (i: number): Row | undefined => (log.found ? log.found[i] && { line: log.found[i].n } : rows.at(i));
  const lineAt = (row: { line: number }, i: number) => {
    void log.changed;
    return log.found ? log.found[i] : log.line(row.line);
  };

  const virtualizer = createVirtualizer<HTMLDivElement, HTMLDivElement>({
    count: 0,
    getScrollElement: () => box ?? null,
    estimateSize: () => high,
    overscan: 60,
  });
  $effect(() => {
    const n = wrap ? count : 0;
    const element = box ?? null;
    untrack(() => {
      $virtualizer.setOptions({ count: n, getScrollElement: () => element, estimateSize: () => high, overscan: 60 });
      $virtualizer.measure();
    });
  });
  const items = $derived.by(() => {
    if (wrap) return $virtualizer.getVirtualItems().map((v) => ({ index: v.index, start: v.start }));
    const first = Math.max(0, Math.floor(top / high) - 20);
    const last = Math.min(count, first + Math.ceil((box?.clientHeight ?? 460) / high) + 40);
    return Array.from({ length: Math.max(0, last - first) }, (_, k) => ({
      index: first + k,
      start: (first + k) * high - top + bar,
    }));
  });
  const whole = $derived(wrap ? $virtualizer.getTotalSize() : count * high);
  const drawn = $derived(wrap ? whole : Math.min(whole, tallest));
  const scale = $derived.by(() => {
    const view = box?.clientHeight ?? 460;
    return drawn < whole ? (whole - view) / (drawn - view) : 1;
  });

  $effect(() => {
    void whole;
    if (!follow || run.state !== 'running' || !box || log.found) return;
    untrack(() => box!.scrollTo({ top: box!.scrollHeight }));
  });

  const marked = Number(/^#L(\d+)$/.exec(location.hash)?.[1] ?? 0);
  let reached = false;
  $effect(() => {
    if (!marked || reached || !box || log.total < marked) return;
    const at = rows.of(marked);
    if (at < 0) return;
    reached = true;
    follow = false;
    untrack(() => box!.scrollTo({ top: (at * high - box!.clientHeight / 2) / scale }));
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
    if (!box) return;
    bar = box.scrollTop;
    top = bar * scale;
    follow = box.scrollTop + box.clientHeight > box.scrollHeight - 40;
  }
  const shortcut = 'rounded border border-edge bg-raised px-1.5 mono text-[12px]';
</script>

<svelte:window onkeydown={key} />

<div class="mb-1.5 flex flex-wrap items-center justify-between gap-2">
  <h2>
    {title(run)} <span class="font-normal text-quiet">{run.agent ? `on ${run.agent}` : ''}</span>
  </h2>
  <div class="flex flex-wrap items-center gap-x-3 gap-y-1 text-[13px] whitespace-nowrap text-quiet">
    <span class="tabular-nums" aria-live="polite"
      >{log.found ? `${log.found.length.toLocaleString('en')}${log.more ? '+' : ''} of ` : ''}{log.total.toLocaleString(
        'en',
      )}
      {log.total === 1 ? 'line' : 'lines'}</span
    >
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
  {#if count === 0}
    <p class="p-3 font-sans text-quiet">
      {log.found
        ? 'no line holds this'
        : run.state === 'waiting'
          ? run.wants || 'not started yet'
          : run.state === 'skipped'
            ? run.cause
            : 'it printed nothing'}
    </p>
  {/if}
  <div class="relative" style:height="{drawn}px">
    {#each items as item (item.index)}
      {@const row = rowAt(item.index)}
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
            {@const line = lineAt(row, item.index)}
            <div
              class="flex min-h-5 {row.line === marked
                ? 'bg-primary-100 dark:bg-primary-900'
                : line && bad(line.text)
                  ? 'bg-madder/10'
                  : ''}"
            >
              <a
                class="w-18 shrink-0 pr-3 text-right text-quiet select-none hover:underline"
                href="?run={run.index}#L{row.line}"
                aria-label="address of line {row.line}">{row.line}</a
              >
              {#if line}
                {#if times}<span class="w-20 shrink-0 pr-3 text-right text-quiet tabular-nums"
                    >{(line.ms / 1000).toFixed(3)}</span
                  >{/if}
                <span
                  class="pr-3 {wrap ? 'min-w-0 break-all whitespace-pre-wrap' : 'whitespace-pre'} {line.err
                    ? 'text-ochre'
                    : ''}"
                  >{#each pieces(line.text) as p, k (k)}<span class={p.tone}>{p.text}</span>{/each}</span
                >
              {/if}
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

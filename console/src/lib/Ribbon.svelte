<script lang="ts">
  // One row a stage run over a common time axis: hatched while waiting, dotted while preparing or
  // delivering, solid while working. Lines tie a stage to what it waited for; the critical path is dark.
  import type { BuildDetail, StageRun } from './api';
  import { clock, length, title } from './format';
  import Mark from './Mark.svelte';
  import Patterns from './Patterns.svelte';

  let { build, chosen, choose }: { build: BuildDetail; chosen: number; choose: (run: number) => void } = $props();
  let width = $state(900);
  let now = $state(Date.now());
  $effect(() => {
    if (build.ended_at) return;
    const tick = setInterval(() => (now = Date.now()), 250);
    return () => clearInterval(tick);
  });

  const longest = $derived(Math.max(...build.runs.map((r) => title(r).length)));
  const left = $derived(width < 600 ? 124 : Math.min(270, Math.max(190, 70 + 7.4 * longest)));
  const right = $derived(width < 600 ? 12 : 90);
  const row = 25;
  const top = 22;
  const begin = $derived(Date.parse(build.created_at));
  const end = $derived(build.ended_at ? Date.parse(build.ended_at) : Math.max(now, begin + 1000));
  const span = $derived(Math.max(end - begin, 1000));
  const x = (at: number) => left + ((at - begin) / span) * (width - left - right);
  const steps = [1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 3600].map((s) => s * 1000);
  const grid = $derived.by(() => {
    const step = steps.find((s) => span / s <= 7) ?? 7200_000;
    return Array.from({ length: Math.floor(span / step) + 1 }, (_, i) => i * step);
  });

  interface Bar {
    kind: 'waiting' | 'preparing' | 'working';
    from: number;
    to: number;
  }
  function bars(r: StageRun): Bar[] {
    if (!r.ready_at) return [];
    const ready = Date.parse(r.ready_at);
    const started = r.started_at ? Date.parse(r.started_at) : r.ended_at ? Date.parse(r.ended_at) : end;
    const list: Bar[] = [{ kind: 'waiting', from: ready, to: started }];
    if (!r.started_at) return r.state === 'skipped' ? [] : list;
    const over = r.ended_at ? Date.parse(r.ended_at) : end;
    const prepared = Math.min(started + r.preparing_ms, over);
    const worked = r.ended_at ? Math.max(prepared, over - r.delivering_ms) : over;
    list.push(
      { kind: 'preparing', from: started, to: prepared },
      { kind: 'working', from: prepared, to: worked },
      { kind: 'preparing', from: worked, to: over },
    );
    return list.filter((b) => b.to - b.from > span / 2000);
  }
  const tone = (r: StageRun) =>
    ({ failed: 'fill-madder', running: 'fill-ember', stopped: 'fill-plum', lost: 'fill-ochre' })[r.state as string] ??
    'fill-moss';
  const y = (i: number) => top + i * row;
  const waited = $derived(Math.max(0, ...build.runs.map((r) => r.waiting_ms)));
  // A tie goes from the end of what was needed down to the row that waited for it.
  const ties = $derived(
    build.runs.flatMap((r, i) =>
      r.ready_at
        ? r.needs
            .filter((n) => build.runs[n]?.ended_at)
            .map((n) => ({
              n,
              i,
              at: x(Date.parse(build.runs[n]!.ended_at!)),
              critical: r.critical && build.runs[n]!.critical,
            }))
        : [],
    ),
  );
</script>

<Patterns />
<div class="relative mt-3 overflow-x-auto" bind:clientWidth={width}>
  <svg {width} height={top + build.runs.length * row + 4} class="block" role="group" aria-label="stages over time">
    {#each grid as t (t)}
      <line x1={x(begin + t)} x2={x(begin + t)} y1={top - 4} y2={top + build.runs.length * row} stroke="var(--edge)" />
      <text x={x(begin + t)} y="12" text-anchor="middle" class="fill-quiet text-[12px] tabular-nums">{clock(t)}</text>
    {/each}
    {#each ties as t (`${t.n}-${t.i}`)}
      <path
        d="M{t.at} {y(t.n) + row / 2}V{y(t.i) + row / 2}"
        fill="none"
        stroke={t.critical ? 'var(--ink)' : 'var(--ash)'}
        stroke-width={t.critical ? 1.6 : 1}
        opacity={t.critical ? 1 : 0.6}
      />
    {/each}
    {#each build.runs as r, i (r.index)}
      {#each r.lost as l, j (j)}
        {#if l.started_at}
          <rect
            x={x(Date.parse(l.started_at))}
            y={y(i) + 6.5}
            width={Math.max(1.5, x(Date.parse(l.lost_at)) - x(Date.parse(l.started_at)))}
            height={row - 13}
            rx="1.5"
            fill="none"
            stroke="var(--ochre)"
            stroke-dasharray="3 2"><title>lost with agent {l.agent}</title></rect
          >
        {/if}
      {/each}
      {#each bars(r) as b, j (j)}
        <rect
          x={x(b.from)}
          y={y(i) + 6}
          width={Math.max(1.5, x(b.to) - x(b.from))}
          height={row - 12}
          rx="1.5"
          class={b.kind === 'working' ? tone(r) : ''}
          fill={b.kind === 'waiting' ? 'url(#hatch)' : 'url(#dots)'}
        />
      {/each}
      {#if r.critical && r.started_at}
        <line
          x1={x(Date.parse(r.ready_at ?? r.started_at))}
          x2={x(r.ended_at ? Date.parse(r.ended_at) : end)}
          y1={y(i) + row - 3}
          y2={y(i) + row - 3}
          stroke="var(--ink)"
          stroke-width="1.6"
        />
      {/if}
      {#if right > 20}<text x={width - right + 10} y={y(i) + 17} class="fill-quiet text-[12px]">{r.agent}</text>{/if}
      {#if r.state === 'skipped' || r.state === 'reused' || (r.state === 'waiting' && !r.ready_at)}
        <text x={left + 8} y={y(i) + 17} class="fill-quiet text-[12px]">{r.cause || r.wants}</text>
      {:else if r.working_ms > 0}
        {@const bar = bars(r).find((b) => b.kind === 'working')}
        {@const from = bar ? x(bar.from) : 0}
        {@const to = x(r.ended_at ? Date.parse(r.ended_at) : end)}
        {#if bar && x(bar.to) - from > 56}
          <text x={from + 6} y={y(i) + 17} class="fill-raised text-[12px] tabular-nums">{length(r.working_ms)}</text>
        {:else if to + 50 < width - right}
          <text x={to + 6} y={y(i) + 17} class="fill-ink text-[12px] tabular-nums">{length(r.working_ms)}</text>
        {/if}
      {/if}
    {/each}
  </svg>
  {#each build.runs as r, i (r.index)}
    <button
      type="button"
      onclick={() => choose(r.index)}
      aria-pressed={chosen === r.index}
      class="absolute left-0 flex items-center gap-2 rounded border px-2 text-left text-[14px] {chosen === r.index
        ? 'border-ember font-bold'
        : 'border-transparent hover:border-edge'}"
      style:top="{y(i)}px"
      style:height="{row - 1}px"
      style:width="{left - 14}px"
    >
      <Mark state={r.state} /><span class="truncate" title={title(r)}
        >{#if !r.variant || width >= 600}{r.name}{/if}{#if r.variant}<span
            class="font-normal text-quiet {width >= 600 ? 'ml-1.5' : ''}">{r.variant}</span
          >{/if}</span
      ><span class="sr-only">{r.name} {r.state}</span>
    </button>
  {/each}
</div>
<div class="mt-1 flex flex-wrap gap-x-5 text-[12px] text-quiet">
  {#each [['hatch', `waiting${waited > 0 ? `, ${length(waited)} at most` : ''}`], ['dots', 'preparing, delivering']] as [fill, text] (fill)}
    <span class="flex items-center gap-1.5"
      ><svg width="24" height="9" aria-hidden="true"><rect width="24" height="9" fill="url(#{fill})" /></svg
      >{text}</span
    >
  {/each}
  <span class="flex items-center gap-1.5"
    ><svg width="24" height="9" aria-hidden="true"><rect width="24" height="9" class="fill-moss" /></svg>working</span
  >
  {#if build.runs.some((r) => r.lost.length > 0)}
    <span class="flex items-center gap-1.5"
      ><svg width="24" height="9" aria-hidden="true"
        ><rect x="0.5" y="0.5" width="23" height="8" fill="none" stroke="var(--ochre)" stroke-dasharray="3 2" /></svg
      >lost with its agent</span
    >
  {/if}
  <span class="flex items-center gap-1.5"
    ><svg width="24" height="9" aria-hidden="true"
      ><line y1="5" x2="24" y2="5" stroke="var(--ink)" stroke-width="1.6" /></svg
    >critical path</span
  >
</div>

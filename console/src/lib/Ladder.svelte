<script lang="ts">
  // Time runs across, one rail a store, the lowest at the bottom; a version runs along its rail and
  // steps up when it is promoted; marks sit on it.
  import type { Artifact, Ladder } from './api';

  let {
    ladder,
    chosen,
    choose,
    target,
  }: { ladder: Ladder; chosen: Artifact | undefined; choose: (a: Artifact) => void; target: string } = $props();
  let width = $state(800);
  const left = 110;
  const right = 26;
  const gap = 112;
  const rails = $derived(ladder.stores.map((s) => s.name));
  const height = $derived(rails.length * gap + 40);

  // Versions, each with its admissions from the lowest store up; the newest twelve are drawn.
  const versions = $derived.by(() => {
    const list = [...new Set(ladder.artifacts.map((a) => a.version))]
      .map((v) => ladder.artifacts.filter((a) => a.version === v))
      .map((steps) => steps.toSorted((a, b) => Date.parse(a.created_at) - Date.parse(b.created_at)));
    return list.toSorted((a, b) => Date.parse(a[0]!.created_at) - Date.parse(b[0]!.created_at)).slice(-12);
  });
  // Steps of a history are spread evenly: minutes and months must both be readable.
  const moments = $derived([...new Set(versions.flat().map((a) => a.created_at))].sort());
  const x = (at: string) =>
    left + 24 + (moments.indexOf(at) / Math.max(1, moments.length)) * (width - left - right - 24);
  const now = $derived(width - right);
  const lane = $derived(new Map(versions.map((v, i) => [v[0]!.version, i])));
  function y(a: Artifact): number {
    const rail = height - 30 - rails.indexOf(a.store) * gap - gap / 2;
    const n = versions.length;
    return rail + (n > 1 ? ((lane.get(a.version) ?? 0) / (n - 1) - 0.5) * -Math.min(84, n * 17) : 0);
  }
  // A mark stands behind its version's text, or before the point where there is no room.
  function markAt(a: Artifact, top: boolean, k: number): number {
    const at = x(a.created_at) + 14 + (top ? a.version.length * 7.4 : 0) + k * 62;
    return at + 58 < now ? at : x(a.created_at) - 64 - k * 62;
  }
  const clockTime = { hour: '2-digit', minute: '2-digit', second: '2-digit' } as const;
  const dayTime = { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' } as const;
  const brief = $derived(moments.length > 0 && Date.now() - Date.parse(moments[0]!) < 86400_000);
  const days = $derived.by(() => {
    const out: { at: number; text: string }[] = [];
    for (const m of moments) {
      const text = new Date(m).toLocaleString('en-GB', brief ? clockTime : dayTime);
      const at = x(m);
      if (out.length === 0 || at - out.at(-1)!.at > 96) out.push({ at, text });
    }
    return out.filter((d) => d.at < now - 70);
  });
</script>

<div class="overflow-x-auto" bind:clientWidth={width}>
  <svg {width} {height} role="group" aria-label="the ladder of {ladder.name}">
    {#each ladder.stores as s, i (s.name)}
      {@const at = height - 30 - i * gap - gap / 2}
      <line x1={left} x2={now} y1={at} y2={at} stroke="var(--edge)" stroke-width="1.5" />
      <text x="0" y={at - 2} class="fill-ink text-[14px] font-bold">{s.name}</text>
      <text x="0" y={at + 14} class="fill-quiet text-[11px]">{s.summary}</text>
    {/each}
    {#each days as d (d.at)}
      <line x1={d.at} x2={d.at} y1="6" y2={height - 22} stroke="var(--edge)" />
      <text x={d.at} y={height - 6} text-anchor="middle" class="fill-quiet text-[11px]">{d.text}</text>
    {/each}
    <line x1={now} x2={now} y1="6" y2={height - 22} stroke="var(--edge)" />
    <text x={now} y={height - 6} text-anchor="end" class="fill-quiet text-[11px]">now</text>
    {#each versions as steps (steps[0]!.version)}
      {@const is = chosen?.version === steps[0]!.version}
      {@const tone = is ? 'var(--ember)' : 'var(--moss)'}
      {#each steps as a, i (a.store)}
        {@const next = steps[i + 1]}
        <path
          d="M{x(a.created_at)} {y(a)}H{next ? x(next.created_at) : now}{next ? `V${y(next)}` : ''}"
          fill="none"
          stroke={a.state === 'withdrawn' ? 'var(--ash)' : tone}
          stroke-width={is ? 2.6 : 1.8}
          stroke-dasharray={a.state === 'filling' ? '3 4' : undefined}
        />
        {#if next}<path
            d="M{x(next.created_at)} {y(a)}H{now}"
            stroke={tone}
            stroke-width="1"
            opacity="0.35"
            fill="none"
          />{/if}
      {/each}
      {#each steps as a, i (a.store)}
        <a
          href="#{a.store}-{a.version}"
          aria-label="{a.version} in {a.store}{a.marks.length ? `, marked ${a.marks.join(', ')}` : ''}"
          onclick={(e) => {
            e.preventDefault();
            choose(a);
          }}
        >
          <circle cx={x(a.created_at)} cy={y(a)} r="11" fill="transparent" />
          <path
            d="M{x(a.created_at)} {y(a) - 6}l6 6-6 6-6-6z"
            fill={tone}
            stroke={is && chosen?.store === a.store ? 'var(--ink)' : 'none'}
            stroke-width="1.5"
          />
        </a>
        {#if i === steps.length - 1}
          <text x={x(a.created_at) + 9} y={y(a) - 5} class="mono text-[12px] {is ? 'fill-ember' : 'fill-ink'}"
            >{a.version}</text
          >
        {/if}
        {#each a.marks as m, k (m)}
          <g transform="translate({markAt(a, i === steps.length - 1, k)} {y(a) - 20})">
            <rect width="56" height="16" rx="4" fill="var(--raised)" stroke="var(--ink)" />
            <text x="28" y="12" text-anchor="middle" class="fill-ink text-[11px]">{m}</text>
          </g>
        {/each}
      {/each}
    {/each}
    {#if chosen && target && rails.includes(target)}
      {@const to = height - 30 - rails.indexOf(target) * gap - gap / 2}
      <path d="M{now - 8} {y(chosen)}V{to + 10}" stroke="var(--ember)" stroke-width="2" stroke-dasharray="4 4" />
      <path d="M{now - 8} {to + 2}l5 9h-10z" fill="var(--ember)" />
    {/if}
  </svg>
</div>

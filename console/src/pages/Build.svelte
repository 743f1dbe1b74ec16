<script lang="ts">
  import Button from 'flowbite-svelte/Button.svelte';
  import { untrack } from 'svelte';
  import { api, Failure, got, type BuildDetail, type Schemas } from '../lib/api';
  import { length, moment, short, size, title } from '../lib/format';
  import Log from '../lib/Log.svelte';
  import { LogWindow } from '../lib/LogWindow.svelte';
  import Mark from '../lib/Mark.svelte';
  import QuietButton from '../lib/QuietButton.svelte';
  import Ribbon from '../lib/Ribbon.svelte';
  import Trail from '../lib/Trail.svelte';
  import Trouble from '../lib/Trouble.svelte';
  import { navigate, route } from '../router';

  const { pipeline, number: text } = route.getParams('/pipelines/:pipeline/:number');
  const number = Number(text);
  const address = `/api/v1/builds/${encodeURIComponent(pipeline)}/${number}`;

  let build = $state<BuildDetail>();
  let failure = $state<Failure>();
  let refused = $state<Failure>();
  let chosen = $state(-1);
  let log = $state.raw<LogWindow>(); // of the chosen run, in its newest hand-out
  let pending: Schemas['LogPart'][] = [];
  let drawing = 0;

  function take(part: Schemas['LogPart']) {
    pending.push(part);
    drawing ||= requestAnimationFrame(() => {
      drawing = 0;
      for (const p of pending) {
        const of = build?.runs[p.run];
        if (of) of.lines = Math.max(of.fence === p.fence ? of.lines : 0, p.lines.at(-1)?.n ?? 0);
        if (p.run === chosen && log?.fence === p.fence) log.append(p.lines);
      }
      pending = [];
    });
  }
  $effect(() => {
    const of = build?.runs[chosen];
    if (!of) return;
    const { index, fence, lines } = of;
    untrack(() => {
      if (shown.run === index && shown.fence === fence) {
        if (log && lines > log.total) log.total = lines;
        return;
      }
      shown = { run: index, fence };
      log = new LogWindow({ pipeline, number, run: index }, fence, lines, (e) => (failure = e as Failure));
    });
  });
  let shown = { run: -1, fence: 0 };

  // What a reader wants to see first: what failed, else what runs, else the last that printed.
  function choose(d: BuildDetail): number {
    const asked = new URLSearchParams(location.search).get('run');
    if (asked !== null && d.runs[Number(asked)]) return Number(asked);
    const first = d.runs.find((r) => r.state === 'failed') ?? d.runs.find((r) => r.state === 'running');
    return (first ?? d.runs.findLast((r) => r.started_at) ?? d.runs[0])?.index ?? 0;
  }

  let rounds = $state(0); // begun from here
  $effect(() => {
    void rounds;
    let source: EventSource | undefined;
    got(api.GET('/api/v1/builds/{pipeline}/{number}', { params: { path: { pipeline, number } } })).then(
      (d) => {
        build = d;
        if (chosen < 0) chosen = choose(d);
        if (d.ended_at) return;
        source = new EventSource(`${address}/follow?after=now`);
        source.addEventListener('build', (e) => {
          const next = JSON.parse(e.data) as BuildDetail;
          const running = next.runs.find((r) => r.state === 'running' && build?.runs[r.index]?.state === 'waiting');
          if (running && build?.runs[chosen]?.state !== 'running' && build?.runs[chosen]?.state !== 'failed')
            chosen = running.index;
          build = next;
        });
        source.addEventListener('lines', (e) => take(JSON.parse(e.data) as Schemas['LogPart']));
        source.addEventListener('end', () => source?.close());
      },
      (e: Failure) => (failure = e),
    );
    return () => source?.close();
  });

  async function stop() {
    refused = undefined;
    try {
      await got(api.POST('/api/v1/builds/{pipeline}/{number}/stop', { params: { path: { pipeline, number } } }));
    } catch (e) {
      refused = e as Failure;
    }
  }
  async function again() {
    refused = undefined;
    try {
      const b = await got(
        api.POST('/api/v1/builds/{pipeline}/{number}/again', { params: { path: { pipeline, number } } }),
      );
      navigate('/pipelines/:pipeline/:number', { params: { pipeline, number: String(b.number) } });
    } catch (e) {
      refused = e as Failure;
    }
  }
  async function renew() {
    refused = undefined;
    try {
      await got(api.POST('/api/v1/builds/{pipeline}/{number}/round', { params: { path: { pipeline, number } } }));
      rounds++;
    } catch (e) {
      refused = e as Failure;
    }
  }
  const total = $derived(
    build ? (build.ended_at ? Date.parse(build.ended_at) : Date.now()) - Date.parse(build.created_at) : 0,
  );
  const run = $derived(build?.runs[chosen]);
  const tests = $derived(build?.runs.filter((r) => r.tests) ?? []);
  const notes = $derived(build?.runs.flatMap((r) => r.notes.map((text) => ({ from: title(r), text }))) ?? []);
</script>

<svelte:head><title>{pipeline} / {number} · Oskeld</title></svelte:head>
<Trail steps={[['Pipelines', '/pipelines'], [pipeline, `/pipelines/${pipeline}`], [text]]} />
{#if failure}<Trouble {failure} />{/if}
{#if build}
  <div class="flex flex-wrap items-center justify-between gap-3">
    <h1 class="flex flex-wrap items-center gap-2.5">
      <Mark state={build.state} size={22} />
      {pipeline} / {number}
      <span class="mono text-[17px] font-normal text-quiet"
        >{build.version}{build.round > 1 ? `, round ${build.round}` : ''}</span
      >
    </h1>
    <div class="flex gap-2">
      {#if build.ended_at}
        {#if build.state === 'passed'}
          <Button size="sm" onclick={again}>Build it again</Button>
        {:else}
          <QuietButton onclick={again}>Build it again</QuietButton>
          <Button size="sm" onclick={renew}>Go on with what did not pass</Button>
        {/if}
      {:else}
        <QuietButton onclick={stop}>Stop</QuietButton>
      {/if}
    </div>
  </div>
  <p class="flex flex-wrap gap-x-6 text-ink">
    <span><b>{build.state}</b>{build.cause ? `: ${build.cause.split('\n')[0]}` : ''}</span>
    <span
      ><span class="text-quiet">from</span> <b>{build.tag || build.branch || build.ref}</b>
      <span class="text-quiet">by</span> <b>{build.started_by}</b></span
    >
    <span><span class="mono">{short(build.commit)}</span> {build.subject}</span>
    <span
      ><span class="text-quiet">{moment(build.created_at)},</span> <b>{length(total)}</b>{build.ended_at
        ? ''
        : ' so far'}</span
    >
  </p>
  {#if refused}<Trouble failure={refused} />{/if}
  <Ribbon {build} {chosen} choose={(n) => (chosen = n)} />
  <div class="mt-4 grid gap-7 lg:grid-cols-[2fr_1fr]">
    <section class="min-w-0">
      {#if run && log}
        {#key log}
          <Log {run} {log} textAddress={`${address}/runs/${chosen}/text`} />
        {/key}
      {/if}
    </section>
    <div class="grid min-w-0 content-start gap-5">
      {#if tests.length > 0}
        <section>
          <h2>
            {build.failed_tests.length > 0 ? 'Failing tests' : 'Tests'}
            <span class="font-normal text-quiet">
              {tests.reduce((n, r) => n + (r.tests?.total ?? 0), 0)} ran, {tests.reduce(
                (n, r) => n + (r.tests?.failed ?? 0),
                0,
              )} failed in {tests.map(title).join(', ')}
            </span>
          </h2>
          <table class="rows">
            <tbody>
              {#each build.failed_tests as t (t.stage + t.suite + t.name)}
                <tr>
                  <td class="font-bold text-madder">{t.since}</td>
                  <td class="w-full">
                    <details>
                      <summary>{t.name} <span class="text-quiet">{t.suite}</span></summary>
                      <pre class="mono mt-1 overflow-x-auto whitespace-pre-wrap">{t.message}</pre>
                    </details>
                  </td>
                  <td class="number">{t.seconds.toFixed(2)} s</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </section>
      {/if}
      <section>
        <h2>
          Changes <span class="font-normal text-quiet"
            >{build.changes.length}{build.since ? ` since ${build.since} passed` : ', the newest of the branch'}</span
          >
        </h2>
        <table class="rows">
          <tbody>
            {#each build.changes as c (c.commit)}
              <tr
                ><td class="mono text-quiet">{short(c.commit)}</td><td class="w-full">{c.subject}</td><td
                  class="whitespace-nowrap">{c.author}</td
                ></tr
              >
            {/each}
          </tbody>
        </table>
      </section>
      {#if build.inputs.length > 0}
        <section>
          <h2>Took in <span class="font-normal text-quiet">from our stores</span></h2>
          <table class="rows">
            <tbody>
              {#each build.inputs as i (i.store + i.name + i.path + i.stage)}
                <tr>
                  <td class="w-full"
                    ><a class="quiet" href="/stores/{i.store}/{i.name}/{i.version}"
                      >{i.store}/<b>{i.name}</b>@{i.version}</a
                    ></td
                  >
                  <td class="whitespace-nowrap text-quiet">in {i.stage}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </section>
      {/if}
      <section>
        <h2>Artifacts <span class="font-normal text-quiet">{build.artifacts.length === 0 ? 'none' : ''}</span></h2>
        <table class="rows">
          <tbody>
            {#each build.artifacts as a (a.store + a.name)}
              <tr>
                <td class="w-full">
                  {#if a.state === 'sealed'}<a class="plain" href="/stores/{a.store}/{a.name}/{a.version}"
                      >{a.store}/{a.name}</a
                    >
                  {:else}{a.store}/{a.name}
                    <span class="text-quiet"
                      >{a.state === 'dropped'
                        ? 'dropped: the build did not pass'
                        : 'filling, not to be restored yet'}</span
                    >{/if}
                </td>
                <td class="number">{a.files} {a.files === 1 ? 'file' : 'files'}</td>
                <td class="number">{size(a.size)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </section>
      {#if build.runs.some((r) => r.exports.length > 0)}
        <section>
          <h2>Exports</h2>
          <table class="rows">
            <tbody>
              {#each build.runs.flatMap( (r) => r.exports.map( (e) => ({ ...e, from: title(r) }) ) ) as e (e.name + e.variant)}
                <tr
                  ><td class="mono">{e.name}</td><td class="mono w-full whitespace-pre-wrap">{e.text}</td><td
                    class="whitespace-nowrap text-quiet">{e.from}</td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        </section>
      {/if}
      {#if build.runs.some((r) => r.tools.length > 0)}
        <section>
          <h2>Tools</h2>
          {#each build.runs.filter((r) => r.tools.length > 0) as r (r.index)}<p>
              <span class="text-quiet">{title(r)}:</span>
              {r.tools.map((t) => `${t.name} ${t.version}, ${t.from || "the agent's own"}`).join('; ')}
            </p>{/each}
        </section>
      {/if}
      {#if notes.length > 0 || build.runs.some((r) => r.lost.length > 0)}
        <section>
          <h2>Notes</h2>
          {#each build.runs as r (r.index)}
            {#each r.lost as l, i (i)}<p>
                <span class="text-quiet">{title(r)}:</span> agent {l.agent} was lost in the middle of it{l.started_at
                  ? ` after ${length(Date.parse(l.lost_at) - Date.parse(l.started_at))}`
                  : ''}
                {#if l.started_at}<a class="plain" href="{address}/runs/{r.index}/text?fence={l.fence}">its log</a>{/if}
              </p>{/each}
          {/each}
          {#each notes as n (n.from + n.text)}<p><span class="text-quiet">{n.from}:</span> {n.text}</p>{/each}
        </section>
      {/if}
      {#if build.runs.some((r) => r.reuse)}
        <section>
          <h2>Reuse</h2>
          {#each build.runs.filter((r) => r.reuse) as r (r.index)}<p>
              <span class="text-quiet">{title(r)}:</span>
              {r.reuse}
            </p>{/each}
        </section>
      {/if}
      {#if build.round > 1}
        <section>
          <h2>Earlier rounds</h2>
          <ul class="grid gap-1">
            {#each build.runs as r (r.index)}
              {#each r.earlier as e (e.round)}
                <li>
                  <Mark state={e.state} /> <b>{title(r)}</b>
                  <span class="text-quiet">round {e.round}{e.agent ? ` on ${e.agent}` : ''}:</span>
                  {e.cause.split('\n')[0] || e.state}
                  {#if e.fence > 0}<a class="plain" href="{address}/runs/{r.index}/text?fence={e.fence}">its log</a
                    >{/if}
                </li>
              {/each}
            {/each}
          </ul>
        </section>
      {/if}
      {#if build.why.says && build.why.says !== `started by ${build.started_by}`}
        <section>
          <h2>Why</h2>
          <p class="text-quiet">{build.why.says}</p>
        </section>
      {/if}
      <section>
        <h2>Version</h2>
        <p class="text-quiet">{build.derivation}</p>
      </section>
      {#if build.asks.length > 0}
        <section>
          <h2>Asks</h2>
          <p>
            {#each build.asks as a (a.name)}<span class="mr-4"
                ><span class="text-quiet">{a.name}</span> <b>{a.text || 'nothing'}</b></span
              >{/each}
          </p>
        </section>
      {/if}
    </div>
  </div>
{/if}

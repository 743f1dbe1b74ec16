<script lang="ts">
  // "/" finds anything: a build, a version, a commit, a digest.
  import { navigate } from '../router';
  import { api, got, type Schemas } from './api';

  let text = $state('');
  let found = $state<Schemas['Found'][]>([]);
  let chosen = $state(0);
  let open = $state(false);
  let input: HTMLInputElement;
  let asked = 0;

  async function look() {
    const mine = ++asked;
    chosen = 0;
    if (!text.trim()) {
      found = [];
      return;
    }
    const answer = await got(api.GET('/api/v1/find', { params: { query: { text } } })).catch(() => ({ list: [] }));
    if (mine === asked) {
      found = answer.list;
      open = true;
    }
  }

  function go(f: Schemas['Found'] | undefined) {
    if (!f) return;
    open = false;
    text = '';
    input.blur();
    // eslint-disable-next-line @typescript-eslint/no-explicit-any
    navigate(f.path as any);
  }

  function key(e: KeyboardEvent) {
    if (e.key === 'ArrowDown') chosen = Math.min(chosen + 1, found.length - 1);
    else if (e.key === 'ArrowUp') chosen = Math.max(chosen - 1, 0);
    else if (e.key === 'Enter') go(found[chosen]);
    else if (e.key === 'Escape') open = false;
    else return;
    e.preventDefault();
  }

  function slash(e: KeyboardEvent) {
    const at = e.target as HTMLElement;
    if (e.key !== '/' || /^(INPUT|TEXTAREA|SELECT)$/.test(at.tagName)) return;
    e.preventDefault();
    input.focus();
  }
</script>

<svelte:window onkeydown={slash} />

<div class="relative w-full max-w-[270px]">
  <input
    bind:this={input}
    bind:value={text}
    oninput={look}
    onkeydown={key}
    onfocus={() => (open = true)}
    onblur={() => setTimeout(() => (open = false), 150)}
    role="combobox"
    aria-label="find a build, version or file"
    aria-expanded={open && found.length > 0}
    aria-controls="found"
    placeholder="find a build, version, file …"
    class="w-full rounded-md border border-edge bg-ground px-3 py-1.5 pr-8 text-[14px] text-ink placeholder:text-quiet"
  />
  <kbd class="mono absolute top-1.5 right-2 rounded border border-edge bg-raised px-1.5 text-[12px] text-quiet">/</kbd>
  {#if open && text && found.length > 0}
    <ul
      id="found"
      role="listbox"
      class="absolute right-0 z-20 mt-1 w-[420px] max-w-[90vw] rounded-md border border-edge bg-raised py-1 shadow-lg"
    >
      {#each found as f, i (f.path + f.text)}
        <li role="option" aria-selected={i === chosen}>
          <button
            type="button"
            tabindex="-1"
            onmousedown={() => go(f)}
            class="flex w-full gap-3 px-3 py-1.5 text-left {i === chosen ? 'bg-sunk' : ''}"
          >
            <span class="w-16 shrink-0 text-quiet">{f.kind}</span>
            <span class="min-w-0 flex-1 truncate font-semibold">{f.text}</span>
            <span class="truncate text-quiet">{f.more}</span>
          </button>
        </li>
      {/each}
    </ul>
  {/if}
</div>

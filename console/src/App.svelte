<script lang="ts">
  import { Router } from 'sv-router';
  import Find from './lib/Find.svelte';
  import { signOut } from './lib/api';
  import { digestOf } from './lib/digest';
  import { learnSession, session } from './lib/session.svelte';
  import { theme, turnTheme } from './lib/theme.svelte';
  import SignIn from './pages/SignIn.svelte';
  import { navigate, route } from './router';

  void learnSession();

  const pages = [
    ['Now', '/'],
    ['Pipelines', '/pipelines'],
    ['Stores', '/stores'],
    ['Agents', '/agents'],
    ['Records', '/records'],
  ] as const;
  const here = (path: string) => (path === '/' ? route.pathname === '/' : route.pathname.startsWith(path));

  let dropped = $state('');
  async function drop(e: DragEvent) {
    const file = e.dataTransfer?.files[0];
    if (!file) return;
    e.preventDefault();
    dropped = `hashing ${file.name} …`;
    const digest = await digestOf(file);
    dropped = '';
    navigate('/trace/:digest', { params: { digest } });
  }
  async function leave() {
    await signOut();
    session.status = null;
  }
</script>

<svelte:window ondragover={(e) => e.preventDefault()} ondrop={drop} />

{#if session.status}
  <header class="border-b border-edge bg-raised">
    <div class="mx-auto flex max-w-[1280px] flex-wrap items-center gap-x-5 gap-y-1 px-6 max-sm:px-3">
      <a href="/" class="flex items-center gap-3 py-3 text-[18px] font-bold text-ink">
        <img src="/favicon.svg" width="20" height="20" alt="" />Oskeld
      </a>
      <nav aria-label="pages" class="flex flex-wrap gap-x-4">
        {#each pages as [text, href] (href)}
          <a
            {href}
            aria-current={here(href) ? 'page' : undefined}
            class="border-b-[3px] py-3 text-ink {here(href)
              ? 'border-ember font-bold'
              : 'border-transparent hover:border-edge'}">{text}</a
          >
        {/each}
      </nav>
      <div class="flex flex-1 items-center justify-end gap-3 py-2">
        <Find />
        <button type="button" onclick={turnTheme} class="text-[13px] text-quiet hover:underline"
          >{theme.dark ? 'light' : 'dark'}</button
        >
        <span class="rounded bg-sunk px-2 py-1 text-[13px] font-semibold">{session.status.person}</span>
        <button type="button" onclick={leave} class="text-[13px] text-quiet hover:underline">sign out</button>
      </div>
    </div>
  </header>
  {#if dropped}<p role="status" class="bg-sunk px-6 py-1 text-center">{dropped}</p>{/if}
  <main class="mx-auto max-w-[1280px] px-6 py-4 max-sm:px-3">
    {#key route.pathname}<Router />{/key}
  </main>
{:else if session.known}
  <SignIn />
{/if}

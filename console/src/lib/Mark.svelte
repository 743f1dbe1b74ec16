<script lang="ts">
  // The lozenge of a state: told apart by shape as well as by tone. The word stands beside it.
  import type { State } from './api';

  let { state, size = 14 }: { state: State; size?: number } = $props();
  const tone: Record<State, string> = {
    waiting: 'text-ash',
    running: 'text-ember',
    passed: 'text-moss',
    failed: 'text-madder',
    stopped: 'text-plum',
    skipped: 'text-ash',
    reused: 'text-moss',
    lost: 'text-ochre',
  };
</script>

<svg viewBox="0 0 24 24" width={size} height={size} class="inline-block shrink-0 {tone[state]}" aria-hidden="true">
  {#if state === 'waiting'}
    <path d="M12 3 21 12 12 21 3 12z" fill="none" stroke="currentColor" stroke-width="2" />
  {:else if state === 'running'}
    <path d="M12 2 22 12 12 22 2 12z" fill="none" stroke="currentColor" stroke-width="2.4" class="moving" />
    <path d="m12 8 4 4-4 4-4-4z" fill="currentColor" />
  {:else if state === 'passed'}
    <path d="M12 2 22 12 12 22 2 12z" fill="currentColor" />
  {:else if state === 'failed'}
    <path d="M10 2v20L1 12zM14 2v20l9-10z" fill="currentColor" />
  {:else if state === 'stopped'}
    <path d="M12 2 22 12H2z" fill="currentColor" /><path
      d="M4 15h16l-8 7z"
      fill="none"
      stroke="currentColor"
      stroke-width="2"
    />
  {:else if state === 'skipped'}
    <path d="M4 12h16" stroke="currentColor" stroke-width="2.4" />
  {:else if state === 'reused'}
    <path d="M12 1 23 12 12 23 1 12z" fill="none" stroke="currentColor" stroke-width="2" />
    <path d="m12 6 6 6-6 6-6-6z" fill="currentColor" />
  {:else}
    <path d="M12 2 22 12 12 22 2 12z" fill="none" stroke="currentColor" stroke-width="2.4" stroke-dasharray="2.4 3" />
  {/if}
</svg>

<style>
  @media (prefers-reduced-motion: no-preference) {
    .moving {
      stroke-dasharray: 42 14;
      animation: round 2.4s linear infinite;
    }
  }
  @keyframes round {
    to {
      stroke-dashoffset: -56;
    }
  }
</style>

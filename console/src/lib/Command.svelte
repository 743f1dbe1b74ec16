<script lang="ts">
  // A command that does the same, ready to copy.
  let { text }: { text: string } = $props();
  let copied = $state(false);
  async function copy() {
    await navigator.clipboard?.writeText(text);
    copied = true;
    setTimeout(() => (copied = false), 1500);
  }
</script>

<button
  type="button"
  onclick={copy}
  title="copy"
  class="mono block w-full cursor-copy rounded border border-edge bg-sunk px-2 py-1.5 text-left text-[13px] [overflow-wrap:anywhere] text-ink"
>
  {text}
  <span class="text-quiet" aria-live="polite">{copied ? ' — copied' : ''}</span>
</button>

<script lang="ts">
  // An empty place says what to do next.
  import Command from './Command.svelte';

  let { say, command }: { say: string; command: string } = $props();
</script>

<div class="my-6 max-w-xl">
  <p class="mb-2 text-quiet">{say}</p>
  <Command text={command} />
</div>

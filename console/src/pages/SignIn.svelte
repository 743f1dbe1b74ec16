<script lang="ts">
  import Button from 'flowbite-svelte/Button.svelte';
  import Input from 'flowbite-svelte/Input.svelte';
  import Label from 'flowbite-svelte/Label.svelte';
  import { Failure, signIn } from '../lib/api';
  import { learnSession, session } from '../lib/session.svelte';
  import Trouble from '../lib/Trouble.svelte';

  let name = $state('');
  let password = $state('');
  let failure = $state<Failure>();
  let busy = $state(false);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    failure = undefined;
    try {
      await signIn(name, password);
      await learnSession();
    } catch (e) {
      failure = e instanceof Failure ? e : new Failure(0, 'The service cannot be reached.');
    }
    busy = false;
  }
</script>

<svelte:head><title>Sign in · Oskeld</title></svelte:head>

<main class="mx-auto max-w-sm px-6 pt-24">
  <div class="mb-6 flex items-center gap-3">
    <img src="/favicon.svg" width="28" height="28" alt="" />
    <h1>Oskeld</h1>
  </div>
  <form onsubmit={submit} class="grid gap-4">
    <div>
      <Label for="name" class="mb-1 text-ink">Name</Label>
      <Input id="name" bind:value={name} autocomplete="username" required class="border-edge bg-raised text-ink" />
    </div>
    <div>
      <Label for="password" class="mb-1 text-ink">Password</Label>
      <Input
        id="password"
        type="password"
        bind:value={password}
        autocomplete="current-password"
        required
        class="border-edge bg-raised text-ink"
      />
    </div>
    {#if failure}<Trouble {failure} />{/if}
    {#if session.away}<Trouble failure={new Failure(0, session.away)} />{/if}
    <Button type="submit" disabled={busy} class="dark:text-white">Sign in</Button>
  </form>
</main>

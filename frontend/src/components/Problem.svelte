<script lang="ts">
  // What went wrong, and a button for what helps: of something that was asked for, or of what was to be shown.
  import type { Acting } from '../lib/acting.svelte';
  import type { Act, Refused } from '../lib/api';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    acting?: Acting;
    query?: { isError: boolean; error: Error | null; refetch: () => unknown };
  }
  let { acting, query }: Props = $props();
  const found = $derived.by((): { said: string; act: Act; again: () => unknown } | undefined => {
    if (acting?.problem) return { said: acting.problem, act: acting.act, again: () => acting.again() };
    if (query?.isError) {
      const act = (query.error as Partial<Refused> | null)?.act ?? 'again';
      return { said: query.error?.message ?? '', act: act === 'reload' ? 'again' : act, again: () => query.refetch() };
    }
    return undefined;
  });
</script>

{#if found}
  <p role="alert">
    {found.said}
    {#if found.act === 'again'}
      <LinkButton onclick={found.again}>Try again</LinkButton>
    {:else if found.act === 'reload'}
      <LinkButton onclick={() => void acting?.reload()}>Show the current state</LinkButton>
    {:else if found.act === 'disk'}
      <a href="#/settings">Show disk use</a>
    {:else if found.act === 'sign in'}
      <LinkButton onclick={() => location.reload()}>Sign in</LinkButton>
    {:else if found.act === 'keys'}
      <a href="#/certificates/keys">Show keys</a>
    {/if}
  </p>
{/if}

<style>
  p {
    color: var(--outside);
    margin: var(--space-3) 0;
  }
</style>

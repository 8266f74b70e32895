<script lang="ts">
  // The keyboard shortcuts of the screen that is open, one list below the other, and whether single keys act at all.
  import { untrack } from 'svelte';
  import { router } from 'svelte-spa-router';
  import type { Shortcuts } from '../lib/shortcuts.svelte';
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  import SingleKeys from './SingleKeys.svelte';
  let { shortcuts }: { shortcuts: Shortcuts } = $props();
  let element: HTMLDialogElement | undefined = $state();
  let open = $state(false);

  export function show(): void {
    open = true;
    element?.showModal();
    element?.querySelector('button')?.focus();
  }
  $effect(() => {
    void router.location;
    untrack(() => element?.close());
  });
</script>

<Dialog bind:element title="Keyboard shortcuts" onclose={() => (open = false)}>
  {#each open ? shortcuts.lists : [] as { title, list, hint } (title)}
    <section aria-label={title}>
      <h3>{title}</h3>
      <dl>
        {#each list as { shown, does } (does)}
          <div>
            <dt><kbd>{shown}</kbd></dt>
            <dd>{does}</dd>
          </div>
        {/each}
      </dl>
      {#if hint}<p>{hint}</p>{/if}
    </section>
  {/each}
  <div class="single"><SingleKeys {shortcuts} /></div>
  <Button onclick={() => element?.close()}>Close</Button>
</Dialog>

<style>
  h3 {
    font-size: var(--type-small);
    font-weight: 600;
    margin-top: var(--space-5);
  }
  dl {
    columns: 2;
    column-gap: var(--space-8);
    margin: var(--space-2) 0;
    font-size: var(--type-plain);
  }
  dl div {
    display: flex;
    gap: var(--space-5);
    padding: var(--space-1) 0;
    break-inside: avoid;
  }
  dt {
    min-width: 52px;
  }
  dd {
    margin: 0;
  }
  kbd {
    font-family: var(--figures);
    font-size: var(--type-small);
    border: 1px solid var(--rule);
    padding: 0 var(--space-3);
    white-space: nowrap;
  }
  p {
    font-size: var(--type-plain);
    color: var(--soft);
  }
  .single {
    margin: var(--space-5) 0;
  }
</style>

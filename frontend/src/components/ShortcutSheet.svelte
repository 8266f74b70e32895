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
    font-size: 13px;
    font-weight: 600;
    margin-top: 12px;
  }
  dl {
    columns: 2;
    column-gap: 32px;
    margin: 4px 0;
    font-size: 14px;
  }
  dl div {
    display: flex;
    gap: 12px;
    padding: 2px 0;
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
    font-size: 13px;
    border: 1px solid var(--rule);
    padding: 0 6px;
    white-space: nowrap;
  }
  p {
    font-size: 13.5px;
    color: var(--soft);
  }
  .single {
    margin: 14px 0;
  }
</style>

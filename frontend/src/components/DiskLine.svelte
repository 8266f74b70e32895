<script lang="ts">
  // What a production holds on disk, and clearing away what no certificate rests on.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Acting } from '../lib/acting.svelte';
  import { counted, size } from '../lib/format';
  import * as productions from '../lib/server/productions';
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    production: string;
    acting: Acting;
    onclose: () => void;
  }
  let { production, acting, onclose }: Props = $props();
  const query = createQuery(() => productions.disk(production));
  const found = $derived(query.data);
  let dialog: HTMLDialogElement | undefined = $state();
  let said = $state('');
  const clear = () =>
    acting.attempt(async () => {
      const gone = await productions.clear(production);
      said = `${counted(gone.files, 'file')} cleared, ${size(gone.size_bytes)}.`;
      dialog?.close();
    });
</script>

{#if found}
  <p role="group" aria-label="Disk use">
    <span
      ><b>{size(found.size_bytes)}</b> on disk{found.parts.length
        ? ': '
        : ''}{#each found.parts as part, at (part.title)}{at ? ', ' : ''}{part.title}
        {size(part.size_bytes)} <span class="soft">({part.files})</span>{/each}.</span
    >
    {#if found.clearable.files}
      <Button onclick={() => dialog?.showModal()}
        >Clear {counted(found.clearable.files, 'file')}, {size(found.clearable.size_bytes)}…</Button
      >
    {/if}
    <span role="status">{said}</span>
    <LinkButton onclick={onclose}>Hide</LinkButton>
  </p>
  <Dialog bind:element={dialog} title="Clear masters">
    <p>
      {counted(found.clearable.files, 'master or other file', 'masters and other files')} without a certificate, {size(
        found.clearable.size_bytes,
      )}, will be cleared away. None of them is the file that counts for its recording.
    </p>
    <p class="soft">
      Recordings, certified files and certificates stay, and so do the readings and steps of each cleared file: conform
      in the same way to make it again.
    </p>
    <p class="acts">
      <Button strong onclick={clear}>Clear</Button><Button onclick={() => dialog?.close()}>Keep them</Button>
    </p>
  </Dialog>
{/if}

<style>
  p {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-5);
    align-items: baseline;
    font-size: var(--type-plain);
    margin: var(--space-3) 0;
  }
  b {
    font-weight: 550;
  }
  .acts {
    margin-top: var(--space-5);
  }
</style>

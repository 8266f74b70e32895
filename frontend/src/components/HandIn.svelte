<script lang="ts">
  // Handing a package to the intake desk: as what it is to be held against.
  import { createQuery } from '@tanstack/svelte-query';
  import { answer, api } from '../lib/api';
  import { counted } from '../lib/format';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import Dialog from './Dialog.svelte';
  interface Props {
    element: HTMLDialogElement | undefined;
    count: number;
    problem: string;
    onchosen: (requirements: string) => Promise<unknown>;
  }
  let { element = $bindable(), count, problem, onchosen }: Props = $props();
  const query = createQuery(() => ({
    queryKey: ['desk'],
    retry: false,
    staleTime: 0,
    queryFn: async () => answer(await api.GET('/api/desk')),
  }));
  const kinds = $derived(query.data ?? []);
  let picked = $state<string>();
  const chosen = $derived(picked ?? kinds[0]?.id ?? '');
</script>

<Dialog title="Hand in to the intake desk" bind:element>
  <p class="meaning">
    {counted(count, 'file')} with certificates and the list of hashes. The desk checks them with a meter of its own and answers
    for each; its answers are shown here beside what was certified.
  </p>
  {#if query.isError}
    <p class="wrong" role="alert">{query.error.message}</p>
  {:else}
    <Choice
      label="Checked as"
      value={chosen}
      options={kinds.map((one) => [one.id, one.title])}
      onchange={(to) => (picked = to)}
    />
  {/if}
  {#if problem}<p class="wrong" role="alert">{problem}</p>{/if}
  <div class="acts">
    <Button strong disabled={!chosen} onclick={() => onchosen(chosen)}>Hand in</Button>
    <Button onclick={() => element?.close()}>Back</Button>
  </div>
</Dialog>

<style>
  .meaning {
    margin: 6px 0 12px;
  }
  .wrong {
    color: var(--outside);
    margin-top: 8px;
  }
  .acts {
    display: flex;
    gap: 10px;
    margin-top: 14px;
  }
</style>

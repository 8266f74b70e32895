<script lang="ts">
  // Asks why a certificate ends, and tells what that means.
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  import Labelled from './Labelled.svelte';
  interface Props {
    element: HTMLDialogElement | undefined;
    title: string;
    meaning: string;
    act: string;
    problem: string;
    onreason: (reason: string) => Promise<unknown>;
  }
  let { element = $bindable(), title, meaning, act, problem, onreason }: Props = $props();
  let reason = $state('');
</script>

<Dialog {title} bind:element onclose={() => (reason = '')}>
  <p class="meaning">{meaning}</p>
  <Labelled label="Reason"><input bind:value={reason} maxlength="1000" /></Labelled>
  {#if problem}<p class="wrong" role="alert">{problem}</p>{/if}
  <div class="acts">
    <Button strong disabled={!reason.trim()} onclick={() => onreason(reason)}>{act}</Button>
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

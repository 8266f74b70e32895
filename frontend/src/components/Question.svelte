<script lang="ts">
  // A question in front of everything else: what an answer means, what it needs, and the two ways on.
  import type { Snippet } from 'svelte';
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  interface Props {
    element: HTMLDialogElement | undefined;
    title: string;
    meaning: string;
    act: string;
    onact: () => unknown;
    onclose?: () => void;
    disabled?: boolean;
    problem?: string;
    children?: Snippet;
  }
  let {
    element = $bindable(),
    title,
    meaning,
    act,
    onact,
    onclose,
    disabled = false,
    problem = '',
    children,
  }: Props = $props();
</script>

<Dialog {title} bind:element {onclose}>
  <p class="meaning">{meaning}</p>
  {@render children?.()}
  {#if problem}<p class="wrong" role="alert">{problem}</p>{/if}
  <div class="acts">
    <Button strong {disabled} onclick={onact}>{act}</Button>
    <Button onclick={() => element?.close()}>Back</Button>
  </div>
</Dialog>

<style>
  .meaning {
    margin: var(--space-3) 0 var(--space-5);
  }
  .wrong {
    color: var(--outside);
    margin-top: var(--space-4);
  }
  .acts {
    display: flex;
    gap: var(--space-4);
    margin-top: var(--space-5);
  }
</style>

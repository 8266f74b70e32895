<script lang="ts">
  // A question or a list in front of everything else.
  import type { Snippet } from 'svelte';

  interface Props {
    title: string;
    element: HTMLDialogElement | undefined;
    onclose?: () => void;
    onkeydown?: (event: KeyboardEvent) => void;
    children: Snippet;
  }
  let { title, element = $bindable(), onclose, onkeydown, children }: Props = $props();
  const id = $props.id();
</script>

<dialog bind:this={element} aria-labelledby={id} {onclose} {onkeydown}>
  <h2 {id}>{title}</h2>
  {@render children()}
</dialog>

<style>
  dialog {
    background: var(--sheet);
    color: var(--ink);
    border: 1px solid var(--ink);
    padding: var(--space-6) var(--space-7);
    width: min(600px, 92vw);
  }
  dialog::backdrop {
    background: color-mix(in srgb, var(--ink) 25%, transparent);
  }
</style>

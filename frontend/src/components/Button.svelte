<script lang="ts">
  import type { Snippet } from 'svelte';
  import { Once } from '../lib/once.svelte';
  interface Props {
    children: Snippet;
    onclick?: () => unknown;
    strong?: boolean;
    disabled?: boolean;
    label?: string;
    /** Sends the form it stands in. */
    submit?: boolean;
  }
  let { children, onclick, strong = false, disabled = false, label, submit = false }: Props = $props();
  const once = new Once();
</script>

<button
  type={submit ? 'submit' : 'button'}
  class:strong
  onclick={() => once.run(onclick)}
  {disabled}
  aria-busy={once.busy}
  aria-label={label}>{@render children()}</button
>

<style>
  button {
    border: 1px solid var(--act);
    border-radius: 3px;
    background: transparent;
    color: var(--act);
    padding: var(--space-2) var(--space-5);
    font-weight: 550;
    cursor: pointer;
    white-space: nowrap;
  }
  button:hover {
    background: var(--act-pale);
  }
  .strong {
    background: var(--act);
    color: var(--sheet);
  }
  .strong:hover {
    background: color-mix(in srgb, var(--act) 86%, black);
  }
  button:disabled {
    opacity: 0.5;
    cursor: default;
  }
  button[aria-busy='true'] {
    cursor: progress;
  }
  @media print {
    button {
      display: none;
    }
  }
</style>

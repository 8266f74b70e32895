<script lang="ts">
  // A button that reads like a link: for what is done less often.
  import type { Snippet } from 'svelte';
  import { Once } from '../lib/once.svelte';
  interface Props {
    children: Snippet;
    onclick: () => unknown;
    disabled?: boolean;
    pressed?: boolean;
    /** Whether what it opens is open. */
    expanded?: boolean;
    label?: string;
  }
  let { children, onclick, disabled = false, pressed, expanded, label }: Props = $props();
  const once = new Once();
</script>

<button
  type="button"
  onclick={() => once.run(onclick)}
  aria-busy={once.busy}
  {disabled}
  aria-pressed={pressed}
  aria-expanded={expanded}
  aria-label={label}>{@render children()}</button
>

<style>
  button {
    border: 0;
    background: none;
    padding: var(--space-2) 0;
    margin: calc(var(--space-2) * -1) 0;
    color: var(--act);
    text-decoration: underline;
    text-underline-offset: 3px;
    cursor: pointer;
    white-space: nowrap;
  }
  button:disabled {
    color: var(--soft);
    text-decoration: none;
    cursor: default;
  }
  button[aria-busy='true'] {
    cursor: progress;
  }
  button[aria-pressed='true'] {
    color: var(--ink);
    font-weight: 600;
  }
  @media print {
    button {
      display: none;
    }
  }
</style>

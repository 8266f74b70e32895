<script lang="ts">
  // What is written or chosen, with its label above.
  import type { Snippet } from 'svelte';
  let { label, children }: { label: string; children: Snippet } = $props();
</script>

<label>{label} {@render children()}</label>

<style>
  label {
    display: grid;
    gap: var(--space-1);
    font-size: var(--type-small);
    color: var(--soft);
  }
  label > :global(:is(input, select)) {
    font-size: var(--type-text);
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-2) var(--space-4);
    min-width: 0;
  }
</style>

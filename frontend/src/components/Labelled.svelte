<script lang="ts">
  // What is written or chosen, with its label above.
  import type { Snippet } from 'svelte';
  let { label, children }: { label: string; children: Snippet } = $props();
</script>

<label>{label} {@render children()}</label>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: 12.5px;
    color: var(--soft);
  }
  label > :global(:is(input, select)) {
    font-size: 15px;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: 4px 8px;
    min-width: 0;
  }
</style>

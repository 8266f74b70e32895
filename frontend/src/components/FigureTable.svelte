<script lang="ts">
  // A plain table of figures inside a panel: names on the left, figures in their own letters.
  import type { Snippet } from 'svelte';
  let { children }: { children: Snippet } = $props();
</script>

<table>{@render children()}</table>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
    margin-bottom: var(--space-3);
  }
  table :global(th) {
    text-align: left;
    font-weight: 400;
  }
  table :global(thead th) {
    font-size: var(--type-fine);
    color: var(--soft);
  }
  table :global(thead th::first-letter) {
    text-transform: uppercase;
  }
  table :global(:is(th, td)) {
    padding: var(--space-2) var(--space-4) var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
  }
  table :global(td) {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
</style>

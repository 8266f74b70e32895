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
    margin-bottom: 6px;
  }
  table :global(th) {
    text-align: left;
    font-weight: 400;
  }
  table :global(thead th) {
    font-size: 12px;
    color: var(--soft);
  }
  table :global(thead th::first-letter) {
    text-transform: uppercase;
  }
  table :global(:is(th, td)) {
    padding: 4px 8px 4px 0;
    border-bottom: 1px solid var(--rule);
  }
  table :global(td) {
    font-family: var(--figures);
    font-size: 13px;
  }
</style>

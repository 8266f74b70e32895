<script lang="ts">
  // Things listed one below the other on the sheet's paper, each a row of its own making.
  import type { Snippet } from 'svelte';
  let { children }: { children: Snippet } = $props();
</script>

<ul>
  {@render children()}
</ul>

<style>
  ul {
    list-style: none;
    margin: var(--space-5) 0 0;
    padding: 0;
  }
  ul > :global(li) {
    padding: var(--space-3) var(--space-5);
    font-size: var(--type-plain);
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
  }
  ul > :global(li:first-child) {
    border-top: 1px solid var(--rule);
  }
</style>

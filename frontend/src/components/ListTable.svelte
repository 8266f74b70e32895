<script lang="ts">
  // A table that lists things one below the other; what it lists is said to those who can't see it.
  import Across from './Across.svelte';
  import type { Snippet } from 'svelte';
  let { caption, children }: { caption: string; children: Snippet } = $props();
</script>

<Across label={caption}>
  <table>
    <caption class="visually-hidden">{caption}</caption>
    {@render children()}
  </table>
</Across>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
    font-size: var(--type-plain);
  }
  table :global(:is(th, td)) {
    text-align: left;
    padding: var(--space-3) var(--space-5);
    border-bottom: 1px solid var(--rule);
    vertical-align: top;
    font-weight: 400;
  }
  table :global(thead th) {
    font-size: var(--type-small);
    color: var(--soft);
  }
</style>

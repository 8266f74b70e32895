<script lang="ts">
  // What stands together among the edits, under a heading; lists in it are bare, and what stands in a line wraps.
  import type { Snippet } from 'svelte';
  let { label, heading = label, children }: { label: string; heading?: string; children: Snippet } = $props();
</script>

<div role="group" aria-label={label}>
  <b>{heading}</b>
  {@render children()}
</div>

<style>
  div {
    display: grid;
    gap: var(--space-3);
    padding-top: var(--space-3);
    border-top: 1px solid var(--rule);
  }
  b {
    font-weight: 600;
  }
  div :global(.line) {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-5);
    align-items: center;
  }
  div :global(ul) {
    margin: 0;
    padding: 0;
    list-style: none;
  }
</style>

<script lang="ts">
  // A sheet of paper with a title, for one matter of a recording.
  import type { Snippet } from 'svelte';

  let { title, label = title, children }: { title: string; label?: string; children: Snippet } = $props();
</script>

<section aria-label={label}>
  <h2>{title}</h2>
  {@render children()}
</section>

<style>
  section {
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  h2 {
    padding: var(--space-4) var(--space-5);
    border-bottom: 1px solid var(--rule);
  }
</style>

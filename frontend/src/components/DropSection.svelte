<script lang="ts">
  // A section of the bench onto which files can be dropped; what stands in a line wraps.
  import type { Snippet } from 'svelte';
  import { filesOf, type Dropped } from '../lib/dropped';
  let { label, ondropped, children }: { label: string; ondropped: (files: Dropped) => void; children: Snippet } =
    $props();
  let over = $state(false);
</script>

<div
  class:over
  role="group"
  aria-label={label}
  ondragenter={() => (over = true)}
  ondragleave={(event) => event.currentTarget === event.target && (over = false)}
  ondragover={(event) => event.preventDefault()}
  ondrop={(event) => {
    event.preventDefault();
    over = false;
    void filesOf(event.dataTransfer).then(ondropped);
  }}
>
  {@render children()}
</div>

<style>
  div {
    display: grid;
    gap: var(--space-4);
    padding: var(--space-4) var(--space-5) var(--space-5);
    font-size: var(--type-plain);
  }
  .over {
    outline: 2px solid var(--act);
  }
  div :global(.line) {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-5);
    align-items: center;
  }
  div :global(p.outside) {
    color: var(--outside);
  }
</style>

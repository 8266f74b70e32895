<script lang="ts">
  // Files may be dropped anywhere inside; while they hover, the area says what will happen.
  import type { Snippet } from 'svelte';
  import { filesOf, type Dropped } from '../lib/dropped';
  interface Props {
    children: Snippet;
    ondrop: (dropped: Dropped) => void;
    invitation: string;
  }
  let { children, ondrop, invitation }: Props = $props();
  let depth = $state(0);
  const carriesFiles = (event: DragEvent) => event.dataTransfer?.types.includes('Files') ?? false;
</script>

<main
  class="area"
  ondragenter={(event) => carriesFiles(event) && (depth += 1)}
  ondragleave={(event) => carriesFiles(event) && (depth -= 1)}
  ondragover={(event) => carriesFiles(event) && event.preventDefault()}
  ondrop={(event) => {
    event.preventDefault();
    depth = 0;
    void filesOf(event.dataTransfer).then(ondrop);
  }}
>
  {@render children()}
  {#if depth > 0}<div class="veil" aria-hidden="true"><span>{invitation}</span></div>{/if}
</main>

<style>
  .area {
    position: relative;
    min-height: calc(100vh - 54px);
  }
  .veil {
    position: fixed;
    inset: 62px 12px 12px;
    border: 2px solid var(--act);
    background: color-mix(in srgb, var(--sheet) 86%, transparent);
    display: grid;
    place-items: center;
    font-size: var(--type-title);
    font-weight: 600;
    color: var(--act);
    pointer-events: none;
    z-index: 5;
  }
</style>

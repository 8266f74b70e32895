<script lang="ts">
  // The head of a screen: the way back, if it is below another, what it is, where it stands, and what can be done.
  import type { Snippet } from 'svelte';
  interface Props {
    title: string;
    way?: Snippet;
    told: Snippet;
    acts: Snippet;
  }
  let { title, way, told, acts }: Props = $props();
</script>

{#if way}<p class="way">{@render way()}</p>{/if}
<div class="top">
  <div>
    <h1>{title}</h1>
    <p class="told" aria-live="polite">{@render told()}</p>
  </div>
  <div class="acts">{@render acts()}</div>
</div>

<style>
  .way {
    font-size: var(--type-plain);
  }
  .top {
    flex-wrap: wrap;
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: var(--space-7);
    margin-bottom: var(--space-4);
  }
  .told {
    color: var(--soft);
  }
  .acts {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-5);
    align-items: end;
  }
  @media print {
    .acts {
      display: none;
    }
  }
</style>

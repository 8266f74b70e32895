<script lang="ts">
  // What was just done, and the way back.
  import type { Acting } from '../lib/acting.svelte';
  import Button from './Button.svelte';
  let { acting }: { acting: Acting } = $props();
</script>

{#if acting.done}
  <p class="note">
    {acting.done.said}
    <Button onclick={() => acting.undo()}>Undo</Button>
  </p>
{/if}

<style>
  p {
    display: flex;
    gap: var(--space-5);
    align-items: center;
    font-size: var(--type-plain);
    margin-bottom: var(--space-4);
  }
</style>

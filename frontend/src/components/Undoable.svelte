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
    gap: 14px;
    align-items: center;
    font-size: 14px;
    margin-bottom: 8px;
  }
</style>

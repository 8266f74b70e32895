<script lang="ts">
  // What is under way for a production as a whole: how much of it is done, how long it will take still, and cancelling all of it.
  import type { Lot } from '../lib/api';
  import { clock, counted } from '../lib/format';
  import Progress from './Progress.svelte';
  interface Props {
    lot: Lot;
    oncancel: () => void;
  }
  let { lot, oncancel }: Props = $props();
  const stage = $derived(
    [
      `${lot.done} of ${counted(lot.total, 'task')} done`,
      lot.failed ? `${lot.failed} failed` : '',
      lot.left_s === null ? '' : `about ${clock(Math.max(1, lot.left_s))} left`,
    ]
      .filter(Boolean)
      .join(', '),
  );
</script>

<div class="lot"><Progress {stage} fraction={lot.fraction} about="everything under way" {oncancel} /></div>

<style>
  .lot {
    margin: 0 0 var(--space-4);
  }
</style>

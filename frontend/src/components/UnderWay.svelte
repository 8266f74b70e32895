<script lang="ts">
  // How far a piece of background work is, as it is told live, with a way to cancel it.
  import { getContext } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import type { Work } from '../lib/api';
  import type { Live } from '../lib/live.svelte';
  import Progress from './Progress.svelte';
  interface Props {
    work: Work;
    about: string;
    /** What it is called before it has begun. */
    waiting?: string;
    /** Who cancels it, where that is offered. */
    acting?: Acting;
  }
  let { work, about, waiting = 'waiting', acting }: Props = $props();
  const live = getContext<Live>('live');
  const now = $derived(live.progress[work.id] ?? work);
</script>

<Progress
  stage={now.stage || waiting}
  fraction={now.fraction}
  {about}
  oncancel={acting ? () => void acting.cancel(work.id) : undefined}
/>

<script lang="ts">
  // A file from start to end: its level, what of it was heard, its notes, and where we are. A click goes there.
  import type { ListenView } from '../lib/api';
  import { clock } from '../lib/format';
  import MiniRibbon from './MiniRibbon.svelte';
  interface Props {
    view: ListenView;
    position: number;
    onseek: (seconds: number) => void;
  }
  let { view, position, onseek }: Props = $props();
  const HEIGHT = 128;
  const BELOW = 16;
  let wide = $state(0);
  const x = (seconds: number) => (seconds / Math.max(view.duration_s, 0.001)) * wide;
</script>

<div
  class="strip"
  bind:clientWidth={wide}
  role="slider"
  tabindex="0"
  aria-label="Position"
  aria-valuemin="0"
  aria-valuemax={Math.round(view.duration_s)}
  aria-valuenow={Math.round(position)}
  aria-valuetext={clock(position)}
  onclick={(event) => onseek((event.offsetX / Math.max(wide, 1)) * view.duration_s)}
  onkeydown={(event) => {
    const by = { ArrowLeft: -5, ArrowRight: 5, PageDown: -30, PageUp: 30, Home: -Infinity, End: Infinity }[event.key];
    if (by === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    onseek(Math.max(0, Math.min(position + by, view.duration_s)));
  }}
>
  {#if wide && view.ribbon}<MiniRibbon ribbon={view.ribbon} width={wide} height={HEIGHT} />{/if}
  {#if wide}
    <svg width={wide} height={HEIGHT + BELOW} aria-hidden="true">
      {#each view.covered as { start_s: from, end_s: to } (from)}
        <rect class="heard" x={x(from)} y={HEIGHT + 4} width={Math.max(1, x(to) - x(from))} height="4" />
      {/each}
      {#each view.notes.filter((note) => note.this) as note (note.id)}
        <path class="note" class:done={note.done_at} d={`M${x(note.at_s)} ${HEIGHT + 2}v${BELOW - 4}`} />
      {/each}
      <path class="now" d={`M${x(position)} 0V${HEIGHT + BELOW}`} />
    </svg>
  {/if}
</div>

<style>
  .strip {
    position: relative;
    height: 144px;
    cursor: pointer;
    background: var(--sheet);
  }
  svg {
    position: absolute;
    inset: 0;
    pointer-events: none;
  }
  .heard {
    fill: var(--inside);
  }
  .note {
    stroke: var(--outside);
    stroke-width: 2;
  }
  .done {
    stroke: var(--soft);
  }
  .now {
    stroke: var(--act);
    stroke-width: 1.5;
  }
</style>

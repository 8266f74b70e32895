<script lang="ts">
  // What the ribbon shows: closer, wider, the whole; levels or wave; the selection and its loop; what a meter reads at the playhead.
  import { clock, number } from '../lib/format';
  import type { Player } from '../lib/player.svelte';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import type { Tracks } from '../lib/tracks';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    view: RibbonView;
    player: Player;
    tracks: Tracks | null | undefined;
    /** How much later the same word comes in what the tracks are of. */
    offset: number;
  }
  let { view, player, tracks, offset }: Props = $props();
  const now = $derived(tracks?.at(player.position + offset));
  const level = (value: number | null | undefined) => (value == null ? '–' : number(value, 1));
  const exact = (seconds: number) => clock(seconds, 2);
</script>

<div class="strip" role="group" aria-label="View">
  <span class="buttons">
    <LinkButton onclick={() => view.zoom(2, player.position)}>Zoom in</LinkButton>
    <LinkButton onclick={() => view.zoom(0.5, player.position)} disabled={view.whole}>Zoom out</LinkButton>
    <LinkButton onclick={() => view.fit()} disabled={view.whole}>Whole file</LinkButton>
    <LinkButton pressed={view.wave} onclick={() => view.turn('wave')}>Waveform</LinkButton>
    <LinkButton pressed={view.picture === 'spectrogram'} onclick={() => view.turn('spectrogram')}
      >Spectrogram</LinkButton
    >
    <LinkButton
      pressed={view.loudness}
      disabled={view.picture !== 'levels'}
      onclick={() => (view.loudness = !view.loudness)}>Loudness</LinkButton
    >
  </span>
  {#if view.selection}
    <span class="figure" role="group" aria-label="Selection"
      >{exact(view.selection.from)} to {exact(view.selection.to)}, {number(view.selection.to - view.selection.from, 2)} s</span
    >
    <LinkButton onclick={() => view.selection && view.show(view.selection.from, view.selection.to)}
      >Zoom to selection</LinkButton
    >
    <label>
      <input
        type="checkbox"
        checked={player.loop !== undefined}
        onchange={(event) => (player.loop = event.currentTarget.checked ? view.selection : undefined)}
      />
      Loop
    </label>
  {/if}
  {#if now}
    <span class="now figure" role="group" aria-label="At the playhead">
      <span><span class="soft">peak</span> {level(now.peak_dbfs)} <span class="soft">dBFS</span></span>
      <span><span class="soft">momentary</span> {level(now.momentary_lufs)}</span>
      <span><span class="soft">short-term</span> {level(now.short_term_lufs)} <span class="soft">LUFS</span></span>
    </span>
  {/if}
</div>

<style>
  .strip {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-6);
    align-items: center;
    padding: var(--space-2) var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
    font-size: var(--type-small);
  }
  .buttons {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-5);
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .now {
    display: flex;
    gap: var(--space-5);
    margin-left: auto;
  }
  label {
    display: flex;
    gap: var(--space-3);
    align-items: center;
  }
  @media print {
    .strip {
      display: none;
    }
  }
</style>

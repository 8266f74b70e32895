<script lang="ts">
  // The one strip for playing: source, treated, matched loudness.
  import { clock, number } from '../lib/format';
  import type { Player } from '../lib/player.svelte';
  import Button from './Button.svelte';
  let { player }: { player: Player } = $props();

  function key(event: KeyboardEvent) {
    const target = event.target as HTMLElement;
    if (target.closest('input, select, textarea, button, a') && event.key === ' ') return;
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === ' ') player.toggle();
    else if (event.key === 'x') player.swap();
    else if (event.key === 'ArrowLeft') player.seek(player.position - 2);
    else if (event.key === 'ArrowRight') player.seek(player.position + 2);
    else return;
    event.preventDefault();
  }
</script>

<svelte:window onkeydown={key} />
<div class="strip" role="group" aria-label="Playing">
  <Button onclick={() => player.toggle()}>{player.playing ? 'Stop' : 'Play'}</Button>
  <span class="time" aria-label="Position"
    >{clock(player.position)} <span class="soft">of {clock(player.duration)}</span></span
  >
  {#if player.hasTreated}
    <span class="sides" role="radiogroup" aria-label="What is heard">
      {#each [['source', 'Source'], ['treated', 'Treated']] as const as [side, word] (side)}
        <button type="button" role="radio" aria-checked={player.side === side} onclick={() => player.swap(side)}
          >{word}</button
        >
      {/each}
    </span>
    <label>
      <input
        type="checkbox"
        checked={player.matched}
        onchange={(event) => player.setMatched(event.currentTarget.checked)}
      />
      Matched loudness
      <span class="soft figure">
        {player.matched
          ? `treated ${player.match > 0 ? '+' : ''}${number(player.match, 1)} dB`
          : 'each at its own level'}
      </span>
    </label>
  {/if}
  <span class="keys">Space plays{player.hasTreated ? ', x swaps' : ''}, arrows move by 2 s</span>
  {#if player.problem}<span class="problem" role="alert">{player.problem}</span>{/if}
</div>

<style>
  .strip {
    display: flex;
    gap: 18px;
    align-items: center;
    flex-wrap: wrap;
    padding: 8px 12px;
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
  }
  .time,
  .figure {
    font-family: var(--figures);
    font-size: 13.5px;
  }
  .soft,
  .keys {
    color: var(--soft);
  }
  .keys {
    margin-left: auto;
    font-size: 12.5px;
  }
  .sides {
    display: flex;
    gap: 14px;
  }
  .sides button {
    border: 0;
    background: none;
    padding: 4px 2px;
    color: var(--soft);
    cursor: pointer;
  }
  .sides button[aria-checked='true'] {
    color: var(--ink);
    font-weight: 600;
    box-shadow: 0 2px 0 var(--act);
  }
  label {
    display: flex;
    gap: 7px;
    align-items: center;
    font-size: 14px;
  }
  input {
    accent-color: var(--act);
  }
  .problem {
    color: var(--outside);
  }
</style>

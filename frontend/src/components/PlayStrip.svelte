<script lang="ts">
  // The one strip for playing: source, treated, matched loudness.
  import { clock, number } from '../lib/format';
  import type { Player } from '../lib/player.svelte';
  import BlindComparison from './BlindComparison.svelte';
  import Button from './Button.svelte';
  import LinkButton from './LinkButton.svelte';
  import RadioRow from './RadioRow.svelte';
  let { player }: { player: Player } = $props();
  const capital = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);
  let blind: BlindComparison | undefined = $state();
  const lowered = $derived.by(() => {
    const [side, by] = player.match.source < 0 ? ['source', player.match.source] : ['treated', player.match.treated];
    return `${player.names[side as 'source' | 'treated']} ${number(by as number, 1)} dB`;
  });
</script>

<div
  class="strip"
  role="group"
  aria-label="Playing"
  data-heard={player.heard}
  data-heard-after={player.heardAfter?.toFixed(3)}
>
  <Button onclick={() => player.toggle()}>{player.playing || player.waiting ? 'Stop' : 'Play'}</Button>
  <span class="time" role="group" aria-label="Position"
    >{clock(player.position)} <span class="soft">{player.coming ? '' : `of ${clock(player.duration)}`}</span></span
  >
  {#if player.hasTreated && !player.hidden}
    <RadioRow
      label="What is heard"
      value={player.side}
      options={[
        ['source', capital(player.names.source)],
        ['treated', capital(player.names.treated)],
      ]}
      onchoose={(side) => player.swap(side)}
    />
    <label>
      <input
        type="checkbox"
        checked={player.matched}
        onchange={(event) => player.setMatched(event.currentTarget.checked)}
      />
      Matched loudness
      <span class="soft figure">
        {player.matched ? lowered : 'original levels'}
      </span>
    </label>
    <LinkButton onclick={() => blind?.open()}>Blind comparison…</LinkButton>
  {/if}
  {#if player.hasTreated}<BlindComparison bind:this={blind} {player} />{/if}
  <span class="keys">
    <span role="status">{player.waiting ? 'Plays as soon as the recording is measured' : ''}</span>
    {#if !player.waiting}H: play{player.hasTreated ? ' · X: switch version' : ''} · ?: shortcuts{/if}
  </span>
  {#if player.problem}<span class="problem" role="alert">{player.problem}</span>{/if}
</div>

<style>
  .strip {
    display: flex;
    gap: var(--space-6);
    align-items: center;
    flex-wrap: wrap;
    padding: var(--space-2) var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-top: 0;
  }
  .time,
  .figure {
    font-family: var(--figures);
    font-size: var(--type-plain);
  }
  .keys {
    margin-left: auto;
    color: var(--soft);
    font-size: var(--type-small);
  }
  label {
    display: flex;
    gap: var(--space-3);
    align-items: center;
    font-size: var(--type-plain);
  }
  input {
    accent-color: var(--act);
  }
  .problem {
    color: var(--outside);
  }
  @media print {
    .strip {
      display: none;
    }
  }
</style>

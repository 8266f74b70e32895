<script lang="ts">
  // Source and treated without their names: which is preferred over several rounds, and whether that could be chance.
  import type { Player } from '../lib/player.svelte';
  import * as recordings from '../lib/server/recordings';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import Dialog from './Dialog.svelte';
  import LinkButton from './LinkButton.svelte';
  import RadioRow from './RadioRow.svelte';
  let { player }: { player: Player } = $props();
  type Side = 'source' | 'treated';
  const ROUNDS = [
    ['6', '6 rounds'],
    ['10', '10 rounds'],
    ['16', '16 rounds'],
  ] as const;
  let dialog: HTMLDialogElement | undefined = $state();
  let rounds = $state<'6' | '10' | '16'>('10');
  // Which side is heard first in each round: never shown until all rounds are done.
  let order = $state<Side[]>([]);
  let preferred: Side[] = [];
  let round = $state(0);
  let hearing = $state<0 | 1>(0);
  let heard = $state([false, false]);
  let problem = $state('');
  let result = $state<{ sentence: string; list: Side[] }>();
  /** As a sentence calls them. */
  const plain = ({ source, treated }: Record<Side, string>) =>
    source === 'original' && treated === 'processed' ? {} : { first: source, second: treated };
  const other = (side: Side): Side => (side === 'source' ? 'treated' : 'source');
  const sideOf = (which: 0 | 1): Side => {
    const first = order[round - 1] ?? 'source';
    return which === 0 ? first : other(first);
  };

  export function open(): void {
    round = 0;
    result = undefined;
    problem = '';
    dialog?.showModal();
  }
  async function start(): Promise<void> {
    try {
      order = await recordings.drawRounds(Number(rounds));
    } catch (error) {
      problem = (error as Error).message;
      return;
    }
    preferred = [];
    player.hidden = true;
    player.setMatched(true);
    next(1);
  }
  function next(to: number): void {
    round = to;
    heard = [false, false];
    hear(0);
    if (!player.playing) void player.play();
  }
  function hear(which: 0 | 1): void {
    hearing = which;
    heard[which] = true;
    player.swap(sideOf(which));
    if (!player.playing) void player.play();
  }
  async function prefer(which: 0 | 1): Promise<void> {
    preferred.push(sideOf(which));
    if (round < order.length) {
      next(round + 1);
      return;
    }
    player.stop();
    const called = plain(player.names);
    const treated = preferred.filter((side) => side === 'treated').length;
    try {
      const found = await recordings.judgeRounds({ rounds: order.length, treated, ...called });
      result = { sentence: found.sentence, list: [...preferred] };
    } catch (error) {
      problem = (error as Error).message;
    }
  }
  function closed(): void {
    if (round && !result) player.stop();
    player.hidden = false;
    player.swap('source');
    round = 0;
  }
  function onkeydown(event: KeyboardEvent): void {
    if (!round || result) return;
    if (event.key === '1' || event.key === '2') hear(event.key === '1' ? 0 : 1);
  }
</script>

<Dialog bind:element={dialog} title="Blind comparison" onclose={closed} {onkeydown}>
  {#if problem}<p role="alert" class="problem">{problem}</p>{/if}
  <p role="status" class="result">{result?.sentence ?? ''}</p>
  {#if result}
    <p class="soft">
      Round by round:
      {#each result.list as side, index (index)}{index ? ', ' : ''}{player.names[side]}{/each}.
    </p>
    <div class="row">
      <Button onclick={start}>Run again</Button><Button onclick={() => dialog?.close()}>Close</Button>
    </div>
  {:else if round}
    <p>Round {round} of {order.length}. Loudness is matched; the order is random each round.</p>
    <RadioRow
      label="What is heard"
      value={hearing}
      options={[
        [0, 'Hear the first'],
        [1, 'Hear the second'],
      ]}
      onchoose={(which) => hear(which)}
      wide
    />
    <div class="row">
      {#each [0, 1] as const as which (which)}
        <Button disabled={!heard[0] || !heard[1]} onclick={() => prefer(which)}
          >The {which ? 'second' : 'first'} is better</Button
        >
      {/each}
    </div>
    <p class="soft">
      Listen to both before you decide; keys 1 and 2 switch. <LinkButton onclick={() => dialog?.close()}
        >Stop test</LinkButton
      >
    </p>
  {:else}
    <p>
      You hear {player.names.source} and {player.names.treated} without their names, equally loud, {player.loop
        ? 'the looped selection'
        : 'from the playhead on'}. Say which is better in each round; at the end you see whether your choices beat
      chance.
    </p>
    <div class="row">
      <Choice label="Length" value={rounds} options={ROUNDS} onchange={(to) => (rounds = to)} />
      <Button strong onclick={start}>Start</Button>
      <Button onclick={() => dialog?.close()}>Close</Button>
    </div>
  {/if}
</Dialog>

<style>
  p {
    margin: var(--space-4) 0;
  }
  .row {
    display: flex;
    gap: var(--space-5);
    align-items: end;
    margin: var(--space-5) 0;
  }
  .soft {
    font-size: var(--type-plain);
  }
  .result:not(:empty) {
    font-size: var(--type-lead);
  }
  .problem {
    color: var(--outside);
  }
</style>

<script lang="ts">
  // The passages of two voices in a recording: where each speaks, corrected by hand, and one brought to the other.
  import type { Turn, TurnsView } from '../lib/api';
  import { clock, number } from '../lib/format';
  import type { Span } from '../lib/ribbon-view.svelte';
  import { given, voiceName } from '../lib/turns';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    view: TurnsView | undefined;
    problem: string;
    duration: number;
    selection: Span | undefined;
    /** The recording that the production's others are brought to, where one is named and it is not this one. */
    reference: { id: string; name: string } | undefined;
    ongo: (span: Span) => void;
    oncorrect: (turns: Turn[] | null) => void;
    onmatch: (wanted: { toward: number; tone: boolean; like: string | null }) => void;
  }
  let { view, problem, duration, selection, reference, ongo, oncorrect, onmatch }: Props = $props();
  const turns = $derived(view?.turns ?? []);
  const voices = $derived(view?.voices ?? []);
  let wanted = $state('0');
  let tone = $state(false);
  const ways = $derived([
    ['0', 'B to A'] as [string, string],
    ['1', 'A to B'] as [string, string],
    ...(reference ? [['like', `both to ${reference.name}`] as [string, string]] : []),
  ]);
  const way = $derived(ways.some(([key]) => key === wanted) ? wanted : '0');
  const match = () =>
    onmatch({ toward: way === '1' ? 1 : 0, tone, like: way === 'like' ? (reference?.id ?? null) : null });
  const speak = (span: Span, voice: number) => oncorrect(given(turns, span, voice, duration));
  const span = ({ start_s, end_s }: Turn) => ({ from: start_s, to: end_s });
</script>

<div class="voices">
  {#if turns.length}
    <dl>
      {#each voices as one (one.voice)}
        <div>
          <dt><b>{voiceName(one.voice)}</b></dt>
          <dd>
            speaks for {clock(one.seconds)}{one.speech_dbfs === null
              ? ''
              : `, its speech at ${number(one.speech_dbfs, 1)} dBFS`}
          </dd>
        </div>
      {/each}
    </dl>
    <div class="match" role="group" aria-label="Bring the voices together">
      <Choice label="Bring" value={way} options={ways} onchange={(to) => (wanted = to)} />
      <label><input type="checkbox" bind:checked={tone} /> in tone too</label>
      <Button strong onclick={match}>Put into the treatment</Button>
    </div>
  {:else if view}
    <p>One voice is heard.</p>
  {/if}
  {#if problem}<p class="outside" role="alert">{problem}</p>{/if}
  {#if selection}
    <p class="line">
      The selection is of
      <Button onclick={() => selection && speak(selection, 0)}>voice A</Button>
      <Button onclick={() => selection && speak(selection, 1)}>voice B</Button>
    </p>
  {:else}
    <p class="soft">
      {turns.length
        ? 'B is marked along the top of the ribbon. Select on the ribbon to say who speaks there.'
        : 'Where another speaks, select it on the ribbon and say so here.'}
    </p>
  {/if}
  {#if view?.by_hand}
    <p class="soft">
      Set manually. <LinkButton onclick={() => oncorrect(null)}>Detect automatically</LinkButton>
    </p>
  {/if}
  {#if turns.length}
    <ol>
      {#each turns as turn, at (at)}
        <li class:other={turn.voice === 1}>
          <b>{voiceName(turn.voice)}</b>
          <LinkButton onclick={() => ongo(span(turn))}>{clock(turn.start_s, 1)} to {clock(turn.end_s, 1)}</LinkButton>
          <LinkButton onclick={() => speak(span(turn), 1 - turn.voice)}
            >It is {voiceName(1 - turn.voice)}<span class="visually-hidden"
              >&#32;who speaks from {clock(turn.start_s, 1)}</span
            ></LinkButton
          >
        </li>
      {/each}
    </ol>
  {/if}
</div>

<style>
  .voices {
    display: grid;
    gap: var(--space-4);
    padding: var(--space-4) var(--space-5) var(--space-5);
    font-size: var(--type-plain);
  }
  dl,
  ol {
    margin: 0;
    padding: 0;
    list-style: none;
  }
  dl div {
    display: flex;
    gap: var(--space-4);
  }
  dd {
    margin: 0;
  }
  b {
    font-weight: 600;
  }
  .match,
  .line {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-5);
    align-items: end;
  }
  .line {
    align-items: center;
  }
  .soft {
    font-size: var(--type-plain);
  }
  .outside {
    color: var(--outside);
  }
  li {
    display: grid;
    grid-template-columns: 3ch 1fr auto;
    gap: var(--space-4);
    padding: var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
  }
  li :global(button) {
    justify-self: start;
  }
  .other b {
    color: var(--act);
  }
</style>

<script lang="ts">
  // Cutting the selection as the sample that shops play.
  import { Acting } from '../lib/acting.svelte';
  import { clock, number } from '../lib/format';
  import type { Span } from '../lib/ribbon-view.svelte';
  import * as recordings from '../lib/server/recordings';
  import LinkButton from './LinkButton.svelte';
  import Problem from './Problem.svelte';
  interface Props {
    recordingId: string;
    selection: Span;
  }
  let { recordingId, selection }: Props = $props();
  const FADE_IN_S = 0.5;
  const FADE_OUT_S = 2;
  const SHORTEST_S = 10;
  const LONGEST_S = 300;
  const seconds = $derived(selection.to - selection.from);
  let made = $state('');
  const acting = new Acting();
  async function cut() {
    made = '';
    const body = { start_s: selection.from, end_s: selection.to, fade_in_s: FADE_IN_S, fade_out_s: FADE_OUT_S };
    made = (await acting.attempt(() => recordings.cutSample(recordingId, body)))?.id ?? '';
  }
</script>

{#if seconds >= SHORTEST_S}
  <p>
    {#if seconds <= LONGEST_S}
      <LinkButton onclick={cut}>Cut as shop sample, {clock(seconds)}</LinkButton>
      <span class="soft">faded in over {number(FADE_IN_S, 1)} s and out over {number(FADE_OUT_S, 0)} s</span>
    {:else}
      <span class="soft">A shop sample may last {clock(LONGEST_S)}; the selection lasts {clock(seconds)}.</span>
    {/if}
    <span role="status"
      >{#if made}<a href={`#/recordings/${made}`}>Sample.wav</a> is in the production.{/if}</span
    >
  </p>
  <Problem {acting} />
{/if}

<style>
  p {
    display: flex;
    gap: var(--space-5);
    align-items: baseline;
    margin-top: var(--space-2);
    font-size: var(--type-small);
  }
</style>

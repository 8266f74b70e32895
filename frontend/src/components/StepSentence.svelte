<script lang="ts">
  // A step's sentence, or a part of it, with its settings edited in their places; what is wrong with one stands behind it.
  import type { ReadStep, StepPiece } from '../lib/api';
  import Figure from './Figure.svelte';
  interface Props {
    step: ReadStep;
    pieces: StepPiece[];
    onset: (path: string, value: unknown) => Promise<void>;
  }
  let { step, pieces, onset }: Props = $props();
  const id = $props.id();
  const settings = $derived(step.reading.settings ?? {});
  const wrong = $derived(pieces.flatMap(({ path }) => settings[path ?? '']?.problem || []));
</script>

{#each pieces as piece, index (index)}{@const setting = settings[piece.path ?? '']}{#if setting}<Figure
      {setting}
      of={step.reading.title}
      against={`${id}-against`}
      onset={(value) => onset(setting.path, value)}
    />{:else}{piece.words}{/if}{/each}
<span id={`${id}-against`}
  >{#each wrong as said (said)}<span class="wrong" role="alert">{said}</span>{/each}</span
>

<style>
  .wrong {
    display: block;
    font-size: var(--type-small);
    color: var(--outside);
  }
</style>

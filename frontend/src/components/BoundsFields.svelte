<script lang="ts">
  // The most that a plan may do to a voice, in figures.
  import type { Bounds } from '../lib/api';
  import Labelled from './Labelled.svelte';
  interface Props {
    bounds: Required<Bounds>;
    onchange: (bounds: Required<Bounds>) => void;
  }
  let { bounds, onchange }: Props = $props();
  const FIELDS = [
    ['limiting_db', 'Limiting, dB', 24],
    ['compression_db', 'Compression, dB', 30],
    ['ratio', 'Compression ratio', 20],
    ['riding_db', 'Level riding, dB', 15],
    ['noise_reduction_db', 'Noise reduction, dB', 18],
    ['pauses_db', 'Lowering of pauses, dB', 60],
  ] as const;
</script>

{#each FIELDS as [name, label, most] (name)}
  <Labelled {label}>
    <input
      type="number"
      min={name === 'ratio' ? 1 : 0}
      max={most}
      step="0.5"
      value={bounds[name]}
      onchange={(event) => {
        const { valueAsNumber: value, validity } = event.currentTarget;
        if (Number.isFinite(value) && !validity.rangeOverflow && !validity.rangeUnderflow)
          onchange({ ...bounds, [name]: value });
        else event.currentTarget.value = String(bounds[name]);
      }}
    />
  </Labelled>
{/each}

<style>
  input {
    width: 140px;
    font-family: var(--figures);
  }
</style>

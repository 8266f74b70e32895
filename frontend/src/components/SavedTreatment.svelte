<script lang="ts">
  // Choosing a saved treatment; where it means one level of the voice and finds any, a reference level is offered.
  import { createQuery } from '@tanstack/svelte-query';
  import type { TreatmentSummary } from '../lib/api';
  import { exact } from '../lib/format';
  import * as treatments from '../lib/server/treatments';
  import Button from './Button.svelte';
  interface Props {
    label: string;
    /** What the button says that goes on with the choice. */
    act: string;
    onuse: (treatment: TreatmentSummary, reference: boolean) => void;
  }
  let { label, act, onuse }: Props = $props();
  const kept = createQuery(() => treatments.all());
  let picked = $state('');
  const chosen = $derived(kept.data?.find((one) => one.id === picked));
  let reference = $state(true);
</script>

<div class="saved">
  <label>
    <span class="visually-hidden">{label}</span>
    <select bind:value={picked}>
      <option value="">{label} …</option>
      {#each kept.data ?? [] as one (one.id)}<option value={one.id}>{one.name}</option>{/each}
    </select>
  </label>
  {#if chosen}
    {@const treatment = chosen}
    <Button
      onclick={() => {
        onuse(treatment, treatment.lacks_reference && reference);
        picked = '';
      }}>{act}</Button
    >
    <p class="soft">{chosen.description || `${chosen.steps.join('. ')}.`}</p>
    {#if chosen.lacks_reference}
      <label class="choice">
        <input type="checkbox" bind:checked={reference} />
        <span
          >Its thresholds were set for {chosen.voice_dbfs === null
            ? 'a level that is not known'
            : `a voice at ${exact(chosen.voice_dbfs)} dBFS`}. Bring the recording to {exact(chosen.voice_dbfs ?? -24)} dBFS
          of active speech first</span
        >
      </label>
    {/if}
  {/if}
</div>

<style>
  .saved {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-5);
    align-items: center;
    font-size: var(--type-plain);
  }
  select {
    font-size: var(--type-plain);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-2) var(--space-4);
    max-width: 260px;
  }
  .soft {
    flex-basis: 100%;
    font-size: var(--type-plain);
  }
  .choice {
    display: flex;
    gap: var(--space-3);
    align-items: baseline;
  }
</style>

<script lang="ts">
  // What can be done with the recordings that are selected on a sheet; and what came of it.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Acting } from '../lib/acting.svelte';
  import type { AskedEach, Format, Preference, SheetEntry } from '../lib/api';
  import { PLANS } from '../lib/approach';
  import { defaults } from '../lib/defaults';
  import type { Dropped } from '../lib/dropped';
  import { counted, exact } from '../lib/format';
  import * as recordings from '../lib/server/recordings';
  import * as treatments from '../lib/server/treatments';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import FileButton from './FileButton.svelte';
  import Labelled from './Labelled.svelte';
  import LinkButton from './LinkButton.svelte';
  import Question from './Question.svelte';
  interface Props {
    chosen: SheetEntry[];
    formats: Format[];
    acting: Acting;
    /** Where these alone can be conformed as one sound. */
    whole: string;
    /** The recording that the others are brought to, where one is named. */
    reference: string | null;
    onreference: (id: string | null) => void;
    onreplace: (dropped: Dropped) => void;
    onremove: () => void;
    onclear: () => void;
  }
  let { chosen, formats, acting, whole, reference, onreference, onreplace, onremove, onclear }: Props = $props();
  const kept = createQuery(() => treatments.all());
  const ways = $derived([...PLANS, ...(kept.data ?? []).map((one) => [`:${one.id}`, one.name] as const)]);
  const set = defaults();
  let picked = $state<string>();
  const way = $derived(ways.find(([key]) => key === picked)?.[0] ?? set.data?.preference ?? 'balanced');
  const treatment = $derived(kept.data?.find((one) => `:${one.id}` === way));
  let levelled = $state(true);
  let container = $state<Format['name']>('');
  const containers = $derived(
    formats.map(({ name, title }) => [name, name === '' ? `${title}, as required` : title] as const),
  );
  const form = $derived(containers.some(([name]) => name === container) ? container : (containers[0]?.[0] ?? ''));
  let came = $state<{ asked: AskedEach; done: string; settled: string }>();

  const ids = $derived(chosen.map((row) => row.id));
  const busy = $derived(chosen.some((entry) => entry.busy));
  const ready = $derived(chosen.some(({ status }) => status === 'certified' || status === 'conformed'));
  const gone = $derived(chosen.some(({ status }) => status === 'delivered'));
  const conform = () =>
    acting.attempt(async () => {
      const body = {
        recordings: ids,
        preference: treatment ? null : (way as Preference),
        treatment: treatment?.id ?? null,
        reference: Boolean(treatment?.lacks_reference && levelled),
        container: form || null,
      };
      const asked = await recordings.conformEach(body);
      came = { asked, done: 'queued', settled: 'already up to date' };
    });
  const measure = () =>
    acting.attempt(async () => {
      const asked = await recordings.measureEach(ids);
      came = { asked, done: 'queued for measuring', settled: 'already measured' };
    });
  const cancel = () =>
    acting.attempt(async () => {
      came = undefined;
      await recordings.cancelEach(ids);
    });
  const handOver = (delivered: boolean) =>
    acting.attempt(async () => {
      const asked = await recordings.handOverEach(ids, delivered);
      const done = delivered ? 'marked as delivered' : 'marked as not delivered';
      came = { asked, done, settled: 'already marked' };
    });
  let naming: HTMLDialogElement | undefined = $state();
  let name = $state('');
  function askName(): void {
    name = chosen[0]?.name ?? '';
    naming?.showModal();
  }
  async function rename(): Promise<void> {
    naming?.close();
    if (chosen[0] && name.trim()) await acting.rename(chosen[0].id, name);
  }
  const told = $derived(
    came &&
      [
        came.asked.asked.length ? `${counted(came.asked.asked.length, 'recording')} ${came.done}` : '',
        came.asked.settled.length ? `${counted(came.asked.settled.length, 'recording')} ${came.settled}` : '',
      ]
        .filter(Boolean)
        .join(', '),
  );
</script>

<div class="bar" role="group" aria-label="Selected recordings">
  <b>{chosen.length} selected</b>
  <Choice label="Treatment" value={way} options={ways} onchange={(to) => (picked = to)} />
  <Choice label="Format" value={form} options={containers} onchange={(to) => (container = to)} />
  <Button strong onclick={conform}>Conform</Button>
  <Button onclick={measure}>Measure</Button>
  {#if busy}<Button onclick={cancel}>Cancel work</Button>{/if}
  {#if ready}<Button onclick={() => handOver(true)}>Mark as delivered</Button>{/if}
  {#if gone}<Button onclick={() => handOver(false)}>Mark as not delivered</Button>{/if}
  {#if chosen.length === 1}
    <FileButton label={`Newer file for ${chosen[0]?.name}`} onchosen={onreplace}>Replace with a newer file…</FileButton>
  {/if}
  {#if chosen.length === 1}<Button onclick={askName}>Rename…</Button>{/if}
  <Button onclick={onremove}>Remove</Button>
  <span class="links">
    {#if chosen.length > 1}<a href={whole}>As one sound…</a>{/if}
    {#if chosen.length === 1 && chosen[0]?.measured}
      {#if chosen[0].id === reference}<LinkButton onclick={() => onreference(null)}>No longer the reference</LinkButton>
      {:else}<LinkButton onclick={() => onreference(chosen[0]?.id ?? null)}>Use as reference</LinkButton>{/if}
    {/if}
    <LinkButton onclick={onclear}>Clear selection</LinkButton>
  </span>
  <Question
    bind:element={naming}
    title="Rename recording"
    meaning="Its ending stays. Certificates that were issued keep the old name."
    act="Rename"
    disabled={!name.trim()}
    onact={rename}
  >
    <Labelled label="Name of the recording"><input bind:value={name} maxlength="250" /></Labelled>
  </Question>
  {#if treatment?.lacks_reference}
    <label class="line">
      <input type="checkbox" bind:checked={levelled} />
      {treatment.name} has thresholds and no reference level before them. Bring every recording to {exact(
        treatment.voice_dbfs ?? -24,
      )} dBFS of active speech first, so that they mean the same in each
    </label>
  {/if}
  <div class="line" role="status">
    {#if told || came?.asked.refused.length}
      <p>
        {told ? `${told}.` : ''}
        {#each came?.asked.refused ?? [] as refused (refused.id)}<span class="outside">{refused.reason} </span>{/each}
      </p>
    {/if}
  </div>
</div>

<style>
  .bar {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-4) var(--space-5);
    align-items: end;
    background: var(--sheet);
    border: 1px solid var(--act);
    padding: var(--space-4) var(--space-5);
  }
  b {
    font-weight: 600;
    align-self: center;
  }
  .links {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-5);
    padding-bottom: var(--space-3);
  }
  .line:has(p) {
    flex-basis: 100%;
    font-size: var(--type-plain);
  }
  .outside {
    color: var(--outside);
  }
</style>

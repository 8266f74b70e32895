<script lang="ts">
  // Saving a draft for other recordings: as what, with which finish, and what of it stays behind.
  import { createQuery } from '@tanstack/svelte-query';
  import type { DraftView, Finish, KeptTreatment } from '../lib/api';
  import { Acting } from '../lib/acting.svelte';
  import { exact, number } from '../lib/format';
  import * as drafts from '../lib/server/drafts';
  import * as treatments from '../lib/server/treatments';
  import Button from './Button.svelte';
  import Problem from './Problem.svelte';
  interface Props {
    recordingId: string;
    view: DraftView;
    onclose: (saved?: KeptTreatment) => void;
  }
  let { recordingId, view, onclose }: Props = $props();
  const kept = createQuery(() => treatments.all());
  const own = $derived((kept.data ?? []).filter((one) => !one.ships));
  let picked = $state<string>();
  /** The treatment whose next version it becomes; empty for a new one. */
  const target = $derived(picked ?? own.find((one) => one.id === view.kept?.id)?.id ?? '');
  const chosen = $derived(own.find((one) => one.id === target));
  let typed = $state<{ name?: string; description?: string; finish?: Finish }>({});
  const name = $derived(typed.name ?? chosen?.name ?? '');
  const description = $derived(typed.description ?? chosen?.description ?? '');
  const finish = $derived(typed.finish ?? chosen?.finish ?? 'planned');
  let reference = $state(true);
  const acting = new Acting();
  const general = createQuery(() => drafts.general(recordingId, view.number, finish));
  const FINISHES = [
    ['planned', 'Set for each recording, so that it meets its specification'],
    ['given', 'Exactly as they are here'],
  ] as const;
  const listed = (titles: string[]) => titles.map((title) => title.toLowerCase()).join(', ');

  function closes(area: HTMLElement) {
    const pressed = (event: KeyboardEvent) => {
      if (event.key !== 'Escape') return;
      event.stopPropagation();
      onclose();
    };
    area.addEventListener('keydown', pressed);
    return () => area.removeEventListener('keydown', pressed);
  }

  async function save(): Promise<void> {
    const body = {
      name,
      description,
      finish,
      reference,
      identifier: target || null,
      follows: chosen?.version ?? 0,
    };
    const made = await acting.attempt(() => drafts.save(recordingId, body), { once: `save ${recordingId}` });
    if (made) onclose(made);
  }
</script>

<form
  aria-label="Save treatment"
  onsubmit={(event) => {
    event.preventDefault();
    void save();
  }}
  {@attach closes}
>
  {#if own.length}
    <label>
      Save as
      <select value={target} onchange={(event) => ((picked = event.currentTarget.value), (typed = {}))}>
        <option value="">a new treatment</option>
        {#each own as one (one.id)}<option value={one.id}>version {one.version + 1} of {one.name}</option>{/each}
      </select>
    </label>
  {/if}
  <label>
    Name
    <input
      maxlength="80"
      value={name}
      oninput={(event) => (typed.name = event.currentTarget.value)}
      {@attach (field) => field.focus()}
    />
  </label>
  <label>
    Purpose
    <textarea
      rows="2"
      maxlength="2000"
      value={description}
      oninput={(event) => (typed.description = event.currentTarget.value)}></textarea>
  </label>
  <fieldset>
    <legend>Level, peaks and ends</legend>
    {#each FINISHES as [value, words] (value)}
      <label class="choice">
        <input type="radio" name="finish" checked={finish === value} onchange={() => (typed.finish = value)} />
        {words}
      </label>
    {/each}
  </fieldset>
  <Problem query={general} />
  {#if general.data}
    {#if general.data.reference !== null}
      <label class="choice">
        <input type="checkbox" bind:checked={reference} />
        <span
          >Bring every recording to {number(general.data.voice_dbfs, 1)} dBFS of active speech first, the level of this one,
          so that the thresholds mean the same everywhere</span
        >
      </label>
    {/if}
    <ol>
      {#each general.data.steps as step (step.id)}<li>{step.reading.title}</li>{/each}
    </ol>
    {#if general.data.finished.length}<p class="soft">
        Set for each recording: {listed(general.data.finished)}.
      </p>{/if}
    {#if general.data.spots.length}<p class="soft">
        Stays with this recording, as it is about single spots: {listed(general.data.spots)}.
      </p>{/if}
  {/if}
  <Problem {acting} />
  <p class="acts">
    <Button strong disabled={!name.trim() || general.isError} onclick={save}
      >{chosen ? `Save version ${exact(chosen.version + 1)}` : 'Save treatment'}</Button
    >
    <Button onclick={() => onclose()}>Cancel</Button>
  </p>
</form>

<style>
  form {
    display: grid;
    gap: var(--space-4);
    padding: var(--space-4) var(--space-5) var(--space-5);
    background: color-mix(in srgb, var(--paper) 55%, var(--sheet));
    border-top: 1px solid var(--rule);
    border-bottom: 1px solid var(--rule);
    font-size: var(--type-plain);
  }
  label {
    display: grid;
    gap: var(--space-1);
    font-size: var(--type-small);
    color: var(--soft);
  }
  input:not([type]),
  select,
  textarea {
    font: inherit;
    font-size: var(--type-plain);
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-2) var(--space-4);
    width: 100%;
    resize: vertical;
  }
  fieldset {
    border: 0;
    padding: 0;
    margin: 0;
    display: grid;
    gap: var(--space-2);
  }
  legend {
    font-size: var(--type-small);
    color: var(--soft);
    padding: 0;
  }
  .choice {
    display: flex;
    gap: var(--space-3);
    align-items: baseline;
    font-size: var(--type-plain);
    color: var(--ink);
  }
  ol {
    margin: 0;
    padding-left: var(--space-6);
  }
  .acts {
    display: flex;
    gap: var(--space-4);
  }
</style>

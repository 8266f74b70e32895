<script lang="ts">
  // What all files of a production have in common: as what they are written, how they are named, what they say, and their cover.
  import type { Delivery } from '../lib/api';
  import { LABELS, WORDS, type Delivering } from '../lib/delivering.svelte';
  import Choice from './Choice.svelte';
  import CoverPicture from './CoverPicture.svelte';
  import Field from './Field.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    view: Delivery;
    delivering: Delivering;
  }
  let { view, delivering }: Props = $props();
  const PAUSE_MS = 120;
  const kept = $derived(view.asked.naming ?? '');
  const problem = $derived(
    delivering.typed
      ? delivering.typed.problem || Object.values(delivering.typed.names).find((one) => one.problem)?.problem
      : view.problem,
  );
  const example = $derived.by(() => {
    const first = view.rows[0];
    return first ? (delivering.typed?.names[first.recording]?.file_name ?? first.file_name) : '';
  });
  const format = $derived(
    view.formats.find((one) => one.qualities[0]?.form.container === view.form?.container) ?? view.formats[0],
  );
  const quality = $derived(
    format?.qualities.find(
      ({ form }) => form.bit_depth === view.form?.bit_depth && form.bit_rate_kbps === view.form?.bit_rate_kbps,
    ),
  );
  let field: HTMLInputElement | undefined = $state();
  let waiting: ReturnType<typeof setTimeout> | undefined;
  $effect(() => () => clearTimeout(waiting));
  function typing(naming: string) {
    clearTimeout(waiting);
    if (naming === kept) delivering.typed = undefined;
    else waiting = setTimeout(() => void delivering.preview(naming), PAUSE_MS);
  }
  function keep(naming: string) {
    clearTimeout(waiting);
    void delivering.keep(naming);
  }
  function put(word: string) {
    if (!field) return;
    const at = field.selectionStart ?? field.value.length;
    field.setRangeText(`{${word}}`, at, field.selectionEnd ?? at, 'end');
    keep(field.value);
  }
</script>

<section aria-label="Settings for all files">
  <div class="form">
    <div class="pair">
      <Choice
        label="Format"
        value={format?.title ?? ''}
        options={view.formats.map(({ title }) => [title, title])}
        onchange={(to) => {
          const chosen = view.formats.find((one) => one.title === to)?.qualities[0];
          if (chosen) void delivering.change({ form: chosen.form });
        }}
      />
      <Choice
        label="Quality"
        value={quality?.title ?? ''}
        options={(format?.qualities ?? []).map(({ title }) => [title, title])}
        onchange={(to) => {
          const chosen = format?.qualities.find((one) => one.title === to);
          if (chosen) void delivering.change({ form: chosen.form });
        }}
      />
    </div>
    <Field
      label="File names"
      value={kept}
      maxlength={200}
      figures
      bind:element={field}
      invalid={Boolean(problem)}
      describedby="naming-said"
      oninput={typing}
      onchange={keep}
    />
    <!-- The field keeps the focus, and so the place where the word goes. -->
    <div
      class="words"
      role="toolbar"
      tabindex="-1"
      aria-label="Words to insert"
      onmousedown={(event) => event.preventDefault()}
    >
      {#each WORDS as word (word)}<LinkButton label={`Insert ${word}`} onclick={() => put(word)}
          >{`{${word}}`}</LinkButton
        >{/each}
    </div>
    <p class="example" id="naming-said" class:wrong={problem} aria-live="polite">
      {#if problem}{problem}{:else if example}<span class="soft">e.g.</span> {example}{/if}
    </p>
    <p class="hint">Text in square brackets is left out when a word in it is empty.</p>
  </div>
  <div class="labels">
    {#each LABELS as [name, title] (name)}
      <Field
        label={title}
        value={view.asked.labels?.[name] ?? ''}
        placeholder={name === 'album' ? view.name : name === 'language' ? 'English' : ''}
        onchange={(to) => void delivering.change({ [name]: to })}
      />
    {/each}
  </div>
  <CoverPicture production={view.id} cover={view.cover} {delivering} />
</section>

<style>
  section {
    display: grid;
    grid-template-columns: minmax(300px, 1.1fr) minmax(300px, 1fr) 300px;
    gap: var(--space-7);
    background: var(--sheet);
    border: 1px solid var(--rule);
    padding: var(--space-5) var(--space-5);
    margin: var(--space-4) 0 var(--space-5);
  }
  .form {
    display: grid;
    gap: var(--space-3);
    align-content: start;
  }
  .pair {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-5);
  }
  .labels {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: var(--space-3) var(--space-5);
    align-content: start;
  }
  .words {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-5);
    font-family: var(--figures);
    font-size: var(--type-fine);
  }
  .example {
    font-size: var(--type-plain);
    min-height: 20px;
    overflow-wrap: anywhere;
  }
  .wrong {
    color: var(--outside);
  }
  .hint {
    color: var(--soft);
  }
  .hint {
    font-size: var(--type-small);
  }
  @media (max-width: 1180px) {
    section {
      grid-template-columns: 1fr 1fr;
    }
  }
  @media (max-width: 760px) {
    section {
      grid-template-columns: minmax(0, 1fr);
    }
    .labels {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>

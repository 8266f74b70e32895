<script lang="ts">
  // Every saved treatment: one's own, and those that ship as starting points.
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import Button from '../components/Button.svelte';
  import DropArea from '../components/DropArea.svelte';
  import FileButton from '../components/FileButton.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { TreatmentSummary } from '../lib/api';
  import { counted } from '../lib/format';
  import * as treatments from '../lib/server/treatments';
  import Problem from '../components/Problem.svelte';

  const acting = new Acting();
  const listed = createQuery(() => treatments.all());
  const GROUPS = [
    ['Your own', (one: TreatmentSummary) => !one.ships],
    ['Starting points', (one: TreatmentSummary) => one.ships],
  ] as const;
  const bringIn = (files: File[]) =>
    acting.attempt(async () => {
      for (const file of files) {
        const found = await treatments.bringIn(file);
        if (files.length === 1) await push(`/treatments/${found.id}`);
      }
    });
</script>

<svelte:head><title>Treatments · Ispettore</title></svelte:head>
<DropArea ondrop={({ files }) => bringIn(files)} invitation="Drop a treatment (JSON) here">
  <div class="page">
    <div class="top">
      <div>
        <h1>Treatments</h1>
        <p class="soft">
          Steps to use again on other recordings. Build one on the bench, save it there, and apply it from the sheet.
        </p>
      </div>
      <FileButton
        label="Treatments to import"
        multiple
        accept=".json,application/json"
        onchosen={({ files }) => bringIn(files)}>Import a file</FileButton
      >
    </div>
    <Problem {acting} />
    {#if listed.data}
      {#each GROUPS as [title, belongs] (title)}
        {@const found = listed.data.filter(belongs)}
        <section aria-label={title}>
          <h2>{title}</h2>
          {#each found as one (one.id)}
            <article data-treatment={one.id}>
              <div class="said">
                <h3><a href={`#/treatments/${one.id}`}>{one.name}</a></h3>
                <p class="soft">{one.description}</p>
                <p class="steps">
                  {one.steps.join('. ')}{one.steps.length ? '.' : ''}
                  {#if one.finish === 'planned'}<span class="soft"
                      >Level, peaks and ends are set for each recording.</span
                    >{/if}
                </p>
              </div>
              <p class="facts">
                {one.ships ? '' : `version ${one.version}`}
                {#if one.runs}<span>{counted(one.runs, 'run')}</span>{/if}
                {#if one.ships}<Button
                    label={`Copy ${one.name}`}
                    onclick={() =>
                      acting.attempt(async () => {
                        const made = await treatments.copy(one.id, `Copy of ${one.name}`);
                        await push(`/treatments/${made.id}`);
                      })}>Copy</Button
                  >{/if}
              </p>
            </article>
          {:else}
            <p class="soft none">
              None yet. Open a recording, build its treatment and choose “Save treatment”; or copy a starting point.
            </p>
          {/each}
        </section>
      {/each}
      <p class="soft schema">
        A treatment is a JSON file; its <a href="/api/treatment.schema.json" download="treatment.schema.json">schema</a>
        describes it.
      </p>
    {:else if listed.isError}
      <Problem query={listed} />
    {/if}
  </div>
</DropArea>

<style>
  .page {
    padding: var(--space-6) var(--space-7) var(--space-8);
    max-width: 1160px;
  }
  .top {
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: var(--space-7);
    margin-bottom: var(--space-6);
  }
  section + section {
    margin-top: var(--space-7);
  }
  article,
  .none {
    background: var(--sheet);
    border: 1px solid var(--rule);
    padding: var(--space-5) var(--space-5) var(--space-5);
    margin-top: -1px;
  }
  h2 {
    margin-bottom: var(--space-3);
  }
  article {
    display: flex;
    gap: var(--space-7);
    justify-content: space-between;
  }
  h3 {
    font-size: var(--type-text);
    font-weight: 600;
  }
  .said {
    max-width: 78ch;
  }
  .steps {
    font-size: var(--type-plain);
    margin-top: var(--space-2);
  }
  .facts {
    display: grid;
    gap: var(--space-2);
    align-content: start;
    justify-items: end;
    font-size: var(--type-plain);
    color: var(--soft);
    white-space: nowrap;
  }
  .schema {
    margin-top: var(--space-5);
    font-size: var(--type-plain);
  }
</style>

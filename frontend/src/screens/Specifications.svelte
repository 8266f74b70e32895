<script lang="ts">
  // Every specification a production can be held against: those that ship and one's own.
  import Across from '../components/Across.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import DropArea from '../components/DropArea.svelte';
  import FileButton from '../components/FileButton.svelte';
  import { Acting } from '../lib/acting.svelte';
  import * as specifications from '../lib/server/specifications';
  import Problem from '../components/Problem.svelte';

  const acting = new Acting();
  const listed = createQuery(() => specifications.all());
  const bringIn = (files: File[]) =>
    acting.attempt(async () => {
      for (const file of files) {
        const found = await specifications.bringIn(file);
        if (files.length === 1) await push(`/specifications/${found.id}`);
      }
    });
</script>

<svelte:head><title>Specifications · Ispettore</title></svelte:head>
<DropArea ondrop={({ files }) => bringIn(files)} invitation="Drop a specification (JSON) here">
  <div class="page">
    <div class="top">
      <div>
        <h1>Specifications</h1>
        <p class="soft">
          Sets of limits that recordings have to meet. Built-in ones can't be edited; copy one to make it your own.
        </p>
      </div>
      <FileButton
        label="Specifications to import"
        strong
        multiple
        accept=".json,application/json"
        onchosen={({ files }) => bringIn(files)}>Import a file</FileButton
      >
    </div>
    <Problem {acting} />
    {#if listed.data}
      <Across label="Specifications, scrolls sideways">
        <table>
          <thead>
            <tr
              ><th scope="col">Name</th><th scope="col">Description</th><th scope="col">Limits</th><th scope="col"
                >Version</th
              ></tr
            >
          </thead>
          <tbody>
            {#each listed.data as one (one.id)}
              <tr>
                <td><a href={`#/specifications/${one.id}`}>{one.name}</a><span class="id">{one.id}</span></td>
                <td>{one.description}</td>
                <td class="figure">{one.limits.length}</td>
                <td class="figure">{one.version}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </Across>
      <p class="soft schema">
        A specification is a JSON file; its <a
          href="/api/specification.schema.json"
          download="specification.schema.json">schema</a
        > describes it.
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
  .id {
    color: var(--soft);
  }
  .id {
    display: block;
    font-family: var(--figures);
    font-size: var(--type-fine);
  }
  table {
    width: 100%;
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  th {
    text-align: left;
    font-size: var(--type-small);
    font-weight: 550;
  }
  th,
  td {
    padding: var(--space-4) var(--space-5);
    border-bottom: 1px solid var(--rule);
    vertical-align: top;
  }
  td:first-child {
    white-space: nowrap;
  }
  .figure {
    font-family: var(--figures);
  }
  .schema {
    margin-top: var(--space-5);
    font-size: var(--type-plain);
  }
</style>
